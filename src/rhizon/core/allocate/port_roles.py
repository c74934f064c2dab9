"""The roles of an instance's ports and what is behind each."""

from collections.abc import Mapping

from rhizon.core.allocate.ports import PortWish
from rhizon.core.model.catalog import ExtraPort
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.lock import Lock
from rhizon.core.model.setting import PortDefinition

__all__ = ["every_number", "numbers_text", "port_places", "port_wishes", "port_words", "protocols_of", "spans"]


def port_places(game: GameDefinition, lock: Lock | None) -> dict[str, PortDefinition | ExtraPort]:
    """Every role: the game's, then those of content; a role that is taken gets its item's id before it. Without a lock
    only the game's, which content never changes."""
    places: dict[str, PortDefinition | ExtraPort] = {port.role: port for port in game.ports}
    for release in lock.on_server() if lock is not None else ():
        for port in release.ports:
            places[port.role if port.role not in places else f"{release.id}-{port.role}"] = port
    return places


def port_wishes(game: GameDefinition, lock: Lock, kept: Mapping[str, int]) -> tuple[PortWish, ...]:
    """What is wanted for each role, the ``kept`` number first."""
    wishes = []
    for role, port in port_places(game, lock).items():
        block = port if isinstance(port, PortDefinition) else None
        wishes.append(
            PortWish(
                role=role,
                protocols=port.protocols,
                default=kept.get(role, port.default),
                count=block.count if block else 1,
                offset_of=block.offset_of if block else None,
                offset=block.offset if block else 0,
            )
        )
    return tuple(wishes)


def every_number(game: GameDefinition, ports: Mapping[str, int]) -> dict[str, int]:
    """All numbers of an instance by a name: the role, and for a block ``role+1``, ``role+2`` ... too."""
    counts = {port.role: port.count for port in game.ports}
    return {
        role if more == 0 else f"{role}+{more}": number + more
        for role, number in ports.items()
        for more in range(counts.get(role, 1))
    }


def port_words(game: GameDefinition, ports: Mapping[str, int]) -> tuple[str, ...]:
    """Each role with its number, or the first and last of its block, as people write them."""
    return tuple(spans(every_number(game, ports)))


def spans(ports: Mapping[str, int]) -> list[str]:
    """Each role with its number, as people write them; a block (role, role+1, ...) with its first and last."""
    last: dict[str, int] = {}
    for name, number in sorted(ports.items(), key=lambda one: one[1]):
        last[name.partition("+")[0]] = number
    return [f"{role} {ports[role]}" + (f"-{end}" if end > ports[role] else "") for role, end in last.items()]


def numbers_text(ports: Mapping[str, int]) -> str:
    """The numbers alone, in order; neighbours as a range: ``28440-28441, 28443``."""
    ranges: list[list[int]] = []
    for number in sorted(set(ports.values())):
        if ranges and number == ranges[-1][1] + 1:
            ranges[-1][1] = number
        else:
            ranges.append([number, number])
    return ", ".join(str(first) if first == last else f"{first}-{last}" for first, last in ranges)


def protocols_of(game: GameDefinition, lock: Lock) -> dict[str, tuple[str, ...]]:
    """The protocols of each role."""
    return {role: port.protocols for role, port in port_places(game, lock).items()}
