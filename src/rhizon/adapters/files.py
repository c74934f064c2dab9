"""Files: the one atomic writer, hashing, stamps, and errors of the system in our words.

A stamp is the modification time of a file that Rhizon put somewhere: its part below a second, in steps of 100 ns, is
taken from the SHA-256 of the bytes. Whatever writes to the file later sets another time, so that a file with the right
size and stamp need not be read to be known (a chance of one in ten million; where a file system keeps no such times
every file is read). Only `--full` and ``store verify`` look for bytes that changed by themselves.
"""

import contextlib
import errno
import hashlib
import os
import shutil
import stat
import tempfile
import time
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path

from rhizon.core.errors import InputError, StateError
from rhizon.core.names import RelPath, plain

__all__ = [
    "free_bytes",
    "has_stamp",
    "hash_file",
    "hash_present",
    "read_bytes",
    "remove_tree",
    "stamp",
    "sync_folder",
    "translated",
    "write_atomic",
]

LARGEST_READ = 512 << 20


@contextlib.contextmanager
def translated(what: str, path: Path) -> Iterator[None]:
    """Turns an OSError inside into a :class:`StateError` that says what could not be done where."""
    try:
        yield
    except OSError as broken:
        raise _state_error(broken, what, path) from broken


def _state_error(broken: OSError, what: str, path: Path) -> StateError:
    shown = plain(str(broken.filename or path), 300)
    if broken.errno in (errno.ENOSPC, errno.EDQUOT):
        return StateError(
            "disk-full",
            f"there is no room to {what}: {shown}",
            details=[broken.strerror or ""],
            hint="Free some space (or inodes) on that file system and run the same command again.",
        )
    if broken.errno in (errno.EACCES, errno.EPERM, errno.EROFS):
        return StateError(
            "not-allowed",
            f"the system does not allow to {what}: {shown}",
            details=[broken.strerror or ""],
            hint="Check the owner and the mode of that folder, or choose another one.",
        )
    return StateError(
        "file-trouble",
        f"it was not possible to {what}: {shown}",
        details=[broken.strerror or str(broken)],
        hint="Look at that path; run the same command again when it is mended.",
    )


def read_bytes(path: Path, what: str, most: int = LARGEST_READ) -> bytes:
    """A file that a person named or that we keep; :class:`InputError` when it is not to be had."""
    try:
        with path.open("rb") as file:
            data = file.read(most + 1)
    except FileNotFoundError:
        raise InputError(
            "no-such-file", f"there is no {what} at {path}", hint="Check the path; relative ones count from here."
        ) from None
    except IsADirectoryError:
        raise InputError("not-a-file", f"{path} is a folder, a {what} is a file", hint="Name the file in it.") from None
    except OSError as broken:
        raise InputError(
            "unreadable", f"{path} cannot be read: {broken.strerror}", hint="Check its owner and mode."
        ) from None
    if len(data) > most:
        raise InputError("too-large", f"{path} is larger than {most} bytes", hint=f"Is it really a {what}?")
    return data


def write_atomic(path: Path, data: bytes, mode: int = 0o644, *, room: Path | None = None) -> None:
    """Replaces a file in one step: a neighbour is written, flushed and renamed, then the folder is flushed.

    A reader sees the old bytes or the new ones, also after a crash. Raises OSError; the old file is then
    as it was. Whoever is killed leaves the neighbour behind: ``room`` is a folder on the same file system to write it
    in instead, of which somebody clears what is left.
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    handle, name = tempfile.mkstemp(prefix=f".{path.name}.", dir=room or path.parent)
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        Path(name).chmod(mode)
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


def _fraction(sha256: str) -> int:
    return int(sha256[:12], 16) % 10_000_000 * 100


def stamp(path: str | Path, sha256: str) -> None:
    """Marks a file as holding those bytes since now. OSError where the file is somebody else's."""
    at = int(time.time()) * 1_000_000_000 + _fraction(sha256)
    os.utime(path, ns=(at, at))


def has_stamp(facts: os.stat_result, sha256: str) -> bool:
    """Whether nothing wrote to the file since it was stamped for those bytes."""
    return facts.st_mtime_ns % 1_000_000_000 == _fraction(sha256)


def hash_present(
    folder: Path, paths: Iterable[RelPath], known: Mapping[str, tuple[str, int]] | None = None
) -> dict[RelPath, str]:
    """The hashes of those paths that are files; anything else in the place of a file is a StateError.

    ``known`` has the hash and size in bytes of files that Rhizon placed: one that still bears the stamp is not read.
    """
    present = {}
    root = str(folder)
    for relative in paths:
        path = f"{root}/{relative}"
        try:
            facts = os.lstat(path)
        except (FileNotFoundError, NotADirectoryError):
            continue
        if not stat.S_ISREG(facts.st_mode):
            raise StateError(
                "file-in-the-way",
                f"{path} is not an ordinary file",
                hint="Move it elsewhere; Rhizon follows no links inside an instance.",
            )
        sha256, size = known.get(relative, ("", -1)) if known else ("", -1)
        stamped = size == facts.st_size and has_stamp(facts, sha256)
        present[relative] = sha256 if stamped else hash_file(Path(path))[0]
    return present


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
