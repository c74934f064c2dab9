"""The answer: a lock, with findings and the reasons for what was not taken."""

import msgspec

from rhizon.core.finding import Finding
from rhizon.core.model.catalog import Artefact, HostFiles, LoaderBuild, Release
from rhizon.core.model.lock import Dropped, HeldBack, Lock, LockedFile, LockedLoader, LockedRelease, Target
from rhizon.core.solve.sides import asked_by, reachable
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
    build: LoaderBuild,
    host: tuple[str, HostFiles],
    chosen: dict[str, Release],
    dropped: tuple[Dropped, ...],
) -> Lock:
    """The lock of a search's result; releases are in id order, so that a lock is easy to compare."""
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
                kind=item.kind,
                title=item.title,
                placement=release.placement,
                on_server=name in server,
                for_players=name in players,
                because=tuple(asked[name]),
                held_back_by=_held_back(universe, target, name, chosen[name], needed.get(name, [])),
                runtime=release.runtime,
                ports=release.ports,
                memory_mib=release.memory_mib,
                file=_locked(universe.catalog_of(name), release.artefact),
            )
        )
    catalog, files = host
    server_files = next(one for one in files.server if one.version == target.game_version)
    return Lock(
        format="rhizon-lock/1",
        name=universe.request.name,
        target=target,
        server=_locked(catalog, server_files.artefact),
        server_tree=server_files.tree,
        loader=LockedLoader(install=build.install, file=_locked(catalog, build.artefact)),
        releases=tuple(releases),
        dropped=dropped,
    )


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
    universe: Universe, target: Target, name: str, own: Release, needed: list[tuple[str, VersionRange]]
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
                "does not fit beside the other releases",
            )
        return HeldBack(newest=newest.version, reason=f"{newest.version} {reason}")
    return None
