"""Which releases go on the server, which to the players, and who asked for each."""

from collections.abc import Iterable, Mapping

from rhizon.core.model.catalog import Release
from rhizon.core.model.metadata import Placement

__all__ = ["asked_by", "reachable"]

_SERVER: frozenset[Placement] = frozenset(("shared", "server", "any"))
_PLAYER: frozenset[Placement] = frozenset(("shared", "player", "any"))


def reachable(chosen: Mapping[str, Release], wishes: Iterable[str], *, server: bool) -> set[str]:
    """The ids that one side needs: wished items of that side and what they require.

    A player-only item never reaches the server, and a library that only player items need does not either.
    """
    side = _SERVER if server else _PLAYER
    found: set[str] = set()
    waiting = [name for name in wishes if name in chosen and chosen[name].placement in side]
    while waiting:
        name = waiting.pop()
        if name in found:
            continue
        found.add(name)
        for need in chosen[name].requires:
            met = (one.id for one in need.alternatives if one.id in chosen)
            waiting.extend(other for other in met if chosen[other].placement in side)
    return found


def asked_by(chosen: Mapping[str, Release], wishes: Iterable[str]) -> dict[str, list[str]]:
    """For each id who asked for it: ``list`` first, then ids in their order."""
    asked: dict[str, list[str]] = {name: [] for name in chosen}
    for name in wishes:
        if name in asked:
            asked[name].append("list")
    for name in sorted(chosen):
        for need in chosen[name].requires:
            for one in need.alternatives:
                if one.id in chosen and one.range.admits(chosen[one.id].version):
                    asked[one.id].append(name)
    return asked
