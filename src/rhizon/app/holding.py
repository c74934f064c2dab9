"""What an instance holds on its host: ports that nobody else gets, and memory."""

from collections.abc import Iterable, Mapping, Sequence

from rhizon.adapters.host import socket_in_use
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.ledger import Entry, Ledger
from rhizon.adapters.processes import holder_of
from rhizon.app.context import Host
from rhizon.app.ports import every_number, port_wishes, protocols_of
from rhizon.core.allocate.ports import allocate
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance
from rhizon.core.model.lock import Lock

__all__ = ["ports_for", "protocols", "record"]


def protocols(game: GameDefinition, lock: Lock, names: Iterable[str]) -> dict[str, tuple[str, ...]]:
    """The protocols of each number, by its name (see :func:`every_number`)."""
    known = protocols_of(game, lock)
    return {name: known.get(name.partition("+")[0], ("tcp", "udp")) for name in names}


def ports_for(
    host: Host,
    game: GameDefinition,
    lock: Lock,
    kept: Mapping[str, int],
    others: Sequence[Entry],
    fixed: Mapping[str, int] | None = None,
) -> dict[str, int]:
    """A port for each role that no other instance holds and no program uses, the ``kept`` one where that is free.
    Raises :class:`~rhizon.core.errors.StateError` where a ``fixed`` one is not."""
    held = {number: f"the instance {one.name} ({one.folder})" for one in others for number in one.ports.values()}

    def holder(number: int, protocol: str) -> str | None:
        if number in held:
            return held[number]
        return holder_of(number) if socket_in_use(number, protocol) else None

    return allocate(port_wishes(game, lock, kept), fixed or {}, holder, host.port_room())


def record(ledger: Ledger, game: GameDefinition, lock: Lock, home: InstanceFolder, instance: Instance) -> None:
    """Writes down what an instance holds; only inside a claim."""
    entry = Entry(
        folder=str(home.folder),
        name=instance.name,
        game=instance.game,
        note=instance.note,
        memory_mib=instance.heap_mib + game.memory.outside_heap_mib,
        ports=every_number(game, instance.ports),
    )
    ledger.record(entry, protocols(game, lock, entry.ports))
