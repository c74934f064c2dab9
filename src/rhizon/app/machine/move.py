"""A server to another folder, on the same disk or another one."""

import shutil
from pathlib import Path

import msgspec

from rhizon.adapters.files import copy_shared, free_bytes, translated
from rhizon.app.host import Host
from rhizon.app.instance.exclusive import exclusive, require_stopped
from rhizon.app.machine.removal import remove_left_over, remove_renamed, rename_away
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError, StateError
from rhizon.core.units import size_text

__all__ = ["MoveResult", "move"]

COMING = ".rhizon-coming"


class MoveResult(msgspec.Struct, frozen=True, kw_only=True):
    """Where it was and is; ``copied`` where it went to another disk: bytes."""

    folder: str
    name: str
    before: str
    planned: bool
    copied: int


def move(
    host: Host, folder: Path, new: Path, reporter: Reporter, *, stop_first: bool = False, dry_run: bool = False
) -> MoveResult:
    """On the same disk by one rename; to another disk as a copy that takes its place when it is whole, and then the
    old folder is removed. Raises InputError (the folder is there), :class:`StateError` (it runs, no room)."""
    home = host.home(folder).required()
    name, target = home.instance().name, new.absolute()
    if target.exists():
        raise InputError("folder-exists", f"{target} is there already", hint="Name a new folder.")
    if target.is_relative_to(home.folder):
        raise InputError("folder-exists", f"{target} is inside the server's own folder", hint="Name another folder.")
    if not target.parent.is_dir():
        raise InputError("no-such-folder", f"{target.parent} does not exist", hint="Make it first.")
    same_disk = target.parent.stat().st_dev == home.folder.stat().st_dev
    size = 0 if same_disk else sum(one.lstat().st_size for one in home.folder.rglob("*"))
    if size > free_bytes(target.parent):
        raise StateError(
            "disk-full",
            f"the server takes {size_text(size)}, {size_text(free_bytes(target.parent))} free in {target.parent}",
            hint="Free some space there.",
        )
    if dry_run:
        return MoveResult(folder=str(target), name=name, before=str(home.folder), planned=True, copied=size)
    remove_left_over(home.folder.parent)
    with exclusive(host, home, reporter):
        require_stopped(host, home, reporter, stop_first=stop_first)
        reporter.step(f"moving {name}")
        if same_disk:
            with translated("move the server", target):
                home.folder.rename(target)
        else:
            _copied(home.folder, target)
        reporter.done(f"moved to {target}")
    with exclusive(host, host.home(target), reporter):  # the ledger follows
        pass
    return MoveResult(folder=str(target), name=name, before=str(home.folder), planned=False, copied=size)


def _copied(source: Path, target: Path) -> None:
    """A copy beside its place first. Killed before the rename, the old folder is whole; after it, the new one is."""
    coming = target.with_name(f"{COMING}-{target.name}")
    with translated("copy the server", target):
        shutil.rmtree(coming, ignore_errors=True)

        def copied(one: str, place: str) -> str:
            copy_shared(Path(one), Path(place))
            return place

        shutil.copytree(source, coming, symlinks=True, copy_function=copied)
        coming.rename(target)
        remove_renamed(rename_away(source))
