"""Copying a folder of ordinary files whole: beside its place first, then into it by one rename."""

import os
import shutil
import stat
from collections.abc import Callable, Iterator
from pathlib import Path

from rhizon.adapters.files import remove_tree, sync_folder, translated
from rhizon.core.errors import InputError

__all__ = ["copy_folder", "size_of"]


def _files(folder: Path) -> Iterator[tuple[Path, os.stat_result]]:
    with translated("read the folder", folder):
        for path in sorted(folder.rglob("*")):
            facts = path.lstat()
            if not (stat.S_ISDIR(facts.st_mode) or stat.S_ISREG(facts.st_mode)):
                raise InputError(
                    "not-ordinary",
                    f"{path} is a link or a device, not an ordinary file",
                    hint="Put the file itself there: what lies behind a link is not copied.",
                )
            yield path, facts


def size_of(folder: Path) -> tuple[int, int]:
    """How many files, and bytes in all. Raises InputError for links and devices, StateError for what cannot be read."""
    sizes = [facts.st_size for _, facts in _files(folder) if stat.S_ISREG(facts.st_mode)]
    return len(sizes), sum(sizes)


def copy_folder(source: Path, place: Path, beside: Path, tell: Callable[[float], None] = lambda _part: None) -> None:
    """Copies ``source`` to ``place``, which must not be there yet; ``beside`` is a folder on the same disk for the copy
    while it is made. Killed at any moment, ``place`` is there whole or not at all. Raises as :func:`size_of`."""
    total = size_of(source)[1]
    done = 0
    with translated("copy the folder", place):
        if beside.exists():
            remove_tree(beside)
        beside.mkdir(parents=True)
        for path, facts in _files(source):
            there = beside / path.relative_to(source)
            if stat.S_ISDIR(facts.st_mode):
                there.mkdir()
                continue
            with path.open("rb") as old, there.open("xb") as new:
                shutil.copyfileobj(old, new, 1 << 20)
                new.flush()
                os.fsync(new.fileno())
            there.chmod(0o755 if facts.st_mode & 0o100 else 0o644)
            done += facts.st_size
            tell(done / max(total, 1))
        place.parent.mkdir(parents=True, exist_ok=True)
        beside.rename(place)
        sync_folder(place.parent)
