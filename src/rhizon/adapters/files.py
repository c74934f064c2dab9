"""Files outside instances: the one atomic writer, hashing, and errors of the system in our words. What is in an
instance is changed by :mod:`rhizon.adapters.inside` alone."""

import contextlib
import errno
import hashlib
import os
import shutil
import stat
import tempfile
from collections.abc import Iterator
from pathlib import Path

from rhizon.adapters.inside import give_like_folder
from rhizon.core.errors import InputError, StateError
from rhizon.core.names import printable

__all__ = [
    "BytesOnDemand",
    "FileBytes",
    "copy_shared",
    "free_bytes",
    "hash_file",
    "hash_handle",
    "make_folders",
    "read_bytes",
    "remove_tree",
    "share_blocks",
    "sync_folder",
    "translated",
    "write_atomic",
]

LARGEST_READ = 512 << 20
_FICLONE = 0x40049409  # of linux/fs.h


@contextlib.contextmanager
def translated(what: str, path: Path) -> Iterator[None]:
    """Turns an OSError inside into a :class:`StateError` that says what could not be done where."""
    try:
        yield
    except OSError as broken:
        raise _state_error(broken, what, path) from broken


def _state_error(broken: OSError, what: str, path: Path) -> StateError:
    """The error of the system as one of ours: no space, no permission, or another one."""
    shown = printable(str(broken.filename or path), 300)
    if broken.errno in (errno.ENOSPC, errno.EDQUOT):
        return StateError(
            "disk-full",
            f"no space left: cannot {what}: {shown}",
            details=[broken.strerror or ""],
            hint="Free some space (or inodes) on that file system, then run the same command again.",
        )
    if broken.errno in (errno.EACCES, errno.EPERM, errno.EROFS):
        return StateError(
            "not-allowed",
            f"permission denied: cannot {what}: {shown}",
            details=[broken.strerror or ""],
            hint="Check the owner and the mode of that folder, or choose another one.",
        )
    return StateError(
        "file-trouble",
        f"could not {what}: {shown}",
        details=[broken.strerror or str(broken)],
        hint="Check that path; once it is fixed, run the same command again.",
    )


def read_bytes(path: Path, what: str, most: int = LARGEST_READ, *, pipes: bool = False) -> bytes:
    """A file that a person named or that we keep; :class:`InputError` when it is not available. What is not an ordinary
    file (a device, a socket) is refused; a pipe too unless ``pipes``, since it may never end."""
    try:
        if not pipes and not stat.S_ISREG(path.stat().st_mode) and not path.is_dir():
            raise InputError(
                "not-a-file",
                f"{path} is not an ordinary file",
                hint=f"Name a file; a {what} is not read from a device.",
            )
        with path.open("rb") as file:
            data = file.read(most + 1)
    except FileNotFoundError:
        raise InputError("no-such-file", f"there is no {what} at {path}", hint="Check the path.") from None
    except IsADirectoryError:
        raise InputError(
            "not-a-file", f"{path} is a folder, but a {what} is a file", hint="Name the file in it."
        ) from None
    except OSError as broken:
        raise InputError(
            "unreadable", f"{path} cannot be read: {broken.strerror}", hint="Check its owner and mode."
        ) from None
    if len(data) > most:
        raise InputError("too-large", f"{path} is larger than {most} bytes", hint=f"Check that it is a {what}.")
    return data


def make_folders(folder: Path, mode: int = 0o777) -> None:
    """Makes a folder and those above it; as administrator each belongs to the owner of the one that it is in."""
    if folder.is_dir():
        return
    if folder.parent != folder:
        make_folders(folder.parent, mode)
    try:
        folder.mkdir(mode)
    except FileExistsError:
        if not folder.is_dir():
            raise
        return
    give_like_folder(folder)


def write_atomic(path: Path, data: bytes, mode: int = 0o644) -> None:
    """Replaces a file in one step: a neighbour is written, flushed and renamed, then the folder is flushed.

    A reader sees the old bytes or the new ones, also after a crash. Raises OSError; the old file is then
    as it was.
    """
    make_folders(path.parent)
    handle, name = tempfile.mkstemp(prefix=f".{path.name}.", dir=path.parent)
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        Path(name).chmod(mode)
        give_like_folder(Path(name))
        Path(name).replace(path)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise
    sync_folder(path.parent)


def sync_folder(folder: Path) -> None:
    """Makes renames in a folder last; systems that cannot open folders do it by themselves."""
    try:
        handle = os.open(folder, os.O_RDONLY)
    except OSError:
        return
    try:
        os.fsync(handle)
    except OSError:
        pass  # some network file systems refuse it
    finally:
        os.close(handle)


def hash_file(path: Path) -> tuple[str, int]:
    """SHA-256 in hexadecimal, and the size in bytes."""
    with path.open("rb") as file:
        digest = hashlib.file_digest(file, "sha256")
        return digest.hexdigest(), file.tell()


def hash_handle(handle: int) -> str:
    """SHA-256 in hexadecimal of an open file, which is closed."""
    with os.fdopen(handle, "rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def remove_tree(folder: Path) -> None:
    """Deletes a folder of ours, whatever modes its folders have."""
    if not folder.exists():
        return
    folder.chmod(0o700)
    for parent, children, _ in os.walk(folder):
        for child in children:  # before it is walked into
            path = Path(parent) / child
            if not path.is_symlink():
                path.chmod(0o700)
    shutil.rmtree(folder)


def free_bytes(folder: Path) -> int:
    """Free space where ``folder`` is or would be."""
    while not folder.exists():
        folder = folder.parent
    return shutil.disk_usage(folder).free


class BytesOnDemand:
    """A file's bytes by position, opened anew for each read: for many files at once, of which few are read. Raises
    OSError."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self.size = path.stat().st_size

    def read_at(self, offset: int, count: int) -> bytes:
        """At most ``count`` bytes from ``offset`` on."""
        with self._path.open("rb", buffering=0) as file:
            file.seek(offset)
            return file.read(max(min(count, self.size - offset), 0))


class FileBytes:
    """A file's bytes by position, for readers that need few of them; a context manager. Raises InputError for what is
    no ordinary file."""

    def __init__(self, path: Path) -> None:
        handle = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0))
        facts = os.fstat(handle)
        if not stat.S_ISREG(facts.st_mode):
            os.close(handle)
            raise InputError("not-a-file", f"{path} is not an ordinary file", hint="Name the file itself.")
        self._file = os.fdopen(handle, "rb", buffering=0)
        self.size = facts.st_size

    def __enter__(self) -> "FileBytes":
        return self

    def __exit__(self, *_: object) -> None:
        self._file.close()

    def read_at(self, offset: int, count: int) -> bytes:
        """At most ``count`` bytes from ``offset`` on."""
        if hasattr(os, "pread"):
            return os.pread(self._file.fileno(), max(min(count, self.size - offset), 0), offset)
        self._file.seek(offset)
        return self._file.read(count)


def share_blocks(source: int, target: int) -> bool:
    """Makes an empty file (``target``, a handle) a copy of another that shares its blocks until one of the two is
    written to. False where the file system cannot (ioctl_ficlone(2); xfs, btrfs can)."""
    try:
        import fcntl

        fcntl.ioctl(target, _FICLONE, source)
    except (ImportError, OSError):
        return False
    return True


def copy_shared(source: Path, target: Path) -> None:
    """Copies an ordinary file with its mode and times, by shared blocks where the file system can. A link is copied as
    a link; sockets, FIFOs and devices hold no data and are left out. Raises OSError."""
    if source.is_symlink():
        target.symlink_to(source.readlink())
        return
    if not source.is_file():
        return
    with source.open("rb") as old, target.open("xb") as new:
        if not share_blocks(old.fileno(), new.fileno()):
            shutil.copyfileobj(old, new, 1 << 20)
    shutil.copystat(source, target)
