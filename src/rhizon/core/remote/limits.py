"""What a rented server's host gives, as limits of what is provisioned for it."""

from collections.abc import Mapping, Sequence

from rhizon.core.allocate.memory import MemoryBudget
from rhizon.core.errors import StateError
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.remote import RemoteDefinition
from rhizon.core.units import mib_text

__all__ = ["heap_within", "majors_within", "ports_within"]


def majors_within(remote: RemoteDefinition | None, pinned: tuple[int, ...] | None) -> tuple[int, ...] | None:
    """The runtime majors to solve for: those of the host, or the one that a person named. Raises StateError where the
    host does not have that one."""
    given = remote.dictates.runtimes if remote is not None else ()
    if not given:
        return pinned
    if pinned is not None and not set(pinned) <= set(given):
        raise StateError(
            "remote-runtime",
            f"{_name(remote)} has the runtimes {', '.join(map(str, given))}, not {', '.join(map(str, pinned))}",
            hint="Leave --runtime out, or name one of those.",
        )
    return pinned if pinned is not None else given


def heap_within(
    remote: RemoteDefinition | None, game: GameDefinition, budget: MemoryBudget, typed: int | None
) -> int | None:
    """The heap to take, in MiB, where the host limits it: what is asked for, at most what the host gives. None without
    a limit, and nothing asked for. Raises StateError where the host gives too little."""
    most = remote.dictates.memory_mib if remote is not None else None
    if most is None:
        return typed
    room = most - budget.outside_heap_mib
    wanted = typed if typed is not None else budget.heap_mib
    if room < game.memory.least_mib or (typed is not None and typed > room):
        least = typed if typed is not None else game.memory.least_mib
        raise StateError(
            "remote-memory",
            f"{_name(remote)} gives {mib_text(most)}; the server needs {mib_text(least + budget.outside_heap_mib)} "
            f"({least} of heap and {budget.outside_heap_mib} beside it)",
            hint=f"Ask for at most {room} MiB of heap with --memory."
            if room >= game.memory.least_mib
            else "Take a larger plan of that host.",
        )
    return min(wanted, room)


def ports_within(
    remote: RemoteDefinition | None, counts: Mapping[str, int], fixed: Mapping[str, int]
) -> dict[str, int]:
    """A port of the host's for each role, in their order, after those that need several in a row: ``counts`` says how
    many each needs. Those that the host has set for a role are its; what a person fixed stays. Raises StateError where
    the host has too few, or not that one."""
    given: Sequence[int] = remote.dictates.ports if remote is not None else ()
    roles = {role: port for role, port in remote.dictates.roles.items() if role in counts} if remote is not None else {}
    if not given and not roles:
        return dict(fixed)
    for role, port in roles.items():
        if fixed.get(role, port) != port:
            raise StateError(
                "remote-ports",
                f"{_name(remote)} has set the {role} port to {port}, not {fixed[role]}",
                hint=f"Leave out --port {role}=..., or ask the host for that number.",
            )
    fixed = {**fixed, **roles}
    given = sorted({*given, *(port + more for role, port in roles.items() for more in range(counts[role]))})
    free = given
    made: dict[str, int] = {}
    for role, count in sorted(counts.items(), key=lambda one: (one[0] not in fixed, -one[1])):
        row = [fixed[role]] if role in fixed else free
        begin = next((one for one in row if all(one + more in free for more in range(count))), None)
        if begin is None:
            what = f"{count} ports in a row" if count > 1 else "a port"
            raise StateError(
                "remote-ports",
                f"{_name(remote)} has no {what} for {role} (it gives {', '.join(map(str, sorted(set(given))))})",
                hint="Leave out content that needs a port of its own, or ask the host for more.",
            )
        made[role] = begin
        free = [one for one in free if not begin <= one < begin + count]
    return made


def _name(remote: RemoteDefinition | None) -> str:
    return remote.name if remote is not None else ""
