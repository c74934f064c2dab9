"""Backups of an instance: its worlds, its settings, and all that makes it what it is."""

import contextlib
import datetime
import hashlib
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import NamedTuple

import msgspec

from rhizon.adapters.backups import STAMP, Repository, tree_files
from rhizon.adapters.console import ConsoleClient
from rhizon.adapters.files import free_bytes, translated
from rhizon.adapters.host import now
from rhizon.adapters.instances import InstanceFolder
from rhizon.app.host import Host
from rhizon.app.instance.change import InstanceState, require_instance_state, snapshot
from rhizon.app.instance.edited_files import settings_paths
from rhizon.app.instance.exclusive import exclusive, require_stopped, started_elsewhere
from rhizon.app.instance.native_files import native_values
from rhizon.app.keep.backup_keys import Encryption, seal_for
from rhizon.app.keep.find_backup import BY_HAND, LINKS, backup_id
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError, StateError, TrustError
from rhizon.core.finding import Finding
from rhizon.core.model.backup import Backup, BackupLinks, Calm
from rhizon.core.model.decode import encode_json
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.kept import KeptFile, KeptState
from rhizon.core.retention import parse_retention, to_keep
from rhizon.core.units import size_text

__all__ = ["BackupResult", "BackupWishes", "back_up", "back_up_before"]


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
