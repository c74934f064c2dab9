"""Backups that were made: listed, found by what a person says, and read back."""

from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

import msgspec

from rhizon.adapters.backups import Repository
from rhizon.app.host import Host
from rhizon.app.instance.backup_places import backup_id, backup_places
from rhizon.app.keep.backup_keys import Opening
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError
from rhizon.core.finding import Finding
from rhizon.core.model.backup import Backup, Consistency
from rhizon.core.words import command_line

__all__ = [
    "BY_HAND",
    "BackupLine",
    "Backups",
    "Sought",
    "VerifyResult",
    "find_backup",
    "list_backups",
    "verify_backup",
]

BY_HAND = "by hand"  # the reason of a backup that a person asked for


class BackupLine(msgspec.Struct, frozen=True, kw_only=True):
    """One backup in a list; ``size`` in bytes is what a restore would write. Of an ``encrypted`` one only what its head
    says is known; ``secrets`` are the secret settings whose values are in it."""

    id: str
    when: str
    why: str
    name: str
    folder: str
    consistency: Consistency
    files: int
    size: int
    backups: str
    automatic: bool
    encrypted: bool = False
    secrets: tuple[str, ...] = ()


class Backups(msgspec.Struct, frozen=True, kw_only=True):
    """All backups, oldest first, and the bytes that each repository takes on disk."""

    backups: tuple[BackupLine, ...]
    on_disk: dict[str, int]
    findings: tuple[Finding, ...]


class VerifyResult(msgspec.Struct, frozen=True, kw_only=True):
    """What reading a whole backup back has shown."""

    id: str
    when: str
    backups: str
    chunks: int
    damaged: tuple[str, ...]


def list_backups(host: Host, folder: Path | None, place: Path | None = None) -> Backups:
    """Those of one instance, or all of this host's; ``place`` is another repository to look into."""
    home = host.home(folder).required() if folder is not None else None
    wanted = backup_id(home).id if home is not None else None
    lines = []
    findings = []
    repositories = backup_places(host, home) if place is None else [Repository(place.absolute())]
    for repository in repositories:
        for ident in repository.ids():
            for when in repository.times(ident) if wanted in (None, ident) else ():
                try:
                    lines.append(_line(repository, ident, when))
                except InputError as broken:
                    findings.append(
                        Finding(
                            code="backup-broken",
                            severity="error",
                            subject=f"{ident} {when}",
                            what=broken.message,
                            remedy="It cannot be restored. Make a new backup.",
                        )
                    )
    lines.sort(key=lambda one: (one.id, one.when))
    return Backups(
        backups=tuple(lines),
        on_disk={str(one.root): one.bytes_on_disk() for one in repositories},
        findings=tuple(findings),
    )


def _line(repository: Repository, ident: str, when: str) -> BackupLine:
    """A backup in a list. Raises InputError where its manifest cannot be read."""
    head = repository.head(ident, when)
    if head is not None:
        return BackupLine(
            id=head.id,
            when=head.when,
            why="made by a change" if head.automatic else BY_HAND,
            name=head.id,
            folder="",
            consistency=head.consistency,
            files=head.files,
            size=head.size,
            backups=str(repository.root),
            automatic=head.automatic,
            encrypted=True,
        )
    backup = repository.read(ident, when)
    return BackupLine(
        id=backup.id,
        when=backup.when,
        why=backup.why,
        name=backup.name,
        folder=backup.folder,
        consistency=backup.consistency,
        files=sum(map(len, backup.parts)),
        size=backup.size,
        backups=str(repository.root),
        automatic=not backup.by_hand,
        secrets=backup.secrets,
    )


class Sought(NamedTuple):
    """Which backup a person means: the beginning of its time (None: the newest that a person made), another instance
    that it is of, another repository, and what opens it if it is encrypted."""

    when: str | None = None
    of: str | None = None
    backups: Path | None = None
    opening: Opening = Opening()


def find_backup(host: Host, folder: Path, sought: Sought) -> tuple[Repository, Backup]:
    """The backup that a person means: one whose time begins with ``when``, or the newest that a person made (one that a
    change made for itself is not what anybody has in mind). ``of`` is the id, name or folder of the instance, where
    that is not the one in ``folder``. Raises InputError."""
    home = host.home(folder)
    of, place = sought.of, sought.backups
    when = sought.when.replace(":", "-") if sought.when is not None else None  # as clocks write it
    if of is None and not home.is_ours:
        raise InputError(
            "which-backup",
            f"there is no server in {folder}; it is not clear whose backup to use",
            hint="Say it with --of; see all backups: rhizon backup --list",
        )
    ident = backup_id(home).id if of is None else None
    repositories = (
        [Repository(place.absolute())] if place is not None else backup_places(host, home if of is None else None)
    )
    found = []
    for repository in repositories:
        for one in [ident] if ident is not None else repository.ids():
            for at in repository.times(one):
                if when is None or at.startswith(when):
                    found.append((at, one, repository))
    if of is not None:
        idents = _idents_of(of, found, sought.opening)
        found = [one for one in found if one[1] in idents]
    if not found:
        wanted = f"from {when} " if when is not None else ""
        raise InputError(
            "no-such-backup",
            f"there is no backup {wanted}of {of or folder}",
            hint="Another folder of backups is named with --backups; see all of this machine: rhizon backup --list",
        )
    times = sorted(found, key=lambda one: one[:2])
    if when is not None and len({one[0] for one in times}) > 1:
        shown = ", ".join(one[0] for one in times[:5])
        raise InputError(
            "which-backup", f"several backups begin with {when}: {shown}", hint="Give a longer beginning of the time."
        )
    for at, one, repository in reversed(times):
        head = repository.head(one, at)
        if when is None and head is not None and head.automatic:
            continue
        if head is not None and repository.key is None:
            repository.key = sought.opening.key(repository.root)
        backup = repository.read(one, at)
        if when is not None or backup.by_hand:
            return repository, backup
    raise InputError(
        "no-such-backup",
        f"there is no backup of {of or folder} made by hand, only {len(times)} made by changes",
        details=[at for at, _, _ in times[-5:]],
        hint=f"Use one of those by its time: {command_line('rhizon', 'restore', folder, '--at', times[-1][0])}",
    )


def _idents_of(of: str, found: Sequence[tuple[str, str, Repository]], opening: Opening) -> set[str]:
    """The instances that ``of`` may mean: its id, or the name or folder that its newest readable backup tells. Raises
    what kept an encrypted one from being looked into, when no other is meant."""
    if any(ident == of for _, ident, _ in found):
        return {of}
    idents, seen, refused = set(), set(), []
    for at, ident, repository in sorted(found, key=lambda one: one[:2], reverse=True):
        if ident in seen:
            continue
        try:
            if repository.key is None and repository.head(ident, at) is not None:
                repository.key = opening.key(repository.root)
            backup = repository.read(ident, at)
        except InputError as why:  # damaged, or not to be opened
            refused.append(why)
            continue
        seen.add(ident)
        if of in (backup.name, backup.folder) or str(Path(of).absolute()) == backup.folder:
            idents.add(ident)
    closed = [one for one in refused if one.code in ("backup-encrypted", "wrong-key", "bad-key")]
    if not idents and closed:
        raise InputError(
            closed[0].code,
            f"no backup that can be read is of {of}, and {len(closed)} are encrypted: {closed[0].message}",
            hint=closed[0].hint,
        )
    return idents


def verify_backup(host: Host, folder: Path, sought: Sought, reporter: Reporter) -> VerifyResult:
    """Reads every piece of one backup back."""
    repository, backup = find_backup(host, folder, sought)
    chunks = {one for part in (backup.world, backup.settings) for file in part.values() for one in file.chunks}
    reporter.step(f"reading {backup.when} back")
    damaged = repository.verify(chunks, lambda so_far, total: reporter.progress("reading", so_far / max(total, 1)))
    return VerifyResult(
        id=backup.id, when=backup.when, backups=str(repository.root), chunks=len(chunks), damaged=tuple(damaged)
    )
