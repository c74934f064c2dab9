"""A server away, with a backup of its world that stays."""

import os
import shutil
from pathlib import Path

import msgspec

from rhizon.adapters.files import translated
from rhizon.app.host import Host, open_ledger
from rhizon.app.instance.exclusive import exclusive, require_stopped
from rhizon.app.instance.state import require_instance_state
from rhizon.app.keep.backup import back_up_before
from rhizon.app.keep.find_backup import Sought, verify_backup
from rhizon.app.reporter import Reporter
from rhizon.core.errors import TrustError

__all__ = ["DeleteResult", "delete"]


class DeleteResult(msgspec.Struct, frozen=True, kw_only=True):
    """What went, or would go: files and bytes, worlds by name, ports and memory that are free now. ``backup`` is the
    time and ``backup_id`` the id of the backup that stays."""

    folder: str
    name: str
    planned: bool
    files: int
    size: int
    worlds: tuple[str, ...]
    memory_mib: int
    ports: dict[str, int]
    backup_id: str
    backup: str


def delete(
    host: Host, folder: Path, reporter: Reporter, *, stop_first: bool = False, dry_run: bool = False
) -> DeleteResult:
    """Backs the server up, reads that back, and removes its folder: renamed away first, so that it is there whole or
    not at all. Raises :class:`~rhizon.core.errors.StateError` (it runs, no room for the backup), TrustError (the backup
    is not sound; nothing was removed)."""
    home = host.home(folder).required()
    state = require_instance_state(host, home)
    files = [one for one in home.folder.rglob("*") if one.is_file() and not one.is_symlink()]
    worlds_folder = home.folder / state.game.world.folder
    worlds = tuple(sorted(one.name for one in worlds_folder.iterdir())) if worlds_folder.is_dir() else ()
    plan = DeleteResult(
        folder=str(home.folder),
        name=state.instance.name,
        planned=dry_run,
        files=len(files),
        size=sum(one.stat().st_size for one in files),
        worlds=worlds,
        memory_mib=state.instance.heap_mib + state.game.memory.outside_heap_mib,
        ports=state.instance.ports,
        backup_id="",
        backup="",
    )
    if dry_run:
        return plan
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
        reporter.step(f"removing {home.folder}")
        away = home.folder.with_name(f".{home.folder.name}-deleted-{os.getpid()}")
        with translated("remove the server", home.folder):
            home.folder.rename(away)
    with open_ledger(host, write=True) as ledger, ledger.claim():
        ledger.drop(str(home.folder))
    with translated("remove the server", away):
        shutil.rmtree(away)
    reporter.done(f"removed {home.folder}")
    return msgspec.structs.replace(plan, backup_id=backup.id, backup=backup.when)
