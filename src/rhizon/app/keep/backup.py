"""Backups of an instance: its worlds, its settings, and all that makes it what it is."""

import contextlib
import datetime
import hashlib
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

import msgspec

from rhizon.adapters.backups import STAMP, Repository, tree_files
from rhizon.adapters.console import ConsoleClient
from rhizon.adapters.files import free_bytes, read_bytes, translated
from rhizon.adapters.host import now
from rhizon.adapters.instances import InstanceFolder
from rhizon.app.host import Host
from rhizon.app.instance.change import InstanceState, require_instance_state, snapshot
from rhizon.app.instance.edited_files import settings_paths
from rhizon.app.instance.exclusive import exclusive, require_stopped, started_elsewhere
from rhizon.app.instance.native_files import native_values
from rhizon.app.keep.backup_keys import Encryption, Opening, seal_for
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError, StateError, TrustError
from rhizon.core.finding import Finding
from rhizon.core.model.backup import Backup, BackupLinks, Calm
from rhizon.core.model.decode import encode_json
from rhizon.core.model.documents import decode
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.kept import KeptFile, KeptState
from rhizon.core.retention import parse_retention, to_keep
from rhizon.core.units import size_text

__all__ = [
    "BackupLine",
    "BackupResult",
    "BackupWishes",
    "Backups",
    "Sought",
    "Verdict",
    "back_up",
    "back_up_before",
    "backup_id",
    "find_backup",
    "list_backups",
    "verify_backup",
]

LINKS = "backups.json"
BY_HAND = "by hand"  # the reason of a backup that a person asked for


class BackupResult(msgspec.Struct, frozen=True, kw_only=True):
    """A backup that was made. Sizes in bytes: of what was saved, and of what it added to the repository. ``secrets``
    are the secret settings whose values are in it."""

    folder: str
    id: str
    when: str
    place: str
    calm: Calm
    files: int
    size: int
    added: int
    removed: tuple[str, ...]
    secrets: tuple[str, ...]
    encrypted: bool
    findings: tuple[Finding, ...]


class BackupLine(msgspec.Struct, frozen=True, kw_only=True):
    """One backup in a list; ``size`` in bytes is what a restore would write. Of an ``encrypted`` one only what its head
    says is known; ``secrets`` are the secret settings whose values are in it."""

    id: str
    when: str
    why: str
    name: str
    folder: str
    calm: Calm
    files: int
    size: int
    place: str
    automatic: bool
    encrypted: bool = False
    secrets: tuple[str, ...] = ()


class Backups(msgspec.Struct, frozen=True, kw_only=True):
    """All backups, oldest first, and the bytes that each repository takes on disk."""

    backups: tuple[BackupLine, ...]
    on_disk: dict[str, int]
    findings: tuple[Finding, ...]


class Verdict(msgspec.Struct, frozen=True, kw_only=True):
    """What reading a whole backup back has shown."""

    id: str
    when: str
    place: str
    chunks: int
    damaged: tuple[str, ...]


def backup_id(home: InstanceFolder) -> BackupLinks:
    """Under which id the backups of an instance lie: the one that it has, or a new one."""
    path = home.own / LINKS
    if path.is_file():
        return decode(BackupLinks, read_bytes(path, "backup record"), str(path))
    mark = hashlib.sha256(f"{home.folder}{now()}".encode()).hexdigest()[:8]
    return BackupLinks(format="rhizon-backups/1", id=f"{home.instance().name[:50]}-{mark}")


class BackupWishes(NamedTuple):
    """What a person asks for: another repository, which old backups to keep (such as ``7d,4w,6m``), whether to stop the
    server (else saving is paused, where the definition says how), what to encrypt to."""

    to: Path | None = None
    keep: str | None = None
    stop_first: bool = False
    encryption: Encryption = Encryption()


def back_up(host: Host, folder: Path, reporter: Reporter, wishes: BackupWishes) -> BackupResult:
    """Saves an instance into this host's backups or into another repository, then prunes old ones.

    Raises :class:`StateError` (no instance, no room, the server does not hold still), InputError (a bad rule or key).
    """
    to, rule = wishes.to, None
    if wishes.keep is not None:
        try:
            rule = parse_retention(wishes.keep)
        except ValueError as wrong:
            raise InputError("bad-retention", f"--keep: {wrong}", hint="As in --keep 7d,4w,6m") from None
    home = host.home(folder).required()
    with exclusive(host, home, reporter):
        if wishes.stop_first:
            require_stopped(host, home, reporter, stop_first=True)
        state = require_instance_state(home)
        game = host.game_of(state.instance, state.lock)
        root = (to or host.places.backups).absolute()
        if to is None:
            host.places.require_state()
        repository = Repository(root, seal_for(host, root, wishes.encryption))
        made = _make(host, home, game, state, repository, reporter, BY_HAND)
        if to is not None:
            _remember(home, made.id, repository.root)
        if rule is None:
            return made
        with repository.busy():
            times = {datetime.datetime.strptime(one, STAMP): one for one in repository.times(made.id)}
            kept = to_keep(list(times), rule)
            gone = tuple(name for at, name in times.items() if at not in kept)
            repository.forget(made.id, gone)
            if gone:
                repository.sweep()
        return msgspec.structs.replace(made, removed=gone)


def back_up_before(
    host: Host, home: InstanceFolder, game: GameDefinition, state: InstanceState, reporter: Reporter, why: str
) -> BackupResult:
    """The backup that a change makes for itself; the caller holds the instance."""
    root = host.places.backups
    return _make(host, home, game, state, Repository(root, seal_for(host, root, Encryption())), reporter, why)


def _remember(home: InstanceFolder, ident: str, place: Path) -> None:
    links = backup_id(home)
    places = tuple(dict.fromkeys((*links.places, str(place))))
    home.write_own(LINKS, encode_json(BackupLinks(format="rhizon-backups/1", id=ident, places=places)))


def _make(
    host: Host,
    home: InstanceFolder,
    game: GameDefinition,
    state: InstanceState,
    repository: Repository,
    reporter: Reporter,
    why: str,
) -> BackupResult:
    links = backup_id(home)
    if not (home.own / LINKS).is_file():
        home.write_own(LINKS, encode_json(links))
    reporter.step("backing up the world and the settings")
    with repository.busy():
        before = _newest(repository, links.id)
        with _calm(host, home, game) as calm:
            with translated("read the world", home.folder), home.inside() as inside:
                seen = tree_files(inside, game.world.folder)
            total = seen.size
            paths = settings_paths(home, game, state.side, state.inventory)
            _room_for(repository, total if before is None else max(total - before.size, 0))
            world, fresh, moved = repository.save(
                home.inside,
                seen.files,
                before.world if before else {},
                lambda so_far: reporter.progress(f"{size_text(so_far)} of {size_text(total)}", so_far / max(total, 1)),
            )
            settings, more, _ = repository.save(home.inside, paths, {}, lambda _so_far: None)
        fresh |= more
        chunks = {one for part in (world, settings) for file in part.values() for one in file.chunks}
        bad = [*repository.missing(chunks), *repository.read_back(fresh)]
        if bad:
            raise TrustError(
                "backup-damaged",
                f"what was written into {repository.root} does not read back: {bad[0]}",
                hint="That disk may be failing: back up to another one with --to FOLDER. This backup was not kept.",
            )
        when = repository.new_time(links.id)
        held = _secrets_in(home, game, settings)
        files, _ = snapshot(home, game, state, frozenset(), host.store.verified)
        files |= {
            path: KeptFile(
                sha256=one.chunks[0] if one.chunks else hashlib.sha256().hexdigest(),
                size=one.size,
                executable=bool(one.mode & 0o100),
                private=not one.mode & 0o044,
                settings=True,
            )
            for path, one in settings.items()
        }
        repository.write(
            Backup(
                format="rhizon-backup/1",
                id=links.id,
                when=when,
                why=why,
                automatic=why != BY_HAND,
                secrets=held,
                name=state.instance.name,
                folder=str(home.folder),
                calm="unsure" if moved else calm,
                state=KeptState(
                    format="rhizon-kept/1",
                    number=1,
                    kept_at=now(),
                    before=why,
                    lock=state.lock,
                    inventory=state.inventory,
                    instance=state.instance,
                    files=files,
                ),
                world=world,
                empty=seen.empty,
                settings=settings,
            )
        )
        added = sum(repository.chunk_size(one) for one in fresh)
    total = sum(one.size for part in (world, settings) for one in part.values())
    reporter.done(f"backup {when}: {size_text(total)}, {size_text(added)} of it new")
    return BackupResult(
        folder=str(home.folder),
        id=links.id,
        when=when,
        place=str(repository.root),
        calm="unsure" if moved else calm,
        files=len(world) + len(settings),
        size=total,
        added=added,
        removed=(),
        secrets=held,
        encrypted=repository.seal is not None,
        findings=(*_key_findings(repository), *_findings(game, seen.left_out, moved, calm)),
    )


def _secrets_in(home: InstanceFolder, game: GameDefinition, saved: Mapping[str, object]) -> tuple[str, ...]:
    """The secret settings that have a value in the files that were saved."""
    held = []
    for name, one in game.settings.items():
        if one.secret and one.store is not None and one.store.file in saved:
            with contextlib.suppress(StateError):
                if native_values(home, one.store).get(one.store.key):
                    held.append(name)
    return tuple(held)


def _key_findings(repository: Repository) -> list[Finding]:
    """Once, when the first backup is encrypted to a key."""
    seal = repository.seal
    if seal is None or not seal.fresh:
        return []
    return [
        Finding(
            code="backup-key",
            severity="warning",
            subject="encryption",
            what="without its key (or passphrase) these backups cannot be read by anybody, Rhizon included",
            remedy="Keep a copy of the key apart from this machine. To see that it opens them: "
            "rhizon backup DIR --verify --key FILE",
        )
    ]


def _newest(repository: Repository, ident: str) -> Backup | None:
    times = repository.times(ident)
    with contextlib.suppress(InputError):
        return repository.read(ident, times[-1]) if times else None
    return None  # a broken manifest only costs reading everything again


def _room_for(repository: Repository, size: int) -> None:
    free = free_bytes(repository.root)
    if size > free:
        raise StateError(
            "disk-full",
            f"up to {size_text(size)} are to be written into the backups, {size_text(free)} are free",
            details=[str(repository.root)],
            hint="Free some space, let go of old backups (--keep 7d,4w), or back up to another disk: --to FOLDER",
        )


@contextlib.contextmanager
def _calm(host: Host, home: InstanceFolder, game: GameDefinition) -> Iterator[Calm]:
    """While the world is read: how sure it is that nobody writes."""
    mark = home.running()
    if mark is None:
        yield "unsure" if started_elsewhere(host, home) is not None else "stopped"
        return
    hold = game.console.hold
    if hold is None:
        yield "unsure"
        return
    try:
        client = ConsoleClient(home, mark)
    except StateError:  # the rhizon run that held it was killed
        yield "unsure"
        return
    with client:
        client.hold(hold.seconds)
        yield "held" if hold.release else "saved"


def _findings(game: GameDefinition, left_out: tuple[str, ...], moved: list[str], calm: Calm) -> list[Finding]:
    findings = [
        Finding(
            code="left-out-of-backup",
            severity="warning",
            subject=path,
            what="it is a link, no ordinary file, or has a name that some system cannot hold, and is not in the backup",
            remedy="Put the file itself there, under another name.",
        )
        for path in left_out[:20]
    ]
    if moved or calm == "unsure":
        wrote = f"the server wrote while it was read ({', '.join(moved[:3])})" if moved else "the server was running"
        known = game.console.hold is not None
        why = (
            "its console cannot be reached" if known else f"the definition of {game.title} does not say how to hold it"
        )
        findings.append(
            Finding(
                code="backup-unsure",
                severity="warning",
                subject=str(game.world.folder),
                what=f"{wrote}, and {why}",
                remedy="Start it with rhizon run, or stop it before the backup."
                if known
                else "Back up with --stop-first, or add [console] hold to the definition.",
            )
        )
    return findings


def _places(host: Host, home: InstanceFolder | None) -> list[Repository]:
    roots = [host.places.backups]
    if home is not None and (home.own / LINKS).is_file():
        roots += [Path(one) for one in backup_id(home).places]
    return [Repository(root) for root in dict.fromkeys(roots) if root.is_dir()]


def list_backups(host: Host, folder: Path | None, place: Path | None = None) -> Backups:
    """Those of one instance, or all of this host's; ``place`` is another repository to look into."""
    home = host.home(folder).required() if folder is not None else None
    wanted = backup_id(home).id if home is not None else None
    lines = []
    findings = []
    repositories = _places(host, home) if place is None else [Repository(place.absolute())]
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
                            remedy="It cannot be restored. Make a new one.",
                        )
                    )
    lines.sort(key=lambda one: (one.id, one.when))
    return Backups(
        backups=tuple(lines),
        on_disk={str(one.root): one.bytes_on_disk() for one in repositories},
        findings=tuple(findings),
    )


def _line(repository: Repository, ident: str, when: str) -> BackupLine:
    head = repository.head(ident, when)
    if head is not None:
        return BackupLine(
            id=head.id,
            when=head.when,
            why="made by a change" if head.automatic else BY_HAND,
            name=head.id,
            folder="",
            calm=head.calm,
            files=head.files,
            size=head.size,
            place=str(repository.root),
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
        calm=backup.calm,
        files=len(backup.world) + len(backup.settings),
        size=backup.size,
        place=str(repository.root),
        automatic=not backup.by_hand,
        secrets=backup.secrets,
    )


class Sought(NamedTuple):
    """Which backup a person means: the beginning of its time (None: the newest that a person made), another instance
    that it is of, another repository, and what opens it if it is encrypted."""

    when: str | None = None
    of: str | None = None
    place: Path | None = None
    opening: Opening = Opening()


def find_backup(host: Host, folder: Path, sought: Sought) -> tuple[Repository, Backup]:
    """The backup that a person means: one whose time begins with ``when``, or the newest that a person made (one that a
    change made for itself is not what anybody has in mind). ``of`` is the id, name or folder of the instance, where
    that is not the one in ``folder``. Raises InputError."""
    home = host.home(folder)
    of, place = sought.of, sought.place
    when = sought.when.replace(":", "-") if sought.when is not None else None  # as clocks write it
    if of is None and not home.is_ours:
        raise InputError(
            "which-backup",
            f"there is no instance in {folder}: say of which one the backup is",
            hint="Add --of ID (rhizon backup --list shows them), or name the instance's own folder.",
        )
    ident = backup_id(home).id if of is None else None
    repositories = [Repository(place.absolute())] if place is not None else _places(host, home if of is None else None)
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
            hint="rhizon backup --list shows all of this machine; --place FOLDER looks into another repository.",
        )
    times = sorted(found, key=lambda one: one[:2])
    if when is not None and len({one[0] for one in times}) > 1:
        shown = ", ".join(one[0] for one in times[:5])
        raise InputError("which-backup", f"{when} matches several: {shown}", hint="Give a longer prefix of the time.")
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
        f"there is no backup of {of or folder} that a person made, only {len(times)} that changes made",
        details=[at for at, _, _ in times[-5:]],
        hint=f"To take one of those, name its time: rhizon restore {folder} {times[-1][0]}",
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


def verify_backup(host: Host, folder: Path, sought: Sought, reporter: Reporter) -> Verdict:
    """Reads every piece of one backup back."""
    repository, backup = find_backup(host, folder, sought)
    chunks = {one for part in (backup.world, backup.settings) for file in part.values() for one in file.chunks}
    reporter.step(f"reading {backup.when} back")
    damaged = repository.verify(chunks, lambda so_far, total: reporter.progress("reading", so_far / max(total, 1)))
    return Verdict(
        id=backup.id, when=backup.when, place=str(repository.root), chunks=len(chunks), damaged=tuple(damaged)
    )
