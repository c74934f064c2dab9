"""The content-addressed store: one file for each SHA-256, written whole or not at all, then read-only."""

import contextlib
import hashlib
import io
import os
import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

from rhizon.adapters.files import hash_file, make_folders, share_blocks, translated
from rhizon.adapters.inside import Inside, Owner, give_like_folder, write_all
from rhizon.adapters.verified import Verified
from rhizon.core.errors import TrustError
from rhizon.core.plan import WantedFile

__all__ = ["Entry", "Incoming", "Store"]


class Entry(NamedTuple):
    """A file in the store: its name is its SHA-256. ``since`` is when it came (seconds of the clock), ``links`` how
    many instances have it by hard link."""

    name: str
    size: int
    since: float
    links: int


class Incoming:
    """A file that is coming into the store. ``resumes`` says whether it may hold what came earlier."""

    def __init__(self, file: io.FileIO, resumes: bool) -> None:
        self.file = file
        self.resumes = resumes
        self.kept = False

    def write(self, data: bytes) -> None:
        """Raises StateError where there is no room."""
        with translated("write into the store", Path(str(self.file.name))):
            view = memoryview(data)
            while view:
                view = view[self.file.write(view) :]

    def read_all(self) -> Iterator[bytes]:
        """What is in it already, from its beginning."""
        self.file.seek(0)
        while chunk := self.file.read(1 << 20):
            yield chunk

    def clear(self) -> None:
        """Nothing of it is used."""
        self.file.seek(0)
        self.file.truncate()


class Store:
    """``root/ab/abcdef...``; safe with several commands at once, since a name is its content."""

    def __init__(self, root: Path) -> None:
        self._root = root
        self._made: set[str] = set()
        self.verified = Verified(root / "verified.sqlite3")

    def path(self, sha256: str) -> Path:
        """Where the bytes are or would be."""
        return self._root / sha256[:2] / sha256

    def has(self, sha256: str, size: int) -> bool:
        """Whether the bytes are there and are those of the hash; they are read where that is not known."""
        try:
            facts = self.path(sha256).stat()
            if facts.st_size != size:
                return False
            known = self.verified.sha256_of(facts)
            if known is None:
                known = hash_file(self.path(sha256))[0]
                self.verified.note(facts, known)
        except OSError:
            return False
        return known == sha256

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
        with translated("remove a file from the store", path):
            path.unlink(missing_ok=True)

    @contextmanager
    def incoming(self, sha256: str | None = None) -> Iterator[Incoming]:
        """A temporary file in the store; gone at the end unless :meth:`keep` took it.

        With ``sha256`` it may hold what came of that file earlier, and it stays when less than all came. Two commands
        never write into one: the second gets another.
        """
        with translated("write into the store", self._root):
            make_folders(self._root)
            file = self._partial(sha256) if sha256 is not None else None
            partial = file is not None
            if file is None:
                name = f"incoming-{os.getpid()}-{secrets.token_hex(6)}"
                file = open(self._root / name, "xb", buffering=0)  # noqa: PTH123, SIM115 - few calls for many files
        incoming = Incoming(file, partial)
        try:
            yield incoming
        finally:
            if not incoming.kept and (not partial or os.fstat(file.fileno()).st_size == 0):
                Path(str(file.name)).unlink(missing_ok=True)
            file.close()

    def _partial(self, sha256: str) -> io.FileIO | None:
        """The file that a transfer is taken up in; None where another command writes it, or where files cannot be
        locked."""
        try:
            import fcntl
        except ImportError:
            return None
        file = open(self._root / f"incoming-{sha256}", "a+b", buffering=0)  # noqa: PTH123, SIM115
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            file.close()
            return None
        return file

    def keep(self, incoming: Incoming, sha256: str) -> None:
        """Moves a finished incoming file, whose hash the caller has checked, to its place."""
        target = self.path(sha256)
        name = incoming.file.name
        with translated("write into the store", target):
            os.fsync(incoming.file.fileno())
            if target.parent.name not in self._made:
                make_folders(target.parent)
                self._made.add(target.parent.name)
            os.chmod(name, 0o444)  # noqa: PTH101
            give_like_folder(Path(str(name)))
            os.replace(name, target)  # noqa: PTH105
            incoming.kept = True
            self.verified.note(os.fstat(incoming.file.fileno()), sha256)

    def add(self, data: bytes) -> str:
        """Puts bytes into the store and answers their hash."""
        sha256 = hashlib.sha256(data).hexdigest()
        if not self.has(sha256, len(data)):
            with self.incoming() as incoming:
                incoming.write(data)
                self.keep(incoming, sha256)
        return sha256

    def read(self, sha256: str, what: str) -> bytes:
        """Verified bytes; a damaged file is taken out of the store and raises :class:`TrustError`."""
        path = self.path(sha256)
        with translated("read from the store", path):
            data = path.read_bytes()
        if hashlib.sha256(data).hexdigest() != sha256:
            raise self._damaged(path, what)
        return data

    def lay_out(
        self, wanted: WantedFile, inside: Inside, target: str, *, mode: int | None = None, owner: Owner | None = None
    ) -> None:
        """Puts a file at ``target`` in an instance, where nothing is yet: as a hard link where no one writes to it and
        the file system can, else by sharing blocks where it can, else as a copy, hashed while it is made. ``mode`` and
        ``owner`` are those that it has to have, None where the usual ones will do.

        Raises :class:`TrustError` for a file that is damaged (it is then gone from the store) or not there.
        """
        path, sha256 = self.path(wanted.sha256), wanted.sha256
        if not self.has(sha256, wanted.size):
            raise self._damaged(path, wanted.origin)
        facts = os.stat(path)  # noqa: PTH116
        if wanted.linked and not wanted.executable and mode is None and (owner is None or owner.uid == facts.st_uid):
            with contextlib.suppress(OSError, NotImplementedError):
                inside.link_from(str(path), target)
                self.verified.renew(facts, os.stat(path), sha256)  # noqa: PTH116
                return
        usual = 0o755 if wanted.executable else 0o644
        with inside.new_file(target, mode if mode is not None else usual, owner) as copy:
            if _copy(path, copy, sha256) != sha256:
                raise self._damaged(path, wanted.origin)
        made = inside.lstat(target)
        if made is not None:
            self.verified.note(made, sha256)

    def _damaged(self, path: Path, what: str) -> TrustError:
        path.unlink(missing_ok=True)
        return TrustError(
            "store-damaged",
            f"{what} was damaged in the store; the damaged copy was removed",
            hint="Run the same command again; it is fetched again.",
        )


def _copy(path: Path, copy: int, sha256: str) -> str:
    """Copies a file and answers the hash of what was copied (taken on trust where blocks are shared)."""
    with path.open("rb") as source:
        if share_blocks(source.fileno(), copy):
            return sha256
        digest = hashlib.sha256()
        while chunk := source.read(1 << 20):
            digest.update(chunk)
            write_all(copy, chunk)
        return digest.hexdigest()
