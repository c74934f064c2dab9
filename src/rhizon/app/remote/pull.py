"""Backups of what a rented server has: its worlds and settings come here, into the backups of this machine."""

import tempfile
from collections.abc import Mapping
from pathlib import Path

from rhizon.adapters.files import free_bytes, make_folders, translated
from rhizon.adapters.host import now
from rhizon.adapters.remotes.files import Download, RemoteFiles
from rhizon.app.host import Host
from rhizon.app.instance.backup_places import backup_id
from rhizon.app.instance.edited_files import settings_paths
from rhizon.app.instance.exclusive import exclusive
from rhizon.app.instance.state import InstanceState, require_instance_state
from rhizon.app.keep.backup import BackupResult, back_up_pulled, names_in
from rhizon.app.remote.records import LARGEST_DOCUMENT, OWN_FOLDER, RECORD, own_record
from rhizon.app.remote.remotes import find_remote, with_tries
from rhizon.app.reporter import Reporter
from rhizon.app.run.copies import copies_room, room_prefix
from rhizon.core.errors import RemoteError, StateError
from rhizon.core.finding import Finding
from rhizon.core.model.remote import RemoteDefinition
from rhizon.core.names import RelPath, UnsafeNameError, printable, safe_path
from rhizon.core.remote.push_plan import ThereFile
from rhizon.core.units import counted, size_text

__all__ = ["pull"]

MOST_FINDINGS = 20


def pull(
    host: Host, folder: Path, word: str, reporter: Reporter, *, dry_run: bool = False, why: str = ""
) -> BackupResult:
    """Fetches the worlds and settings of a server that was sent to a rented one, and saves them as a backup of the
    server here. Nothing is changed there. ``why`` is the reason of one that a change makes for itself.

    Raises InputError, RemoteError, TrustError, :class:`StateError` (nothing is there, no room, the server is of
    another name).
    """
    home = host.home(folder).required()
    _, remote = find_remote(host, word)
    if dry_run:
        state = require_instance_state(host, home)
        return with_tries(host, remote, reporter, lambda files: _Pull(state, remote, files, reporter).planned(host))
    with exclusive(host, home, reporter):
        state = require_instance_state(host, home)
        host.places.require_state()
        with tempfile.TemporaryDirectory(prefix=room_prefix(), dir=copies_room(host)) as room:
            have: dict[RelPath, ThereFile] = {}
            findings = with_tries(
                host, remote, reporter, lambda files: _Pull(state, remote, files, reporter).fetched(Path(room), have)
            )
            reason = why or f"pulled from {remote.name}"
            return back_up_pulled(host, state, reporter, reason, Path(room), findings)


class _Pull:
    """One pull over one connection."""

    def __init__(self, state: InstanceState, remote: RemoteDefinition, files: RemoteFiles, reporter: Reporter) -> None:
        self._state, self._remote, self._files, self._reporter = state, remote, files, reporter
        self._settings = frozenset(settings_paths(state))

    def planned(self, host: Host) -> BackupResult:
        """What would be fetched."""
        found, left_out = self._there()
        worlds = [path for path in found if self._state.game.world.covers(path)]
        return BackupResult(
            folder=str(self._state.home.folder),
            name=self._state.instance.name,
            id=backup_id(self._state.home).id,
            when=now().replace(":", "-"),
            planned=True,
            backups=str(host.places.backups),
            consistency="unsure",
            paths=names_in(self._state.game, worlds, found.keys() - set(worlds)),
            files=len(found),
            size=sum(one.size for one in found.values()),
            added=0,
            removed=(),
            secrets=(),
            encrypted=False,
            findings=tuple(left_out),
        )

    def fetched(self, room: Path, have: dict[RelPath, ThereFile]) -> tuple[Finding, ...]:
        """Fetches into ``room``; what an earlier connection brought whole is not fetched again. ``have`` is what files
        were there when they were fetched."""
        found, left_out = self._there()
        size = sum(one.size for one in found.values())
        if size > free_bytes(room):
            raise StateError(
                "disk-full",
                f"{size_text(size)} are to be fetched, {size_text(free_bytes(room))} are free",
                details=[str(room)],
                hint="Free some space on that disk.",
            )
        wanted = [
            Download(path, room / path)
            for path, one in found.items()
            if have.get(path) != one or not _is_whole(room / path, one)
        ]
        for path in have.keys() - found.keys():  # gone there since an earlier connection
            (room / path).unlink(missing_ok=True)
        have.update(found)
        self._reporter.step(f"fetching {counted(len(wanted), 'file')} ({size_text(size)})")
        done = size - sum(found[RelPath(one.path)].size for one in wanted)

        def told(count: int) -> None:
            nonlocal done
            done += count
            self._reporter.progress(f"{size_text(done)} of {size_text(size)}", done / max(size, 1))

        with translated("keep what is fetched", room):
            for folder in {one.to.parent for one in wanted}:
                make_folders(folder, 0o700)
        self._files.download(wanted, told)
        after, _ = self._there()
        moved = {path for path in found.keys() | after.keys() if found.get(path) != after.get(path)}
        for path in found.keys() - moved:
            if not _is_whole(room / path, found[path]):
                raise RemoteError(
                    "pull-cut-short",
                    f"{path} came only in part from {self._remote.name}",
                    hint="Run the same command again. No backup was made.",
                )
        self._reporter.done(f"{counted(len(found), 'file')} fetched ({size_text(size)})")
        return (*left_out, *_moved(self._remote.name, sorted(moved)))

    def _there(self) -> tuple[dict[RelPath, ThereFile], list[Finding]]:
        """What a backup has of the files there; names that no file here may have are left out."""
        own_record(self._files.read(RECORD, LARGEST_DOCUMENT), self._remote, self._state.instance.name)
        self._reporter.step("listing what is there")
        listed = self._files.listing([OWN_FOLDER], self._settings)
        found: dict[RelPath, ThereFile] = {}
        left_out = []
        rule = self._state.game.world
        for path, one in self._of_backup(listed).items():
            try:
                found[safe_path(path)] = one
            except UnsafeNameError as wrong:
                left_out.append(
                    Finding(
                        code="left-out-of-backup",
                        severity="warning",
                        subject=printable(path, 100),
                        what=f"not in the backup: {wrong}",
                        remedy="Rename the file there.",
                    )
                )
        if not any(rule.covers(path) for path in found):
            raise StateError(
                "nothing-to-pull",
                f"{self._remote.name} has no world in {rule.title}",
                hint="Is its folder in the remote file right? A server makes its world at its first start.",
            )
        return found, left_out[:MOST_FINDINGS]

    def _of_backup(self, listed: Mapping[str, ThereFile]) -> dict[str, ThereFile]:
        rule = self._state.game.world
        return {path: one for path, one in sorted(listed.items()) if rule.covers(path) or path in self._settings}


def _is_whole(path: Path, there: ThereFile) -> bool:
    return path.is_file() and path.stat().st_size == there.size


def _moved(remote: str, moved: list[RelPath]) -> list[Finding]:
    """That a world was written meanwhile; the host's server may have been running."""
    if not moved:
        return []
    return [
        Finding(
            code="backup-unsure",
            severity="warning",
            subject=remote,
            what=f"the server there wrote while it was read ({', '.join(moved[:3])})",
            remedy="Stop it there, and pull once more.",
        )
    ]
