"""Backups of an instance: its worlds, its settings, and all that makes it what it is."""

import contextlib
import datetime
import hashlib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import NamedTuple

import msgspec

from rhizon.adapters.backups import STAMP, Repository
from rhizon.adapters.files import free_bytes, translated
from rhizon.adapters.host import now
from rhizon.adapters.inside import Inside
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.world_files import world_files
from rhizon.app.host import Host
from rhizon.app.instance.backup_places import LINKS, backup_id
from rhizon.app.instance.change import snapshot
from rhizon.app.instance.edited_files import settings_paths
from rhizon.app.instance.exclusive import console_of, exclusive, require_stopped, started_elsewhere
from rhizon.app.instance.native_files import native_values
from rhizon.app.instance.own_definitions import own_definitions
from rhizon.app.instance.state import InstanceState, require_instance_state
from rhizon.app.keep.backup_keys import Encryption, seal_for
from rhizon.app.keep.find_backup import BY_HAND
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError, StateError, TrustError
from rhizon.core.finding import Finding
from rhizon.core.model.backup import Backup, BackupLinks, Consistency, SavedFile
from rhizon.core.model.decode import encode_json
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.kept import KeptFile, KeptState
from rhizon.core.names import RelPath
from rhizon.core.retention import Retention, parse_retention, to_keep
from rhizon.core.units import size_text

__all__ = ["BEFORE_CHANGE", "BackupResult", "BackupWishes", "back_up", "back_up_before", "back_up_pulled", "names_in"]


BEFORE_CHANGE = "before: "  # how the reason begins of a backup that a change makes for itself


class BackupResult(msgspec.Struct, frozen=True, kw_only=True):
    """A backup that was made, or would be (``planned``). Sizes in bytes: of what was saved, and of what it added to the
    repository in the folder ``backups``. ``paths`` are the worlds and settings files in it, ``removed`` the times of
    backups that were pruned, ``secrets`` the secret settings whose values are in it."""

    folder: str
    name: str
    id: str
    when: str
    planned: bool
    backups: str
    consistency: Consistency
    paths: tuple[str, ...]
    files: int
    size: int
    added: int
    removed: tuple[str, ...]
    secrets: tuple[str, ...]
    encrypted: bool
    findings: tuple[Finding, ...]


class BackupWishes(NamedTuple):
    """What a person asks for: another repository, which old backups to keep (such as ``7d,4w,6m``), whether to stop the
    server (else saving is paused, where the definition says how), what to encrypt to, whether to save all files too."""

    backups: Path | None = None
    keep: str | None = None
    stop_first: bool = False
    dry_run: bool = False
    encryption: Encryption = Encryption()
    whole: bool = False


def back_up(host: Host, folder: Path, reporter: Reporter, wishes: BackupWishes) -> BackupResult:
    """Saves an instance into this host's backups or into another repository, then prunes old ones.

    Raises :class:`StateError` (no instance, no room, the server does not pause saving), InputError (a bad rule or key).
    """
    to, rule = wishes.backups, None
    if wishes.keep is not None:
        try:
            rule = parse_retention(wishes.keep)
        except ValueError as wrong:
            raise InputError(
                "bad-retention",
                f"--keep: {wrong}",
                hint="Write numbers with d, w and m behind them, as in --keep 7d,4w,6m.",
            ) from None
    home = host.home(folder).required()
    if wishes.dry_run:
        return _planned(require_instance_state(host, home), _repository(host, wishes), rule)
    with exclusive(host, home, reporter):
        if wishes.stop_first:
            require_stopped(host, home, reporter, stop_first=True)
        state = require_instance_state(host, home)
        if to is None:
            host.places.require_state()
        repository = _repository(host, wishes)
        made = _make(host, state, repository, reporter, BY_HAND, whole=wishes.whole)
        if to is not None:
            _remember(home, made.id, repository.root)
        if rule is None:
            return made
        with repository.busy():
            gone = _pruned(repository, made.id, rule, ())
            repository.forget(made.id, gone)
            if gone:
                repository.sweep()
        return msgspec.structs.replace(made, removed=gone)


def _repository(host: Host, wishes: BackupWishes) -> Repository:
    root = (wishes.backups or host.places.backups).absolute()
    return Repository(root, None if wishes.dry_run else seal_for(host, root, wishes.encryption))


def _pruned(
    repository: Repository, ident: str, rule: Retention, more: tuple[datetime.datetime, ...]
) -> tuple[str, ...]:
    """The times of backups that the rule does not keep; ``more`` are backups that will be there too."""
    times = {datetime.datetime.strptime(one, STAMP): one for one in repository.times(ident)}
    kept = to_keep([*times, *more], rule)
    return tuple(name for at, name in times.items() if at not in kept)


def _planned(state: InstanceState, repository: Repository, rule: Retention | None) -> BackupResult:
    """What a backup would save and prune. Nothing is written."""
    home, game = state.home, state.game
    links = backup_id(home)
    with translated("read the world", home.folder), home.inside() as inside:
        seen = world_files(inside, game.world)
    paths = settings_paths(state)
    when = now().replace(":", "-")
    soon = (datetime.datetime.strptime(when, STAMP),)
    return BackupResult(
        folder=str(home.folder),
        name=state.instance.name,
        id=links.id,
        when=when,
        planned=True,
        backups=str(repository.root),
        consistency="stopped" if home.running() is None else "unsure",
        paths=names_in(game, seen.files, paths),
        files=len(seen.files) + len(paths),
        size=seen.size,
        added=0,
        removed=_pruned(repository, links.id, rule, soon) if rule is not None else (),
        secrets=_secrets_in(home, game, dict.fromkeys(paths)),
        encrypted=False,
        findings=(),
    )


def names_in(game: GameDefinition, world: Iterable[str], settings: Iterable[str]) -> tuple[str, ...]:
    """Each world and what goes with it, and each settings file."""
    return (*sorted({game.world.unit(path) or path for path in world}), *sorted(settings))


def back_up_before(host: Host, state: InstanceState, reporter: Reporter, why: str) -> BackupResult:
    """The backup that a change makes for itself; the caller holds the instance."""
    root = host.places.backups
    return _make(host, state, Repository(root, seal_for(host, root, Encryption())), reporter, why)


def back_up_pulled(
    host: Host, state: InstanceState, reporter: Reporter, why: str, root: Path, findings: Sequence[Finding]
) -> BackupResult:
    """A backup of a copy below ``root``, in the same layout, of the server's worlds and settings elsewhere. Where no
    settings are there, it has none. The caller holds the instance."""
    backups = host.places.backups
    repository = Repository(backups, seal_for(host, backups, Encryption()))
    made = _make(host, state, repository, reporter, why, pulled=root)
    return msgspec.structs.replace(made, findings=(*made.findings, *findings))


def _remember(home: InstanceFolder, ident: str, place: Path) -> None:
    links = backup_id(home)
    places = tuple(dict.fromkeys((*links.places, str(place))))
    home.write_own(LINKS, encode_json(BackupLinks(format="rhizon-backups/1", id=ident, places=places)))


def _make(
    host: Host,
    state: InstanceState,
    repository: Repository,
    reporter: Reporter,
    why: str,
    pulled: Path | None = None,
    *,
    whole: bool = False,
) -> BackupResult:
    """Saves the worlds and settings (of the instance, or those ``pulled`` into a folder), reads back what is new, and
    writes the manifest last. Raises TrustError where it cannot be read back."""
    home, game = state.home, state.game
    inside_of = home.inside if pulled is None else partial(Inside, pulled)
    links = backup_id(home)
    if not (home.own / LINKS).is_file():
        home.write_own(LINKS, encode_json(links))
    reporter.step("backing up the world and the settings")
    with repository.busy():
        before = _newest(repository, links.id)
        how: Consistency = "unsure"
        with _hold(host, home, game) if pulled is None else contextlib.nullcontext(how) as consistency:
            with translated("read the world", home.folder), inside_of() as inside:
                seen = world_files(inside, game.world)
            total = seen.size
            paths = [one for one in settings_paths(state) if pulled is None or (pulled / one).is_file()]
            _room_for(repository, total if before is None else max(total - before.size, 0))
            world, fresh, moved = repository.save(
                inside_of,
                seen.files,
                before.world if before and pulled is None else {},
                lambda so_far: reporter.progress(f"{size_text(so_far)} of {size_text(total)}", so_far / max(total, 1)),
            )
            settings, more, _ = repository.save(inside_of, paths, {}, lambda _so_far: None)
            rest: dict[str, SavedFile] = {}
            if whole:
                placed = [RelPath(path) for path in state.inventory.files if path not in settings]
                reporter.step("saving all other files too")
                rest, others, _ = repository.save(inside_of, placed, {}, lambda _so_far: None)
                more |= others
        fresh |= more
        chunks = {one for part in (world, settings, rest) for file in part.values() for one in file.chunks}
        bad = [*repository.missing(chunks), *repository.read_back(fresh)]
        if bad:
            raise TrustError(
                "backup-damaged",
                f"what was written into {repository.root} cannot be read back: {bad[0]}",
                hint="That disk may be failing: back up to another one with --backups. This backup was not kept.",
            )
        when = repository.new_time(links.id)
        held = _secrets_in(home if pulled is None else host.home(pulled), game, settings)
        files, _ = snapshot(state, frozenset(), host.store.verified)
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
                automatic=why != BY_HAND and (pulled is None or why.startswith(BEFORE_CHANGE)),
                secrets=held,
                name=state.instance.name,
                folder=str(home.folder),
                consistency="unsure" if moved else consistency,
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
                whole=rest,
                definitions=own_definitions(host, state.game.id, Path(state.instance.source).parent) if whole else {},
            )
        )
        added = sum(repository.chunk_size(one) for one in fresh)
    total = sum(one.size for part in (world, settings, rest) for one in part.values())
    reporter.done(f"backup {when}: {size_text(total)}, {size_text(added)} new")
    return BackupResult(
        folder=str(home.folder),
        name=state.instance.name,
        id=links.id,
        when=when,
        planned=False,
        backups=str(repository.root),
        paths=names_in(game, world, settings),
        consistency="unsure" if moved else consistency,
        files=len(world) + len(settings) + len(rest),
        size=total,
        added=added,
        removed=(),
        secrets=held,
        encrypted=repository.seal is not None,
        findings=(
            *_key_findings(repository),
            *(_findings(game, seen.left_out, moved, consistency) if pulled is None else ()),
        ),
    )


def _secrets_in(home: InstanceFolder, game: GameDefinition, saved: Mapping[str, object]) -> tuple[str, ...]:
    """The secret settings that have a value in the files that were saved."""
    held = []
    for name, one in game.settings.items():
        for place in one.places if one.secret else ():
            with contextlib.suppress(StateError):
                if place.file in saved and name not in held and native_values(home, place).get(place.key):
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
            what="without its key (or passphrase) nobody can read these backups, not even Rhizon",
            remedy="Keep a copy of the key outside this machine, and try it with --verify and --key.",
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
            f"up to {size_text(size)} are to be written into the backups, {size_text(free)} free",
            details=[str(repository.root)],
            hint="Free some space, prune old backups (--keep 7d,4w), or back up to another disk with --backups.",
        )


@contextlib.contextmanager
def _hold(host: Host, home: InstanceFolder, game: GameDefinition) -> Iterator[Consistency]:
    """While the world is read: how sure it is that no one writes."""
    mark = home.running()
    if mark is None:
        yield "unsure" if started_elsewhere(host, home) is not None else "stopped"
        return
    hold = game.console.hold
    if hold is None:
        yield "unsure"
        return
    try:
        client = console_of(home, mark)
    except StateError:  # it was started by another program, or its keeper cannot be started
        yield "unsure"
        return
    with client:
        client.hold(hold.seconds)
        yield "held" if hold.release else "saved"


def _findings(
    game: GameDefinition, left_out: tuple[str, ...], moved: list[str], consistency: Consistency
) -> list[Finding]:
    """What a person should know of a backup: files left out, a world that may be inconsistent."""
    findings = [
        Finding(
            code="left-out-of-backup",
            severity="warning",
            subject=path,
            what="not in the backup: it is a link, not an ordinary file, or has a name that some systems do not allow",
            remedy="Put the file itself there, under another name.",
        )
        for path in left_out[:20]
    ]
    if moved or consistency == "unsure":
        wrote = f"the server wrote while it was read ({', '.join(moved[:3])})" if moved else "the server was running"
        known = game.console.hold is not None
        why = (
            "its console cannot be reached"
            if known
            else f"the definition of {game.title} does not say how to pause saving"
        )
        findings.append(
            Finding(
                code="backup-unsure",
                severity="warning",
                subject=game.world.title,
                what=f"{wrote}, and {why}",
                remedy="Start it with rhizon run, or stop it before the backup."
                if known
                else "Back up with --stop-first, or add [console] hold to the definition.",
            )
        )
    return findings
