"""What one release of a solution hangs on, and what hangs on it."""

from collections.abc import Mapping

import msgspec

from rhizon.core.errors import NoSolutionError
from rhizon.core.model.catalog import Release
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.lock import Lock
from rhizon.core.solve.problem import Request, Shelf
from rhizon.core.solve.sides import met_by
from rhizon.core.solve.solver import solve
from rhizon.core.solve.universe import Universe
from rhizon.core.version import Version, parse_range

__all__ = ["Change", "Explained", "Newer", "WantedBy", "explain"]


class WantedBy(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """Who wants the item, and in which range; ``by`` is "list" or an id with its version. Where the item stands in for
    another one, ``provides`` is the id that is wanted."""

    by: str
    range: str
    provides: str = ""


class Newer(msgspec.Struct, frozen=True, kw_only=True):
    """A newer release and why it was not taken."""

    version: str
    reason: str


class Change(msgspec.Struct, frozen=True, kw_only=True):
    """An item that would be another release, or none (None), if the explained one were gone."""

    id: str
    before: str
    after: str | None


class Explained(msgspec.Struct, frozen=True, kw_only=True):
    """``path`` leads from the list to the item; ``without`` is what would change, or why it cannot go."""

    path: tuple[str, ...]
    wanted_by: tuple[WantedBy, ...]
    needs: tuple[str, ...]
    newer: tuple[Newer, ...]
    without: tuple[Change, ...]
    cannot_go: str


def explain(request: Request, game: GameDefinition, shelf: Shelf, lock: Lock, name: str) -> Explained:
    """The place of an item in a lock that :func:`~rhizon.core.solve.solve` made of the request."""
    universe = Universe(request, game, shelf)
    chosen = {one.id: one.version for one in lock.releases}
    releases: dict[str, Release] = {}
    for other, version in chosen.items():
        item = universe.item(other)
        found = [one for one in (item.releases if item else ()) if one.version == version]
        releases |= {other: found[0]} if found else {}
    wanted: list[WantedBy] = []
    needs: list[str] = []
    wish = request.wishes.get(name)
    if wish is not None:
        wanted.append(WantedBy(by="list", range=wish.range.text))
    for other, version in chosen.items():
        for need in releases[other].requires if other in releases else ():
            met = met_by(releases, list(request.wishes), other, need)
            named = {one.id for one in need.alternatives}
            for one in need.alternatives:
                if one.id == name:
                    wanted.append(WantedBy(by=f"{other} {version}", range=one.range.text))
                elif other == name and one.id in chosen:
                    needs.append(f"{one.id} {one.range}: {chosen[one.id]} is used")
            first = need.alternatives[0]
            if name in met and name not in named:
                wanted.append(WantedBy(by=f"{other} {version}", range=first.range.text, provides=first.id))
            elif other == name:
                given = [one for one in met if one not in named]
                needs += [f"{first.id} {first.range}: {one} {chosen[one]} provides it" for one in given]
    newer = tuple(
        Newer(
            version=release.version.text,
            reason=reason or _barred(wanted, release.version) or "does not fit together with the others",
        )
        for release, reason in universe.releases(name, lock.target)
        if release.version > chosen[name]
    )
    without, cannot_go = _without(request, game, shelf, chosen, name)
    return Explained(
        path=_path(lock, name),
        wanted_by=tuple(wanted),
        needs=tuple(needs),
        newer=newer,
        without=without,
        cannot_go=cannot_go,
    )


def _barred(wanted: list[WantedBy], version: Version) -> str:
    own = (one for one in wanted if not one.provides)
    held = next((one for one in own if not parse_range(one.range).admits(version)), None)
    return f"is outside {held.range}, which {held.by} needs" if held is not None else ""


def _path(lock: Lock, name: str) -> tuple[str, ...]:
    """The shortest way from the list to the item: who asked for whom."""
    because = {one.id: one.because for one in lock.releases}
    ways: list[tuple[str, ...]] = [(name,)]
    seen = {name}
    for way in ways:  # grows while it is walked
        for by in because.get(way[0], ()):
            if by == "list":
                return ("list", *way)
            if by not in seen:
                seen.add(by)
                ways.append((by, *way))
    return (name,)


def _without(
    request: Request, game: GameDefinition, shelf: Shelf, chosen: Mapping[str, Version], name: str
) -> tuple[tuple[Change, ...], str]:
    """What would change if the item were removed: solved again without it."""
    rest = {other: wish for other, wish in request.wishes.items() if other != name}
    changed = msgspec.structs.replace(request, wishes=rest, exclude=request.exclude | {name})
    try:
        after = {one.id: one.version.text for one in solve(changed, game, shelf).lock.releases}
    except NoSolutionError as refused:
        return (), refused.message
    changes = [
        Change(id=other, before=str(version), after=after.get(other))
        for other, version in sorted(chosen.items())
        if other != name and after.get(other) != str(version)
    ]
    return tuple(changes), ""
