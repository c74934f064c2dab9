"""Looking at a folder in which a server was set up: names, sizes, and the texts of small files. Nothing is changed."""

import os
import stat
from collections.abc import Iterator
from pathlib import Path

from rhizon.adapters.files import read_bytes
from rhizon.core.describe.folder import FileFacts, FolderFacts
from rhizon.core.errors import InputError

__all__ = ["log_lines", "look_at"]

MOST_FILES = 20_000
DEEPEST = 6
SMALL = 256 << 10
HEAD = 64
LARGEST_LOG = 64 << 20


def look_at(folder: Path) -> FolderFacts:
    """What is in a folder; links are not followed, and Rhizon's own is left out. Raises InputError."""
    if not folder.is_dir():
        raise InputError("no-such-folder", f"there is no folder at {folder}", hint="Name the folder of a real server.")
    files: list[FileFacts] = []
    folders: list[str] = []
    for path, one in _below(folder, "", 0):
        if one.is_dir(follow_symlinks=False):
            folders.append(path)
        elif len(files) < MOST_FILES and one.is_file(follow_symlinks=False):
            facts = one.stat(follow_symlinks=False)
            data = _small(Path(one.path), facts.st_size)
            head = data[:HEAD] if data is not None else _head(Path(one.path))
            files.append(FileFacts(path, facts.st_size, bool(facts.st_mode & stat.S_IXUSR), head, data))
    return FolderFacts(tuple(sorted(files, key=lambda one: one.path)), tuple(sorted(folders)))


def _below(folder: Path, prefix: str, depth: int) -> Iterator[tuple[str, "os.DirEntry[str]"]]:
    try:
        entries = sorted(os.scandir(folder), key=lambda one: one.name)
    except OSError:
        return
    for one in entries:
        path = f"{prefix}{one.name}"
        if path == ".rhizon":
            continue
        yield path, one
        if one.is_dir(follow_symlinks=False) and depth < DEEPEST:
            yield from _below(Path(one.path), f"{path}/", depth + 1)


def _small(path: Path, size: int) -> bytes | None:
    """A small text file; None for a large one, one with zero bytes, or one that may not be read."""
    if size > SMALL:
        return None
    try:
        data = path.read_bytes()
    except OSError:
        return None
    return None if b"\0" in data else data


def _head(path: Path) -> bytes:
    try:
        with path.open("rb") as file:
            return file.read(HEAD)
    except OSError:
        return b""


def log_lines(path: Path | None, folder: FolderFacts) -> tuple[list[str], str]:
    """The lines of a log, and its path in the folder where it lies there: the one that is named, else the newest that
    looks like one."""
    if path is not None:
        return read_bytes(path, "log", LARGEST_LOG).decode("utf-8", "replace").splitlines(), ""
    logs = [one for one in folder.files if one.ending == "log" and one.data]
    if not logs:
        return [], ""
    newest = max(logs, key=lambda one: one.path)
    return (newest.data or b"").decode("utf-8", "replace").splitlines(), newest.path
