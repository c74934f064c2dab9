"""The ports and the memory that an instance holds on its host."""

from rhizon.adapters.host import memory_mib, socket_in_use
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.ledger import Entry, Ledger
from rhizon.adapters.processes import holder_of
from rhizon.app.ports import port_places, protocols_of
from rhizon.app.provision.choose import Choice
from rhizon.app.provision.wishes import ProvisionWishes
from rhizon.core.allocate.memory import HostMemory, grant
from rhizon.core.allocate.ports import PortWish, allocate
from rhizon.core.errors import InputError
from rhizon.core.model.instance import Instance
from rhizon.core.names import near

__all__ = ["allocated", "protocols", "record"]


def protocols(choice: Choice, instance: Instance) -> dict[str, tuple[str, ...]]:
    known = protocols_of(choice.game, choice.lock)
    return {role: known.get(role, ("tcp", "udp")) for role in instance.ports}


def allocated(
    choice: Choice, wishes: ProvisionWishes, home: InstanceFolder, before: Instance | None, ledger: Ledger
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
    held = {number: f"the instance {one.name} ({one.folder})" for one in others for number in one.ports.values()}

    def holder(number: int, protocol: str) -> str | None:
        if number in held:
            return held[number]
        return holder_of(number) if socket_in_use(number, protocol) else None

    kept = before.ports if before else {}
    ports = allocate(
        tuple(
            PortWish(role=role, protocols=port.protocols, default=kept.get(role, port.default))
            for role, port in places.items()
        ),
        fixed,
        holder,
    )
    memory = HostMemory(total_mib=memory_mib(), granted_mib=sum(one.memory_mib for one in others))
    asked = wishes.memory_mib if wishes.memory_mib is not None else source.memory_mib
    heap = grant(game, choice.budget, memory, asked)
    return Instance(
        format="rhizon-instance/1",
        name=source.name,
        game=game.id,
        note=wishes.note if wishes.note is not None else (before.note if before else ""),
        source=str(source.path.resolve()),
        catalogs=wishes.remember_catalogs or choice.catalogs.addresses,
        runtime=choice.runtime,
        heap_mib=heap,
        ports=ports,
        settings=(before.settings if before else {}) | choice.settings,
        operators=tuple(dict.fromkeys((*(before.operators if before else ()), *choice.operators))),
        licence=before.licence if before else None,
        first_start_done=before.first_start_done if before else False,
    )


def record(ledger: Ledger, choice: Choice, home: InstanceFolder, instance: Instance) -> None:
    entry = Entry(
        folder=str(home.folder),
        name=instance.name,
        game=instance.game,
        note=instance.note,
        memory_mib=instance.heap_mib + choice.game.memory.outside_heap_mib,
        ports=instance.ports,
    )
    ledger.record(entry, protocols(choice, instance))
