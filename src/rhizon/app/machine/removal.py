"""Removing a server's folder: renamed away first, so that it is there whole or not at all."""

import contextlib
import os
import re
from pathlib import Path

from rhizon.adapters.files import remove_tree, translated
from rhizon.adapters.transact import RHIZON

__all__ = ["remove_left_over", "remove_renamed", "rename_away"]

_NAME = re.compile(r"\.(?P<name>.+)-removed-(?P<pid>\d{1,10})")


def rename_away(folder: Path) -> Path:
    """Gives the folder a hidden name beside it, which says whose removal it is. Raises OSError."""
    away = folder.with_name(f".{folder.name}-removed-{os.getpid()}")
    folder.rename(away)
    return away


def remove_renamed(away: Path) -> None:
    """Removes it; Rhizon's own records last, so that what is left of a removal that was killed can be told. Raises
    StateError."""
    with translated("remove the server", away):
        for one in list(away.iterdir()):
            if one.is_dir() and not one.is_symlink():
                if one.name != RHIZON:
                    remove_tree(one)
            else:
                one.unlink()
        remove_tree(away)


def remove_left_over(parent: Path) -> None:
    """Ends removals in a folder whose commands were killed."""
    with contextlib.suppress(OSError):
        for one in list(parent.iterdir()):
            match = _NAME.fullmatch(one.name)
            if match is not None and (one / RHIZON).is_dir() and not _is_there(int(match["pid"])):
                remove_renamed(one)


def _is_there(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except (OSError, OverflowError):
        return True
    return True
