"""The content-addressed store: one file for each SHA-256, written whole or not at all, then read-only."""

import contextlib
import hashlib
import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO, NamedTuple

from rhizon.adapters.files import has_stamp, hash_file, stamp, translated
from rhizon.core.errors import TrustError

__all__ = ["Entry", "Store"]

_FICLONE = 0x40049409


class Entry(NamedTuple):
    """A file in the store: its name is its SHA-256. ``since`` is when it came (seconds of the clock), ``links`` how
    many instances have it by hard link."""

    name: str
    size: int
    since: float
    links: int


class Store:
    """``root/ab/abcdef...``; safe with several commands at once, since a name is its content."""

    def __init__(self, root: Path) -> None:
        self._root = root

    def path(self, sha256: str) -> Path:
        """Where the bytes lie or would lie."""
        return self._root / sha256[:2] / sha256

    def has(self, sha256: str, size: int) -> bool:
        """Whether the bytes are there, by name and size."""
        try:
            return self.path(sha256).stat().st_size == size
        except OSError:
            return False

    def entries(self) -> Iterator[Entry]:
        """Every file in the store; one that goes away meanwhile is passed over."""
        for folder in sorted(self._root.glob("[0-9a-f][0-9a-f]")):
            for file in sorted(folder.iterdir()):
                with contextlib.suppress(OSError):
                    facts = file.stat()
                    yield Entry(file.name, facts.st_size, facts.st_mtime, facts.st_nlink - 1)

    def left_over(self) -> Iterator[Entry]:
        """Files that were coming in when a command was killed, or still are."""
        for file in sorted(self._root.glob("incoming-*")):
            with contextlib.suppress(OSError):
                facts = file.stat()
                yield Entry(file.name, facts.st_size, facts.st_mtime, 0)

    def sound(self, sha256: str) -> bool:
        """Whether the bytes are those of the name; True for a file that is gone."""
        try:
            return hash_file(self.path(sha256))[0] == sha256
        except FileNotFoundError:
            return True

    def drop(self, name: str) -> None:
        """Takes a file (by its hash) or a left-over one (by its name) out of the store."""
        path = self._root / name if name.startswith("incoming-") else self.path(name)
        with translated("take a file out of the store", path):
            path.unlink(missing_ok=True)

    @contextmanager
    def incoming(self, sha256: str | None = None) -> Iterator[IO[bytes]]:
        """A temporary file in the store; gone at the end unless :meth:`keep` took it.

        With ``sha256`` it may hold what came of that file earlier, and it stays when less than all came. Two commands
        never write into one: the second gets another.
        """
        with translated("write into the store", self._root):
            self._root.mkdir(parents=True, exist_ok=True)
            file = self._partial(sha256) if sha256 is not None else None
            partial = file is not None
            if file is None:
                file = tempfile.NamedTemporaryFile(dir=self._root, prefix="incoming-", delete=False)  # noqa: SIM115
        try:
            yield file
        finally:
            with contextlib.suppress(OSError):
                file.flush()
            if not partial or os.fstat(file.fileno()).st_size == 0:
                Path(file.name).unlink(missing_ok=True)
            file.close()

    def _partial(self, sha256: str) -> IO[bytes] | None:
        """The file that a transfer is taken up in; None where another command writes it, or where files cannot be
        locked."""
        try:
            import fcntl
        except ImportError:
            return None
        file = (self._root / f"incoming-{sha256}").open("a+b")
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            file.close()
            return None
        return file

    def keep(self, file: IO[bytes], sha256: str) -> None:
        """Moves a finished incoming file, whose hash the caller has checked, to its place."""
        target = self.path(sha256)
        with translated("write into the store", target):
            file.flush()
            os.fsync(file.fileno())
            target.parent.mkdir(exist_ok=True)
            Path(file.name).chmod(0o444)
            stamp(file.name, sha256)
            Path(file.name).replace(target)

    def add(self, data: bytes) -> str:
        """Puts bytes into the store and answers their hash."""
        sha256 = hashlib.sha256(data).hexdigest()
        if not self.has(sha256, len(data)):
            with self.incoming() as file:
                with translated("write into the store", self._root):
                    file.write(data)
                self.keep(file, sha256)
        return sha256

    def read(self, sha256: str, what: str) -> bytes:
        """Verified bytes; a damaged file is taken out of the store and raises :class:`TrustError`."""
        path = self.path(sha256)
        with translated("read from the store", path):
            data = path.read_bytes()
        if hashlib.sha256(data).hexdigest() != sha256:
            raise self._damaged(path, what)
        return data

    def lay_out(self, sha256: str, target: str, *, link: bool, executable: bool, what: str) -> None:
        """Puts the bytes at ``target``, which is not there yet, stamped: as a hard link where ``link`` allows it and
        the file system can, else by sharing blocks where it can, else as a copy.

        Raises :class:`TrustError` for a file that is damaged (it is then gone) or not there.
        """
        path = str(self.path(sha256))
        try:
            facts = os.stat(path)  # noqa: PTH116 - five hundred of them are to cost next to nothing
        except FileNotFoundError:
            raise self._damaged(Path(path), what) from None
        if not has_stamp(facts, sha256):
            if hash_file(Path(path))[0] != sha256:
                raise self._damaged(Path(path), what)
            with contextlib.suppress(OSError):
                stamp(path, sha256)
        if link and not executable:
            with contextlib.suppress(OSError):
                os.link(path, target)
                return
        found = _copy(path, target, sha256, 0o755 if executable else 0o644)
        if found != sha256:
            os.unlink(target)  # noqa: PTH108
            raise self._damaged(Path(path), what)

    def _damaged(self, path: Path, what: str) -> TrustError:
        path.unlink(missing_ok=True)
        return TrustError(
            "store-damaged",
            f"{what} was damaged in the store; the damaged copy is gone",
            hint="Run the same command again: it is fetched anew.",
        )


def _copy(path: str, target: str, sha256: str, mode: int) -> str:
    """Copies a file and answers the hash of what was copied (taken on trust where blocks are shared)."""
    with open(path, "rb") as source, open(target, "xb") as copy:  # noqa: PTH123
        found = sha256
        if not _share_blocks(source.fileno(), copy.fileno()):
            digest = hashlib.sha256()
            while chunk := source.read(1 << 20):
                digest.update(chunk)
                copy.write(chunk)
            copy.flush()
            found = digest.hexdigest()
        os.fsync(copy.fileno())
    Path(target).chmod(mode)
    stamp(target, sha256)
    return found


def _share_blocks(source: int, target: int) -> bool:
    """A copy that shares its blocks until one of the two is written to (ioctl_ficlone(2); xfs, btrfs)."""
    try:
        import fcntl

        fcntl.ioctl(target, _FICLONE, source)
    except (ImportError, OSError):
        return False
    return True
