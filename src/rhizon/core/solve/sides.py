"""Which releases go on the server, which to the players, and who asked for each."""

from collections.abc import Collection, Iterable, Mapping

from rhizon.core.model.catalog import Release, Requirement
from rhizon.core.model.metadata import Placement
from rhizon.core.solve.project import gives

__all__ = ["asked_by", "met_by", "reachable"]

_SERVER: frozenset[Placement] = frozenset(("shared", "server", "any"))
_PLAYER: frozenset[Placement] = frozenset(("shared", "player", "any"))


def met_by(chosen: Mapping[str, Release], wishes: Collection[str], name: str, need: Requirement) -> list[str]:
    """The chosen releases that meet a need of ``name``: the items that it names, in their order; where none of them is
    there in its range, those that stand in for one, by id. Nothing where the release meets it itself."""
    named = [one.id for one in need.alternatives if one.id in chosen and one.range.admits(chosen[one.id].version)]
    if named:
        return list(dict.fromkeys(named))
    wanted = need.alternatives
    if any(gives(chosen[name], one.id, one.range, embedded=True) for one in wanted):
        return []
    return [
        other
        for other in sorted(chosen)
        if other != name and any(gives(chosen[other], one.id, one.range, embedded=other in wishes) for one in wanted)
    ]


def reachable(chosen: Mapping[str, Release], wishes: Collection[str], *, server: bool) -> set[str]:
    """The ids that one side needs: wished items of that side and what they require, or what stands in for it.

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
            waiting.extend(one for one in met_by(chosen, wishes, name, need) if chosen[one].placement in side)
    return found


def asked_by(chosen: Mapping[str, Release], wishes: Iterable[str]) -> dict[str, list[str]]:
    """For each id who asked for it: ``list`` first, then ids in their order."""
    asked: dict[str, list[str]] = {name: [] for name in chosen}
    wished = list(wishes)
    for name in wished:
        if name in asked:
            asked[name].append("list")
    for name in sorted(chosen):
        for need in chosen[name].requires:
            for one in met_by(chosen, wished, name, need):
                if name not in asked[one]:
                    asked[one].append(name)
    return asked
