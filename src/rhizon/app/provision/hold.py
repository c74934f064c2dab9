"""The ports and the memory that an instance holds on its host."""

from collections.abc import Iterable, Mapping, Sequence

from rhizon.adapters.host import socket_in_use
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.ledger import Entry, Ledger
from rhizon.adapters.processes import holder_of
from rhizon.app.context import Host
from rhizon.app.ports import every_number, port_places, port_wishes, protocols_of
from rhizon.app.provision.choose import Choice
from rhizon.app.provision.wishes import ProvisionWishes
from rhizon.core.allocate.memory import grant
from rhizon.core.allocate.ports import allocate
from rhizon.core.errors import InputError
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance
from rhizon.core.model.lock import Lock
from rhizon.core.names import near

__all__ = ["allocated", "ports_for", "protocols", "record"]


def protocols(game: GameDefinition, lock: Lock, names: Iterable[str]) -> dict[str, tuple[str, ...]]:
    """The protocols of each number, by its name (see :func:`every_number`)."""
    known = protocols_of(game, lock)
    return {name: known.get(name.partition("+")[0], ("tcp", "udp")) for name in names}


def allocated(
    host: Host, choice: Choice, wishes: ProvisionWishes, home: InstanceFolder, before: Instance | None, ledger: Ledger
) -> Instance:
    source, game = choice.source, choice.game
    others = [one for one in ledger.entries() if one.folder != str(home.folder)]
    places = port_places(choice.game, choice.lock)
    fixed = dict(source.ports) | dict(wishes.ports)
    for role in fixed:
        if role not in places:
            guess = near(role, places, 1)
            raise InputError(
                "unknown-port",
                f"there is no port with the role {role}",
                hint=f"Did you mean {guess[0]}?" if guess else f"The roles are: {', '.join(places)}",
            )
    ports = ports_for(host, game, choice.lock, before.ports if before else {}, others, fixed)
    memory = host.memory(sum(one.memory_mib for one in others))
    typed = wishes.memory_mib if wishes.memory_mib is not None else (before.memory_mib if before else None)
    heap = grant(game, choice.budget, memory, typed if typed is not None else source.memory_mib)
    settings, chosen = _settings(choice, wishes, before)
    return Instance(
        format="rhizon-instance/1",
        name=source.name,
        game=game.id,
        note=wishes.note if wishes.note is not None else (before.note if before else ""),
        source=str(source.path.resolve()),
        catalogs=wishes.remember_catalogs or choice.catalogs.addresses,
        runtime=choice.runtime,
        heap_mib=heap,
        memory_mib=typed,
        ports=ports,
        settings=settings,
        chosen=chosen,
        operators=tuple(dict.fromkeys((*(before.operators if before else ()), *choice.operators))),
        licence=before.licence if before else None,
        first_start_done=before.first_start_done if before else False,
    )


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


def _settings(
    choice: Choice, wishes: ProvisionWishes, before: Instance | None
) -> tuple[dict[str, str | int | bool], tuple[str, ...]]:
    """All settings, and the names of those that a person chose beside the source.

    What a person chose stays, and so does the world in use unless another is typed; what only an earlier source asked
    for goes back to the game's default.
    """
    if before is None:
        return choice.settings, tuple(sorted(wishes.settings))
    game = choice.game
    settings = {name: game.settings[name].default for name in before.settings if name in game.settings}
    settings |= choice.settings
    chosen = tuple(sorted({*before.chosen, *wishes.settings} & game.settings.keys()))
    kept = set(before.chosen) - wishes.settings.keys()
    settings |= {name: value for name, value in before.settings.items() if name in kept and name in game.settings}
    world = game.world.name_setting
    if before.first_start_done and world in settings and world not in wishes.settings:
        settings[world] = before.settings.get(world, game.settings[world].default)
    return settings, chosen


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
