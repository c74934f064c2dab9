"""A backup repository: a folder that any number of instances share.

Layout: ``chunks/ab/abcdef….zst`` are pieces of files under the SHA-256 of their bytes, each a Zstandard frame
(RFC 8878); ``ID/WHEN.json`` are manifests (:class:`~rhizon.core.model.backup.Backup`). Equal pieces are kept once.
Encrypted backups have their pieces in lanes (:mod:`rhizon.adapters.sealing`), their manifest in ``ID/WHEN.age`` and
what can be read of it without a key in ``ID/WHEN.head.json``.
Pieces are cut at fixed places, since game servers write into the middle of their files and do not shift what follows.
A manifest is written last, so that a backup is there whole or not at all; everything is for its owner alone, since
settings may hold a password.
"""

import contextlib
import datetime
import hashlib
import os
import tempfile
import threading
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import BinaryIO

from rhizon.adapters.files import hash_file, make_folders, read_bytes, sync_folder, translated, write_atomic
from rhizon.adapters.inside import Inside, Owner, give_like_folder, write_all
from rhizon.adapters.sealing import Key, Seal, lane_seal
from rhizon.core.errors import InputError, StateError, TrustError
from rhizon.core.model.backup import Backup, SavedFile, SealedHead
from rhizon.core.model.decode import encode_json
from rhizon.core.model.documents import decode
from rhizon.core.names import RelPath

__all__ = ["STAMP", "Repository"]

CHUNK = 4 << 20
LARGEST_MANIFEST = 512 << 20
LEVEL = 3
TRIES = 3
SETTLED_NS = 2_000_000_000  # a file that is younger than this may still change under the same time
WORKERS = max(os.cpu_count() or 1, 2)
STAMP = "%Y-%m-%dT%H-%M-%SZ"


class Repository:
    """Backups in one folder. Commands that write hold its lock. With a ``seal`` what is written is encrypted, with a
    ``key`` what is encrypted can be read."""

    def __init__(self, root: Path, seal: Seal | None = None, key: Key | None = None) -> None:
        self.root = root
        self.seal = seal
        self.key = key
        self._guard = threading.Lock()
        self._claimed: set[str] = set()  # chunks that a thread of this save writes; behind the guard
        self._written: dict[str, str] = {}  # encrypted pieces of this command: name to the hash of the whole file
        self._lanes: dict[str, Seal] = {}

    @contextlib.contextmanager
    def busy(self) -> Iterator[None]:
        """Keeps other writers out. Raises :class:`StateError` when one is at work for long."""
        import filelock

        with translated("write into the backups", self.root):
            make_folders(self.root, 0o700)
            fresh = not (self.root / "busy").exists()
        guard = filelock.FileLock(self.root / "busy")
        try:
            guard.acquire(timeout=30)
            if fresh:  # one that only root could open would keep the owner of the backups out
                with translated("write into the backups", self.root):
                    give_like_folder(self.root / "busy")
        except filelock.Timeout:
            raise StateError(
                "backups-busy",
                f"another command is writing to the backups in {self.root}",
                hint="Wait for it to end and run this again.",
            ) from None
        try:
            yield
        finally:
            guard.release()

    def ids(self) -> list[str]:
        """Every instance that has backups here."""
        own = ("chunks", "sealed", "keys")
        return sorted(one.name for one in self.root.glob("*") if one.is_dir() and one.name not in own)

    def times(self, ident: str) -> list[str]:
        """When its backups were made, oldest first."""
        return sorted({file.name.partition(".")[0] for file in (self.root / ident).glob("*.json")})

    def head(self, ident: str, when: str) -> SealedHead | None:
        """What can be read of an encrypted backup without its key; None for one that is not encrypted. Raises
        InputError when there is none of that time, DocumentError when it is damaged."""
        if when not in self.times(ident):
            raise InputError(
                "no-such-backup",
                f"there is no backup {when} of {ident} in {self.root}",
                hint="See all backups of this machine: rhizon backup --list",
            )
        path = self.root / ident / f"{when}.head.json"
        return decode(SealedHead, read_bytes(path, "backup", LARGEST_MANIFEST), str(path)) if path.is_file() else None

    def read(self, ident: str, when: str) -> Backup:
        """One backup. Raises InputError when there is none or it is encrypted and no key was given, DocumentError when
        its manifest is damaged."""
        head = self.head(ident, when)
        if head is None:
            path = self.root / ident / f"{when}.json"
            return decode(Backup, read_bytes(path, "backup", LARGEST_MANIFEST), str(path))
        if self.key is None:
            raise InputError(
                "backup-encrypted",
                f"the backup {when} of {ident} is encrypted",
                hint="Give its key with --key (a file with an age identity), or --passphrase.",
            )
        path = self.root / ident / f"{when}.age"
        self.seal = self._lane(head.lane)
        data = self.key.decrypt(self.root, head.lane, read_bytes(path, "backup", LARGEST_MANIFEST))
        return decode(Backup, data, str(path))

    def _lane(self, lane: str) -> Seal:
        assert self.key is not None
        if lane not in self._lanes:
            self._lanes[lane] = lane_seal(self.root, lane, self.key)
        return self._lanes[lane]

    def new_time(self, ident: str) -> str:
        """A name for a backup that is made now, later than all others, whatever the clock says."""
        now = datetime.datetime.now(datetime.UTC)
        times = self.times(ident)
        if times and now.strftime(STAMP) <= times[-1]:
            now = datetime.datetime.strptime(times[-1], STAMP) + datetime.timedelta(seconds=1)
        return now.strftime(STAMP)

    def _chunk(self, sha256: str) -> Path:
        if self.seal is None:
            return self.root / "chunks" / sha256[:2] / f"{sha256}.zst"
        name = self.seal.name(sha256)
        return self.root / "sealed" / self.seal.lane / name[:2] / f"{name}.age"

    def save(
        self,
        opened: Callable[[], Inside],
        files: Sequence[RelPath],
        before: Mapping[str, SavedFile],
        progress: Callable[[int], None],
    ) -> tuple[dict[str, SavedFile], set[str], list[str]]:
        """Saves files of an instance, which ``opened`` opens; answers them with their chunks, the chunks that are new,
        and the files that changed while they were read. One that ``before`` knows with the same size and times is not
        read. ``progress`` gets the bytes so far."""
        so_far = 0
        saved: dict[str, SavedFile] = {}
        fresh: set[str] = set()
        moved: list[str] = []
        self._claimed.clear()
        with translated("write into the backups", self.root), contextlib.ExitStack() as stack:
            own = threading.local()  # handles of folders are not shared by threads

            def save_one(path: RelPath) -> tuple[SavedFile, set[str], bool] | None:
                if not hasattr(own, "inside"):
                    own.inside = stack.enter_context(opened())
                return self._save_file(own.inside, path, before.get(path))

            pool = stack.enter_context(ThreadPoolExecutor(WORKERS))
            for path, done in zip(files, pool.map(save_one, files), strict=True):
                if done is None:
                    continue  # it went away meanwhile
                so_far += done[0].size
                progress(so_far)
                saved[path] = done[0]
                fresh |= done[1]
                moved += [] if done[2] else [path]
        return saved, fresh, moved

    def _save_file(
        self, inside: Inside, path: RelPath, before: SavedFile | None
    ) -> tuple[SavedFile, set[str], bool] | None:
        """One file as its chunks, what of them is new, and whether it stayed the same while it was read; None where it
        is gone. A file that changes is read again, at most ``TRIES`` times."""
        fresh: set[str] = set()
        for attempt in range(TRIES):
            try:
                with os.fdopen(inside.open_read(path), "rb") as file:
                    first = os.fstat(file.fileno())
                    if before is not None and _unchanged(before, first) and self._has(before.chunks):
                        return before, fresh, True
                    chunks, size = self._cut(file, fresh)
                    last = os.fstat(file.fileno())
            except FileNotFoundError:
                return None
            calm = (first.st_size, first.st_mtime_ns) == (last.st_size, last.st_mtime_ns) and size == last.st_size
            if calm or attempt == TRIES - 1:
                made = SavedFile(
                    size=size, mode=last.st_mode & 0o777, mtime_ns=last.st_mtime_ns, ctime_ns=_settled(last),
                    chunks=chunks,
                )  # fmt: skip
                return made, fresh, calm
        raise AssertionError(path)

    def _has(self, chunks: Iterable[str]) -> bool:
        return all(self._chunk(one).is_file() for one in chunks)

    def _cut(self, file: BinaryIO, fresh: set[str]) -> tuple[tuple[str, ...], int]:
        chunks = []
        size = 0
        while data := file.read(CHUNK):
            size += len(data)
            sha256 = hashlib.sha256(data).hexdigest()
            chunks.append(sha256)
            if not self._chunk(sha256).is_file() and self._claims(sha256):
                self._write_chunk(sha256, data)
                fresh.add(sha256)
        return tuple(chunks), size

    def _claims(self, sha256: str) -> bool:
        """Whether this thread writes a chunk: equal pieces of two files are written once, since no two encryptions of
        them are the same bytes."""
        with self._guard:
            if sha256 in self._claimed:
                return False
            self._claimed.add(sha256)
            return True

    def _write_chunk(self, sha256: str, data: bytes) -> None:
        """Compresses (and encrypts) a chunk and puts it in place under its name, whole or not at all."""
        import zstandard

        target = self._chunk(sha256)
        make_folders(target.parent, 0o700)
        made = zstandard.ZstdCompressor(level=LEVEL, write_checksum=True).compress(data)
        if self.seal is not None:
            made = self.seal.encrypt(made)
            self._written[sha256] = hashlib.sha256(made).hexdigest()
        handle, name = tempfile.mkstemp(prefix="incoming-", dir=self.root)
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(made)
                file.flush()
                os.fsync(file.fileno())
            give_like_folder(Path(name))
            Path(name).replace(target)
        except BaseException:
            Path(name).unlink(missing_ok=True)
            raise

    def chunk(self, sha256: str) -> bytes:
        """The bytes of a chunk, verified. Raises :class:`TrustError`."""
        import zstandard

        path = self._chunk(sha256)
        try:
            data = path.read_bytes()
            if self.seal is not None and self.key is not None:
                data = self.key.decrypt(self.root, self.seal.lane, data)
            data = zstandard.ZstdDecompressor().decompress(data, max_output_size=CHUNK)
        except (OSError, zstandard.ZstdError, TrustError):
            data = b""
        if hashlib.sha256(data).hexdigest() != sha256:
            raise TrustError(
                "backup-damaged",
                f"a piece of the backups is missing or damaged: {path}",
                hint="Use another backup of the same server (--list); its pieces may be sound. Then make a new one.",
            )
        return data

    def read_back(self, chunks: Iterable[str]) -> list[str]:
        """Of the chunks that this command has written, those that are not what was written. Encrypted ones are compared
        as they are: the one who writes them need not be able to read them."""
        if self.seal is None:
            return self.verify(chunks, lambda _so_far, _total: None)
        return [one for one in chunks if hash_file(self._chunk(one))[0] != self._written.get(one)]

    def verify(self, chunks: Iterable[str], progress: Callable[[int, int], None]) -> list[str]:
        """Reads chunks back and answers those that are not what they should be."""
        wanted = sorted(set(chunks))

        def bad(sha256: str) -> str | None:
            try:
                self.chunk(sha256)
            except TrustError:
                return sha256
            return None

        found = []
        with ThreadPoolExecutor(WORKERS) as pool:
            for number, one in enumerate(pool.map(bad, wanted), 1):
                progress(number, len(wanted))
                found += [one] if one else []
        return found

    def missing(self, chunks: Iterable[str]) -> list[str]:
        """Chunks that are not there at all."""
        return [one for one in sorted(set(chunks)) if not self._chunk(one).is_file()]

    def write(self, backup: Backup) -> Path:
        """Writes the manifest: from now on the backup is there."""
        folder = self.root / backup.id
        with translated("write into the backups", folder):
            for one in [*self.root.glob("chunks/*"), *self.root.glob("sealed/*/*")]:
                sync_folder(one)
            make_folders(folder, 0o700)
            if self.seal is None:
                path = folder / f"{backup.when}.json"
                write_atomic(path, encode_json(backup), 0o600)
                return path
            chunks = {one for part in backup.parts for file in part.values() for one in file.chunks}
            head = SealedHead(
                format="rhizon-sealed/1",
                id=backup.id,
                when=backup.when,
                lane=self.seal.lane,
                recipients=self.seal.recipients,
                automatic=backup.automatic,
                consistency=backup.consistency,
                files=sum(map(len, backup.parts)),
                size=backup.size,
                pieces=tuple(sorted(map(self.seal.name, chunks))),
            )
            write_atomic(folder / f"{backup.when}.age", self.seal.encrypt(encode_json(backup)), 0o600)
            path = folder / f"{backup.when}.head.json"  # last: the backup is there when this is
            write_atomic(path, encode_json(head), 0o600)
        return path

    def bytes_of(self, file: SavedFile) -> bytes:
        """A small file whole. Raises :class:`TrustError`."""
        return b"".join(self.chunk(one) for one in file.chunks)

    def chunks_of(self, file: SavedFile) -> Iterator[bytes]:
        """A file piece by piece. Raises :class:`TrustError`."""
        return self._chunks_ahead(file.chunks)

    def lay_out(
        self, files: Mapping[str, SavedFile], empty: Iterable[str], at: RelPath, inside: Inside, target: str
    ) -> None:
        """Writes what was at ``at`` (a folder with all below it, or one file) to the new path ``target`` of an
        instance, every piece verified. Raises :class:`TrustError`."""
        owner = inside.owner_at(target.rpartition("/")[0] or target)
        if at in files:
            self._write_file(files[at], inside, target, owner)
            return
        places = {f"{target}/{path.removeprefix(f'{at}/')}": file for path, file in files.items()}
        folders = {target, *(f"{target}/{path.removeprefix(f'{at}/')}" for path in empty)}
        folders |= {place.rpartition("/")[0] for place in places}
        for folder in sorted(folders):
            inside.make_folder(folder)
        for place, file in places.items():
            self._write_file(file, inside, place, owner)
        for folder in sorted(folders):
            inside.sync(folder)

    def _write_file(self, file: SavedFile, inside: Inside, place: str, owner: Owner | None) -> None:
        with inside.new_file(place, file.mode & 0o777 | 0o600, owner) as out:
            for data in self._chunks_ahead(file.chunks):
                write_all(out, data)
            os.utime(out, ns=(file.mtime_ns, file.mtime_ns))

    def _chunks_ahead(self, names: Sequence[str]) -> Iterator[bytes]:
        """Pieces in order, a few of them read and verified at once."""
        if len(names) < 2:
            yield from map(self.chunk, names)
            return
        with ThreadPoolExecutor(WORKERS) as pool:
            for begin in range(0, len(names), WORKERS):
                yield from pool.map(self.chunk, names[begin : begin + WORKERS])

    def forget(self, ident: str, times: Iterable[str]) -> None:
        """Removes backups; their pieces go with :meth:`sweep`."""
        with translated("remove backups", self.root):
            for when in times:
                for ending in ("json", "head.json", "age"):
                    (self.root / ident / f"{when}.{ending}").unlink(missing_ok=True)

    def sweep(self) -> int:
        """Removes pieces that no backup of any instance needs; bytes that this frees. A manifest that cannot be read
        raises: what it needs is not known."""
        needed: set[str] = set()
        for ident in self.ids():
            for when in self.times(ident):
                head = self.head(ident, when)
                if head is not None:
                    needed |= {f"{head.lane}/{name}" for name in head.pieces}
                    continue
                backup = self.read(ident, when)
                needed |= {one for part in backup.parts for file in part.values() for one in file.chunks}
        freed = 0
        with translated("remove backups", self.root):
            pieces = [(file, file.stem) for file in self.root.glob("chunks/*/*.zst")]
            pieces += [(file, f"{file.parent.parent.name}/{file.stem}") for file in self.root.glob("sealed/*/*/*.age")]
            pieces += [(file, file.name) for file in self.root.glob("incoming-*")]
            for file, name in pieces:
                if name not in needed:
                    freed += file.stat().st_size
                    file.unlink()
        return freed

    def chunk_size(self, sha256: str) -> int:
        """What a chunk takes on disk."""
        return self._chunk(sha256).stat().st_size

    def bytes_on_disk(self) -> int:
        """What all chunks take."""
        pieces = (*self.root.glob("chunks/*/*.zst"), *self.root.glob("sealed/*/*/*.age"))
        return sum(file.stat().st_size for file in pieces)


def _unchanged(before: SavedFile, facts: os.stat_result) -> bool:
    return (before.size, before.mtime_ns, before.ctime_ns) == (facts.st_size, facts.st_mtime_ns, facts.st_ctime_ns)


def _settled(facts: os.stat_result) -> int:
    """The time to know the file by later; 0, which no file has, where it may change once more under the same time."""
    young = time.time_ns() - max(facts.st_mtime_ns, facts.st_ctime_ns) < SETTLED_NS
    return 0 if young else facts.st_ctime_ns
