"""The answer: a lock, with findings and the reasons for what was not taken."""

import msgspec

from rhizon.core.finding import Finding
from rhizon.core.model.catalog import Artefact, HostFiles, LoaderBuild, Release
from rhizon.core.model.lock import Dropped, HeldBack, Lock, LockedFile, LockedLoader, LockedRelease, Target
from rhizon.core.solve.sides import asked_by, reachable
from rhizon.core.solve.universe import Universe

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
                held_back_by=_held_back(universe, target, name, chosen),
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
        loader=LockedLoader(install=build.install, file=_locked(catalog, build.artefact)),
        releases=tuple(releases),
        dropped=dropped,
    )


def _locked(catalog: str, artefact: Artefact) -> LockedFile:
    return LockedFile(catalog=catalog, path=artefact.path, sha256=artefact.sha256, size=artefact.size)


def _held_back(universe: Universe, target: Target, name: str, chosen: dict[str, Release]) -> HeldBack | None:
    own = chosen[name]
    for newest, reason in universe.releases(name, target):
        if newest.version <= own.version:
            return None
        if newest.yanked:
            continue
        if not reason:
            reason = _range_against(newest, name, chosen)
        return HeldBack(newest=newest.version, reason=f"{newest.version} {reason}")
    return None


def _range_against(newest: Release, name: str, chosen: dict[str, Release]) -> str:
    for other in sorted(chosen):
        for need in chosen[other].requires:
            if need.id == name and not need.range.admits(newest.version):
                return f"is outside {need.range}, which {other} {chosen[other].version} needs"
    return "does not fit beside the other releases"
