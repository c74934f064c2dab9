"""The answer: a lock, with findings and the reasons for what was not taken."""

from collections.abc import Collection, Iterator, Mapping

import msgspec

from rhizon.core.finding import Finding
from rhizon.core.model.catalog import Artefact, HostFiles, LoaderBuild, Release
from rhizon.core.model.lock import Dropped, HeldBack, Lock, LockedFile, LockedLoader, LockedRelease, Target
from rhizon.core.solve.sides import asked_by, met_by, reachable
from rhizon.core.solve.universe import Universe
from rhizon.core.version import VersionRange

__all__ = ["Solution", "make_lock"]


class Solution(msgspec.Struct, frozen=True, kw_only=True):
    """A lock and what to know about it."""

    lock: Lock
    findings: tuple[Finding, ...]


def make_lock(
    universe: Universe,
    target: Target,
    build: LoaderBuild | None,
    host: tuple[str, HostFiles],
    chosen: dict[str, Release],
    dropped: tuple[Dropped, ...],
    beside: Mapping[str, str],
) -> Lock:
    """The lock of a search's result; releases are in id order, so that a lock is easy to compare. ``beside`` says what
    newer releases do not fit beside."""
    wishes = list(universe.request.wishes)
    server = reachable(chosen, wishes, server=True)
    players = reachable(chosen, wishes, server=False)
    asked = asked_by(chosen, wishes)
    needed = _needed_ranges(chosen)
    releases = []
    for name in sorted(chosen):
        release = chosen[name]
        item = universe.item(name)
        assert item is not None, name
        releases.append(
            LockedRelease(
                id=name,
                version=release.version,
                after=_after(release, server) if universe.game.ordered and name in server else (),
                kind=item.kind,
                title=item.title,
                placement=release.placement,
                on_server=name in server,
                for_players=name in players,
                because=tuple(asked[name]),
                held_back_by=_held_back(
                    universe, target, name, chosen[name], needed.get(name, []), beside.get(name, "")
                ),
                runtime=release.runtime,
                ports=release.ports,
                settings=release.settings,
                memory_mib=release.memory_mib,
                summary=item.summary,
                hand_on=release.hand_on,
                page=release.page,
                file=_locked(universe.catalog_of(name), release.artefact),
            )
        )
    catalog, files = host
    branch = universe.request.target.branch
    server_files = next(one for one in files.server if (one.version, one.branch) == (target.game_version, branch))
    loader = LockedLoader(install=build.install, file=_locked(catalog, build.artefact)) if build is not None else None
    return Lock(
        format="rhizon-lock/1",
        name=universe.request.name,
        target=target,
        server=_locked(catalog, server_files.artefact),
        server_tree=server_files.tree,
        branch=branch,
        loader=loader,
        releases=tuple(releases),
        order=_load_order(chosen, wishes, server) if universe.game.ordered else (),
        dropped=dropped,
    )


def _after(release: Release, server: Collection[str]) -> tuple[str, ...]:
    """What is loaded before a release without being needed by it."""
    return tuple(sorted({one.id for one in release.optional if one.id in server}))


def _load_order(chosen: dict[str, Release], wishes: list[str], server: Collection[str]) -> tuple[str, ...]:
    """What a release needs comes before it; beyond that the order of the list counts (topological order by depth-first
    search, as in Cormen, Leiserson, Rivest, Stein: Introduction to Algorithms, 22.4; a circle is cut where it closes).
    """

    def before(name: str) -> Iterator[str]:
        release = chosen[name]
        named = (one for need in release.requires for one in met_by(chosen, wishes, name, need))
        return (one for one in (*named, *(other.id for other in release.optional)) if one in server)

    order: dict[str, None] = {}
    entered: set[str] = set()
    for root in (*wishes, *sorted(server)):
        if root not in server or root in entered:
            continue
        entered.add(root)
        open_ones = [(root, before(root))]
        while open_ones:
            name, needs = open_ones[-1]
            following = next((one for one in needs if one not in entered), None)
            if following is None:
                order[name] = None
                open_ones.pop()
            else:
                entered.add(following)
                open_ones.append((following, before(following)))
    return tuple(order)


def _locked(catalog: str, artefact: Artefact) -> LockedFile:
    return LockedFile(catalog=catalog, path=artefact.path, sha256=artefact.sha256, size=artefact.size)


def _needed_ranges(chosen: dict[str, Release]) -> dict[str, list[tuple[str, VersionRange]]]:
    """For each id the ranges in which it is needed, each with who needs it so, by name."""
    ranges: dict[str, list[tuple[str, VersionRange]]] = {}
    for other in sorted(chosen):
        for need in chosen[other].requires:
            if need.id is not None:
                ranges.setdefault(need.id, []).append((f"{other} {chosen[other].version}", need.range))
    return ranges


def _held_back(
    universe: Universe,
    target: Target,
    name: str,
    own: Release,
    needed: list[tuple[str, VersionRange]],
    beside: str,
) -> HeldBack | None:
    """Why the newest release that was not withdrawn is not the one that was taken."""
    for newest, reason in universe.releases(name, target):
        if newest.version <= own.version:
            return None
        if newest.yanked:
            continue
        if not reason:
            reason = next(
                (
                    f"is outside {wanted}, which {who} needs"
                    for who, wanted in needed
                    if not wanted.admits(newest.version)
                ),
                beside or "does not fit together with the other releases",
            )
        return HeldBack(newest=newest.version, reason=f"{newest.version} {reason}")
    return None
