"""A server away, with a backup of its world that stays."""

import contextlib
import os
import shutil
import time
import zipfile
from collections.abc import Sequence
from pathlib import Path

import msgspec

from rhizon.adapters.files import make_folders, sync_folder, translated
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.world_files import world_units
from rhizon.app.host import Host, open_ledger
from rhizon.app.instance.exclusive import exclusive, require_stopped
from rhizon.app.instance.other_files import other_files
from rhizon.app.instance.state import require_instance_state
from rhizon.app.keep.backup import back_up_before
from rhizon.app.keep.find_backup import Sought, verify_backup
from rhizon.app.machine.removal import remove_left_over, remove_renamed, rename_away
from rhizon.app.reach.opened import close_ports, read_opened
from rhizon.app.reporter import Reporter
from rhizon.core.errors import RhizonError, TrustError
from rhizon.core.units import counted

__all__ = ["DeleteResult", "delete"]

EARLIEST = 315_619_200  # a zip knows no time before 1980


class DeleteResult(msgspec.Struct, frozen=True, kw_only=True):
    """What went, or would go: files and bytes, worlds by name, ports and memory that are free now. ``backup`` is the
    time and ``backup_id`` the id of the backup that stays. ``other_files`` are not in it, since Rhizon did not place
    them and they are no settings: they are in the zip ``archive``."""

    folder: str
    name: str
    planned: bool
    files: int
    size: int
    worlds: tuple[str, ...]
    memory_mib: int
    ports: dict[str, int]
    other_files: tuple[str, ...]
    backup_id: str
    backup: str
    archive: str


def delete(
    host: Host, folder: Path, reporter: Reporter, *, stop_first: bool = False, dry_run: bool = False
) -> DeleteResult:
    """Backs the server up, reads that back, and removes its folder: renamed away first, so that it is there whole or
    not at all. Raises :class:`~rhizon.core.errors.StateError` (it runs, no room for the backup), TrustError (the backup
    is not sound; nothing was removed)."""
    home = host.home(folder).required()
    state = require_instance_state(host, home)
    others = other_files(state)
    files = [one for one in home.folder.rglob("*") if one.is_file() and not one.is_symlink()]
    with home.inside() as inside:
        worlds = tuple(one.rpartition("/")[2] for one in world_units(inside, state.game.world))
    plan = DeleteResult(
        folder=str(home.folder),
        name=state.instance.name,
        planned=dry_run,
        files=len(files),
        size=sum(one.stat().st_size for one in files),
        worlds=worlds,
        memory_mib=state.instance.heap_mib + state.game.memory.outside_heap_mib,
        ports=state.instance.ports,
        other_files=tuple(others),
        backup_id="",
        backup="",
        archive="",
    )
    if dry_run:
        return plan
    remove_left_over(home.folder.parent)
    with exclusive(host, home, reporter):
        require_stopped(host, home, reporter, stop_first=stop_first)
        backup = back_up_before(host, state, reporter, "before: delete")
        seen = verify_backup(host, home.folder, Sought(when=backup.when), reporter)
        if seen.damaged:
            raise TrustError(
                "backup-damaged",
                f"the backup of {backup.when} is damaged; nothing was removed",
                hint="Check that disk.",
            )
        archive = _archived(host, home, f"{home.instance().name}-{backup.when}", others, reporter)
        if read_opened(home):
            with contextlib.suppress(RhizonError):  # a router that does not answer forgets them when the lease ends
                close_ports(host, home.folder, reporter, dry_run=False)
        reporter.step(f"removing {home.folder}")
        with translated("remove the server", home.folder):
            away = rename_away(home.folder)
    with open_ledger(host, write=True) as ledger, ledger.claim():
        ledger.drop(str(home.folder))
    remove_renamed(away)
    reporter.done(f"removed {home.folder}")
    return msgspec.structs.replace(plan, backup_id=backup.id, backup=backup.when, archive=archive)


def _archived(host: Host, home: InstanceFolder, name: str, others: Sequence[str], reporter: Reporter) -> str:
    """A zip of files that no backup has; "" where there are none. Raises StateError (no room)."""
    if not others:
        return ""
    path = host.places.deleted / f"{name}.zip"
    reporter.step(f"keeping {counted(len(others), 'other file')}")
    make_folders(path.parent, 0o700)
    with translated("keep other files", path), home.inside() as inside:
        coming = path.with_suffix(".coming")
        with zipfile.ZipFile(coming, "w", zipfile.ZIP_DEFLATED, strict_timestamps=False) as archive:
            for one in others:
                handle = inside.open_read(one)
                stat = os.fstat(handle)
                entry = zipfile.ZipInfo(one, time.localtime(max(stat.st_mtime, EARLIEST))[:6])
                entry.external_attr = (stat.st_mode & 0xFFFF) << 16
                entry.compress_type = zipfile.ZIP_DEFLATED
                with os.fdopen(handle, "rb") as source, archive.open(entry, "w", force_zip64=True) as target:
                    shutil.copyfileobj(source, target, 1 << 20)
        with coming.open("rb") as written:
            os.fsync(written.fileno())
        coming.replace(path)
        sync_folder(path.parent)
    return str(path)
