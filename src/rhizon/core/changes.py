"""What differs between an instance before and after a change, as people ask for it."""

from collections.abc import Mapping

import msgspec

from rhizon.core.finding import Finding
from rhizon.core.model.lock import Lock, LockedRelease
from rhizon.core.version import Version
from rhizon.core.words import command_line

__all__ = ["Changes", "ReleaseChange", "ValueChange", "changes_between", "things_lost"]


class ReleaseChange(msgspec.Struct, frozen=True, kw_only=True):
    """A release that came (``before`` is None), went (``after`` is None) or changed, and whom that concerns."""

    id: str
    title: str
    before: Version | None
    after: Version | None
    server: bool
    players: bool


class ValueChange(msgspec.Struct, frozen=True, kw_only=True):
    """A value by name: part of the target, setting, port or memory; None where there was or is none."""

    name: str
    before: str | int | bool | None
    after: str | int | bool | None


class Changes(msgspec.Struct, frozen=True, kw_only=True):
    """Everything that differs; ``memory`` is the heap in MiB."""

    target: tuple[ValueChange, ...] = ()
    releases: tuple[ReleaseChange, ...] = ()
    settings: tuple[ValueChange, ...] = ()
    ports: tuple[ValueChange, ...] = ()
    memory: ValueChange | None = None

    @property
    def none(self) -> bool:
        """Nothing differs."""
        return not (self.target or self.releases or self.settings or self.ports or self.memory)

    @property
    def touches_world(self) -> bool:
        """Whether the server will load the world with other content or another program."""
        return bool(self.target) or any(one.server for one in self.releases)

    @property
    def for_players(self) -> bool:
        """Whether players have to change something too."""

        theirs = any(one.name not in ("runtime_major", "server_files") for one in self.target)
        return theirs or any(one.players for one in self.releases)


def changes_between(
    before: Lock,
    after: Lock,
    settings: tuple[Mapping[str, str | int | bool], Mapping[str, str | int | bool]],
    ports: tuple[Mapping[str, int], Mapping[str, int]],
    heap_mib: tuple[int, int],
) -> Changes:
    """Each pair is before and after."""
    old = {one.id: one for one in before.releases}
    new = {one.id: one for one in after.releases}
    releases = []
    for name in sorted({*old, *new}):
        left, right = old.get(name), new.get(name)
        if left is not None and right is not None and _as_before(left, right):
            continue
        both = [one for one in (left, right) if one is not None]
        releases.append(
            ReleaseChange(
                id=name,
                title=both[-1].title,
                before=left.version if left else None,
                after=right.version if right else None,
                server=any(one.on_server for one in both),
                players=any(one.for_players for one in both),
            )
        )
    target = _values(
        {name: _plain(getattr(before.target, name)) for name in _TARGET},
        {name: _plain(getattr(after.target, name)) for name in _TARGET},
    )
    if not any(one.name == "game_version" for one in target) and before.server.sha256 != after.server.sha256:
        old_files, new_files = before.server.sha256[:12], after.server.sha256[:12]
        target = (*target, ValueChange(name="server_files", before=old_files, after=new_files))
    memory = ValueChange(name="heap", before=heap_mib[0], after=heap_mib[1])
    return Changes(
        target=target,
        releases=tuple(releases),
        settings=_values(*settings),
        ports=_values(*ports),
        memory=memory if heap_mib[0] != heap_mib[1] else None,
    )


def _as_before(left: LockedRelease, right: LockedRelease) -> bool:
    return left.file.sha256 == right.file.sha256 and left.on_server == right.on_server


_TARGET = ("game_version", "loader", "loader_build", "runtime_major")


def _plain(value: object) -> str | int:
    return value if isinstance(value, int) else str(value)


def _values(before: Mapping[str, str | int | bool], after: Mapping[str, str | int | bool]) -> tuple[ValueChange, ...]:
    return tuple(
        ValueChange(name=name, before=before.get(name), after=after.get(name))
        for name in sorted({*before, *after})
        if before.get(name) != after.get(name)
    )


def things_lost(world: str, folder: str, things: Mapping[str, Mapping[str, int]], after: Lock) -> list[Finding]:
    """What the world in an instance's folder holds of content that will not be there: content id to thing and how many
    of it."""
    there = {one.id for one in after.on_server()}
    findings = []
    for name in sorted(set(things) - there):
        counts = ", ".join(f"{thing} ({count})" for thing, count in sorted(things[name].items()))
        findings.append(
            Finding(
                code="world-loses-things",
                severity="warning",
                subject=world,
                what=f"{name} will be removed, and with it from the world: {counts}",
                remedy=f"Keep {name} in the list, or go back later: "
                + command_line("rhizon", "undo", folder, "--with-world"),
            )
        )
    return findings
