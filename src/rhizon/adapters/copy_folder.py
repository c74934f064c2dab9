"""Copying a folder of ordinary files whole into an instance: beside its place first, then into it by one rename."""

import os
import stat
from collections.abc import Callable, Iterator
from pathlib import Path

from rhizon.adapters.files import translated
from rhizon.adapters.inside import Inside, write_all
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
                    hint="Put the file itself there; links are not followed when copying.",
                )
            yield path, facts


def size_of(folder: Path) -> tuple[int, int]:
    """How many files, and bytes in all. Raises InputError for links and devices, StateError for what cannot be read."""
    sizes = [facts.st_size for _, facts in _files(folder) if stat.S_ISREG(facts.st_mode)]
    return len(sizes), sum(sizes)


def copy_folder(
    source: Path, inside: Inside, place: str, beside: str, tell: Callable[[float], None] = lambda _part: None
) -> None:
    """Copies ``source`` to the path ``place`` of an instance, where nothing must be yet; ``beside`` is a path on the
    same disk for the copy while it is made. Killed at any moment, ``place`` is there whole or not at all. Raises as
    :func:`size_of`, and what ``tell`` raises."""
    total = size_of(source)[1]
    done = 0
    with translated("copy the folder", inside.root / place):
        inside.remove(beside)
        inside.make_folder(beside)
        owner = inside.owner_at(f"{beside}/x")
        for path, facts in _files(source):
            there = f"{beside}/{path.relative_to(source).as_posix()}"
            if stat.S_ISDIR(facts.st_mode):
                inside.make_folder(there)
                continue
            handle = os.open(path, os.O_RDONLY | getattr(os, "O_NOFOLLOW", 0))
            mode = 0o755 if facts.st_mode & 0o100 else 0o644
            with os.fdopen(handle, "rb") as old, inside.new_file(there, mode, owner) as new:
                while chunk := old.read(1 << 20):
                    write_all(new, chunk)
            done += facts.st_size
            tell(done / max(total, 1))
        inside.rename(beside, place)
        inside.sync(place.rpartition("/")[0])
