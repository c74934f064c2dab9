"""A backup's worlds and settings take the place of those on a rented server, after a backup of what is there.

All of it is staged there and checked first. Then the start file is moved away, each world that is there is moved aside
and the staged one takes its place; a mark says that a restore has begun and not ended.
"""

import hashlib
import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple

import msgspec

from rhizon.adapters.files import free_bytes, hash_file, make_folders, translated
from rhizon.adapters.inside import Inside
from rhizon.adapters.remotes.files import RemoteFiles, Upload
from rhizon.app.host import Host
from rhizon.app.instance.exclusive import exclusive
from rhizon.app.instance.state import InstanceState, require_instance_state
from rhizon.app.keep.backup import BEFORE_CHANGE
from rhizon.app.keep.find_backup import Sought, find_backup
from rhizon.app.keep.roll_back import Part, WorldCopy, world_meets
from rhizon.app.remote.control_there import require_stopped_there
from rhizon.app.remote.pull import pull
from rhizon.app.remote.records import (
    LARGEST_DOCUMENT,
    MARK,
    OWN_FOLDER,
    RECORD,
    WORLD_BEFORE,
    WORLD_COMING,
    away,
    own_record,
    put,
    read_mark,
    take_mark,
)
from rhizon.app.remote.remotes import find_remote, with_tries
from rhizon.app.reporter import Reporter
from rhizon.app.run.copies import copies_room, room_prefix
from rhizon.core.errors import InputError, RemoteError, StateError
from rhizon.core.finding import Finding
from rhizon.core.model.backup import Backup
from rhizon.core.model.game_world import WorldRule
from rhizon.core.model.remote import RemoteDefinition
from rhizon.core.names import RelPath
from rhizon.core.units import counted, size_text

__all__ = ["RestoreThereResult", "RestoreThereWishes", "restore_there"]


class RestoreThereResult(msgspec.Struct, frozen=True, kw_only=True):
    """What was put there, or would be: of the backup ``to``; ``backup`` is the time of the one that was made of what
    was there, None where no world was there."""

    folder: str
    name: str
    remote: str
    planned: bool
    to: str
    worlds: tuple[RelPath, ...]
    settings: tuple[RelPath, ...]
    size: int
    backup: str | None
    findings: tuple[Finding, ...]


class _Staging(msgspec.Struct, frozen=True, kw_only=True):
    """What is to go there, laid out in a folder here: files with their hashes, and folders that hold nothing."""

    root: Path
    files: Mapping[RelPath, str]
    empty: tuple[RelPath, ...]
    worlds: tuple[RelPath, ...]
    settings: tuple[RelPath, ...]
    size: int
    stage: str


class RestoreThereWishes(NamedTuple):
    """What a person asks for: which backup, and which part of it."""

    sought: Sought = Sought()
    part: Part = "all"
    dry_run: bool = False


def restore_there(
    host: Host, folder: Path, word: str, reporter: Reporter, wishes: RestoreThereWishes
) -> RestoreThereResult:
    """Raises InputError (no such backup, no world in it), RemoteError, TrustError, :class:`StateError` (the server
    runs there, no room, another change goes on)."""
    sought, part, dry_run = wishes
    home = host.home(folder).required()
    state = require_instance_state(host, home)
    _, remote = find_remote(host, word)
    copy = WorldCopy(*find_backup(host, folder, sought))
    backup = copy.backup
    if part == "world" and not backup.world:
        raise InputError(
            "no-such-backup", f"the backup of {backup.when} contains no world", hint="See all of them: backup --list"
        )
    findings = tuple(world_meets(backup.state.lock, state.lock, state.game)) if backup.world else ()
    require_stopped_there(host, folder, word, reporter)
    if dry_run:
        with_tries(
            host,
            remote,
            reporter,
            lambda files: own_record(files.read(RECORD, LARGEST_DOCUMENT), remote, state.instance.name),
        )
        return _result(state, remote, backup, _names(state, backup, part), findings, None, planned=True)
    with_tries(host, remote, reporter, lambda files: _mended(files, state.game.world))
    before = _backed_up(host, folder, word, reporter)
    with (
        exclusive(host, home, reporter),
        tempfile.TemporaryDirectory(prefix=room_prefix(), dir=copies_room(host)) as room,
    ):
        staging = _laid_out(state, copy, part, Path(room))
        with_tries(host, remote, reporter, lambda files: _Restore(state, remote, files, reporter).go(staging))
    return _result(state, remote, backup, (staging.worlds, staging.settings), findings, before, planned=False)


def _result(
    state: InstanceState,
    remote: RemoteDefinition,
    backup: Backup,
    names: tuple[tuple[RelPath, ...], tuple[RelPath, ...]],
    findings: tuple[Finding, ...],
    before: str | None,
    *,
    planned: bool,
) -> RestoreThereResult:
    worlds, settings = names
    files = [*(backup.world.values() if worlds else ()), *(backup.settings.values() if settings else ())]
    return RestoreThereResult(
        folder=str(state.home.folder),
        name=state.instance.name,
        remote=remote.name,
        planned=planned,
        to=backup.when,
        worlds=worlds,
        settings=settings,
        size=sum(one.size for one in files),
        backup=before,
        findings=findings,
    )


def _names(state: InstanceState, backup: Backup, part: Part) -> tuple[tuple[RelPath, ...], tuple[RelPath, ...]]:
    """The worlds and settings files that are to go there."""
    units = {state.game.world.unit(path) or path for path in (*backup.world, *backup.empty)}
    worlds = tuple(RelPath(one) for one in sorted(units)) if part != "settings" else ()
    return worlds, tuple(map(RelPath, sorted(backup.settings))) if part != "world" else ()


def _require_ours(files: RemoteFiles, remote: RemoteDefinition, state: InstanceState) -> None:
    """Raises :class:`StateError` where another server was sent there."""
    own_record(files.read(RECORD, LARGEST_DOCUMENT), remote, state.instance.name)


def _mended(files: RemoteFiles, rule: WorldRule) -> None:
    """A restore that broke off between two renames has moved a world aside: it comes back before anything else."""
    mark = read_mark(files)
    if mark is None or mark.what != "restore":
        return
    aside = {path.removeprefix(f"{WORLD_BEFORE}/") for path in files.listing(below=WORLD_BEFORE)}
    for world in sorted({rule.unit(path) or path for path in aside}):
        if not files.listing(below=world) and files.read(world, 1) is None:
            files.rename(f"{WORLD_BEFORE}/{world}", world)


def _backed_up(host: Host, folder: Path, word: str, reporter: Reporter) -> str | None:
    """The time of a backup of what is there; None where no world is there."""
    try:
        return pull(host, folder, word, reporter, why=f"{BEFORE_CHANGE}restore on {word}").when
    except StateError as wrong:
        if wrong.code != "nothing-to-pull":
            raise
        return None


def _laid_out(state: InstanceState, copy: WorldCopy, part: Part, room: Path) -> _Staging:
    """The backup's files in a folder here, every piece verified. Raises TrustError, :class:`StateError` (no room)."""
    repository, backup = copy
    worlds, settings = _names(state, backup, part)
    size = sum(one.size for one in backup.world.values()) if worlds else 0
    if size > free_bytes(room):
        raise StateError(
            "disk-full", f"{size_text(size)} are to be laid out, {size_text(free_bytes(room))} are free",
            hint="Free some space on that disk.",
        )  # fmt: skip
    files: dict[RelPath, str] = {}
    with translated("lay out the backup", room), Inside(room) as inside:
        for world in worlds:
            if "/" in world:
                inside.make_folder(world.rpartition("/")[0])
        for world in worlds:
            below = {one: file for one, file in backup.world.items() if one == world or one.startswith(f"{world}/")}
            empty = [one for one in backup.empty if one.startswith(f"{world}/")]
            repository.lay_out(below, empty, world, inside, world)
            files |= {RelPath(one): hash_file(room / one)[0] for one in below}
        for path in settings:
            data = repository.bytes_of(backup.settings[path])
            make_folders((room / path).parent, 0o700)
            (room / path).write_bytes(data)
            files[path] = hashlib.sha256(data).hexdigest()
            size += len(data)
    return _Staging(
        root=room,
        files=files,
        empty=tuple(one for one in backup.empty if worlds),
        worlds=worlds,
        settings=settings,
        size=size,
        stage=f"{WORLD_COMING}/{backup.id}-{backup.when}",
    )


class _Restore:
    """One restore over one connection."""

    def __init__(self, state: InstanceState, remote: RemoteDefinition, files: RemoteFiles, reporter: Reporter) -> None:
        self._state, self._remote, self._files, self._reporter = state, remote, files, reporter

    def go(self, staging: _Staging) -> None:
        _require_ours(self._files, self._remote, self._state)
        take_mark(self._files, "restore")
        _mended(self._files, self._state.game.world)
        self._send(staging)
        self._reporter.step("putting it in place")
        away(self._files, self._remote, lambda: self._switch(staging))
        there = self._files.listing([OWN_FOLDER])
        for path in staging.files:
            if path not in there or there[path].size != (staging.root / path).stat().st_size:
                raise RemoteError(
                    "restore-not-verified", f"{path} is not there as it was sent", hint="Run the same command again."
                )
        self._files.remove_folder(WORLD_COMING)
        self._files.remove_folder(WORLD_BEFORE)
        self._files.remove(MARK)
        self._reporter.done("in place, and checked")

    def _send(self, staging: _Staging) -> None:
        """Stages all of it, and checks it there. Raises RemoteError where some is missing."""
        files, stage = self._files, staging.stage
        uploads = [
            Upload(f"{stage}/{path}", staging.root / path, (staging.root / path).stat().st_size)
            for path in staging.files
        ]
        done = 0

        def told(count: int) -> None:
            nonlocal done
            done += count
            self._reporter.progress(f"{size_text(done)} of {size_text(staging.size)}", done / max(staging.size, 1))

        self._reporter.step(f"sending {counted(len(uploads), 'file')} ({size_text(staging.size)})")
        hashes = files.upload(uploads, told)
        for folder in staging.empty:
            files.make_folder(f"{stage}/{folder}")
        there = files.listing(below=stage)
        bad = [one.path for one in uploads if one.path not in there or there[one.path].size != one.size]
        if not bad:
            wanted = {f"{stage}/{path}": sha256 for path, sha256 in staging.files.items()}
            bad = [path for path, sha256 in hashes.items() if sha256 != wanted[path]]
        if bad:
            files.remove_all(bad)
            raise RemoteError(
                "restore-cut-short",
                f"{self._remote.name} has not kept all of {bad[0].removeprefix(f'{stage}/')}",
                hint="Its disk may be full. The world there is as it was; run the same command again.",
            )
        self._reporter.done(f"{counted(len(uploads), 'file')} sent ({size_text(staging.size)})")

    def _switch(self, staging: _Staging) -> None:
        """Each world there is moved aside, and the staged one takes its place. What an earlier try has done is not done
        again."""
        files, stage = self._files, staging.stage
        there = files.listing(list(staging.worlds))
        for world in staging.worlds:
            if files.listing(below=world) or world in there:
                files.remove_folder(f"{WORLD_BEFORE}/{world}")
                files.rename(world, f"{WORLD_BEFORE}/{world}")
            else:
                files.remove_folder(world)
            files.rename(f"{stage}/{world}", world)
        for path in staging.settings:
            if files.read(path, LARGEST_DOCUMENT) != (staging.root / path).read_bytes():
                put(files, f"{stage}/{path}", path)
