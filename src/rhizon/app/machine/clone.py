"""A second server like one that is there, with ports and a name of its own."""

import re
from pathlib import Path

import msgspec

from rhizon.adapters.files import copy_shared, translated
from rhizon.app.host import Host
from rhizon.app.instance.exclusive import exclusive
from rhizon.app.instance.other_files import other_files
from rhizon.app.instance.state import require_instance_state
from rhizon.app.keep.backup import back_up_before
from rhizon.app.keep.find_backup import Sought
from rhizon.app.keep.restore import RestoreWishes, restore
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError
from rhizon.core.names import ID_PATTERN

__all__ = ["CloneResult", "clone"]


class CloneResult(msgspec.Struct, frozen=True, kw_only=True):
    """The new server: its folder, name and ports; ``world`` whether it has a copy of the world; ``backup`` the backup
    that it was made from."""

    folder: str
    name: str
    of: str
    planned: bool
    ports: dict[str, int]
    world: bool
    backup: str


def clone(
    host: Host, folder: Path, new: Path, reporter: Reporter, *, without_world: bool = False, dry_run: bool = False
) -> CloneResult:
    """Backs the server up (also while it runs, as ``rhizon backup`` does) and makes another one of that: what Rhizon
    placed comes from the store, settings and world from the backup, all other files from the folder.

    Raises InputError (a folder that is there), :class:`~rhizon.core.errors.StateError`."""
    home = host.home(folder).required()
    state = require_instance_state(host, home)
    target = new if new.is_absolute() or len(new.parts) > 1 else home.folder.parent / new
    if target.exists() and not _is_rest(host, target):
        raise InputError("folder-exists", f"{target} is there already", hint="Name a new folder.")
    name = target.name if _is_name(target.name) else None
    if dry_run:
        return CloneResult(
            folder=str(target),
            name=name or "",
            of=state.instance.name,
            planned=True,
            ports={},
            world=not without_world,
            backup="",
        )
    with exclusive(host, home, reporter):
        backup = back_up_before(host, state, reporter, f"clone to {target.name}")
    sought = Sought(of=backup.id, when=backup.when)
    wishes = RestoreWishes(sought=sought, name=name, without_world=without_world)
    made = restore(host, target, reporter, wishes)
    with translated("copy other files", target):
        for one in other_files(state):  # put there by hand, or by the server for itself
            if not (target / one).exists():
                (target / one).parent.mkdir(parents=True, exist_ok=True)
                copy_shared(home.folder / one, target / one)
    return CloneResult(
        folder=made.folder,
        name=made.name,
        of=state.instance.name,
        planned=False,
        ports=host.home(target).instance().ports,
        world=not without_world,
        backup=backup.when,
    )


def _is_rest(host: Host, target: Path) -> bool:
    """Whether a clone that was killed left it: records of its change, and nothing else."""
    return target.is_dir() and all(one.name == ".rhizon" for one in target.iterdir()) and not host.home(target).is_ours


def _is_name(text: str) -> bool:
    return re.fullmatch(ID_PATTERN, text) is not None
