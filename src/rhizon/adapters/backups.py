"""A backup repository: a folder that any number of instances share.

Layout: ``chunks/ab/abcdef….zst`` are pieces of files under the SHA-256 of their bytes, each a Zstandard frame
(RFC 8878); ``ID/WHEN.json`` are manifests (:class:`~rhizon.core.model.backup.Backup`). Equal pieces are kept once.
Pieces are cut at fixed places, since game servers write into the middle of their files and do not shift what follows.
A manifest is written last, so that a backup is there whole or not at all; everything is for its owner alone, since
settings may hold a password.
"""

import contextlib
import datetime
import hashlib
import os
import tempfile
import time
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple

from rhizon.adapters.files import make_folders, read_bytes, sync_folder, translated, write_atomic
from rhizon.adapters.inside import Inside, Owner, give_like_folder, write_all
from rhizon.core.errors import InputError, StateError, TrustError
from rhizon.core.model.backup import Backup, SavedFile
from rhizon.core.model.decode import encode_json
from rhizon.core.model.documents import decode
from rhizon.core.names import RelPath, UnsafeNameError, safe_path

__all__ = ["STAMP", "Repository", "Seen", "tree_files"]

CHUNK = 4 << 20
LARGEST_MANIFEST = 512 << 20
LEVEL = 3
TRIES = 3
SETTLED_NS = 2_000_000_000  # a file that is younger than this may still change under the same time
WORKERS = max(os.cpu_count() or 1, 2)
STAMP = "%Y-%m-%dT%H-%M-%SZ"


class Seen(NamedTuple):
    """What there is to save below a folder, folders that hold nothing, and what was left out: links, devices, names
    that some system cannot hold."""

    files: dict[RelPath, Path]
    empty: tuple[RelPath, ...]
    left_out: tuple[str, ...]


def tree_files(folder: Path, below: RelPath) -> Seen:
    """Every ordinary file below ``folder/below`` by its path in ``folder``. The folder itself and what lies in it at
    once may be links to folders elsewhere (a world on another disk); links further in are not followed."""
    start = folder / below
    roots = [(start, str(below))]
    if start.is_dir():
        linked = [one for one in sorted(start.iterdir()) if one.is_symlink() and one.is_dir()]
        roots += [(one, f"{below}/{one.name}") for one in linked]
    followed = {real for real, _ in roots}
    files: dict[RelPath, Path] = {}
    empty = []
    left_out = []
    for root, name in roots:
        for parent, folders, names in os.walk(root):
            here = Path(parent)
            inside = here.relative_to(root).as_posix()
            prefix = name if inside == "." else f"{name}/{inside}"
            folders.sort()
            if not folders and not names and here != start:
                with contextlib.suppress(UnsafeNameError):
                    empty.append(safe_path(prefix))
            links = [one for one in folders if (here / one).is_symlink() and here / one not in followed]
            for one in sorted([*names, *links]):
                try:
                    path = safe_path(f"{prefix}/{one}")
                except UnsafeNameError:
                    left_out.append(f"{prefix}/{one}")
                    continue
                if (here / one).is_symlink() or not (here / one).is_file():
                    left_out.append(path)
                else:
                    files[path] = here / one
    return Seen(files, tuple(empty), tuple(left_out))


class Repository:
    """Backups in one folder. Commands that write hold its lock."""

    def __init__(self, root: Path) -> None:
        self.root = root

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
                f"another command is writing into the backups at {self.root}",
                hint="Wait for it to end and run this again.",
            ) from None
        try:
            yield
        finally:
            guard.release()

    def ids(self) -> list[str]:
        """Every instance that has backups here."""
        return sorted(one.name for one in self.root.glob("*") if one.is_dir() and one.name != "chunks")

    def times(self, ident: str) -> list[str]:
        """When its backups were made, oldest first."""
        return sorted(file.stem for file in (self.root / ident).glob("*.json"))

    def read(self, ident: str, when: str) -> Backup:
        """One backup. Raises InputError when there is none, DocumentError when its manifest is broken."""
        path = self.root / ident / f"{when}.json"
        if when not in self.times(ident):
            raise InputError("no-such-backup", f"there is no backup {when} of {ident} in {self.root}",
                             hint="rhizon backup DIR --list shows those that are there.")  # fmt: skip
        return decode(Backup, read_bytes(path, "backup", LARGEST_MANIFEST), str(path))

    def new_time(self, ident: str) -> str:
        """A name for a backup that is made now, later than all others, whatever the clock says."""
        now = datetime.datetime.now(datetime.UTC)
        times = self.times(ident)
        if times and now.strftime(STAMP) <= times[-1]:
            now = datetime.datetime.strptime(times[-1], STAMP) + datetime.timedelta(seconds=1)
        return now.strftime(STAMP)

    def _chunk(self, sha256: str) -> Path:
        return self.root / "chunks" / sha256[:2] / f"{sha256}.zst"

    def save(
        self, files: Mapping[RelPath, Path], before: Mapping[str, SavedFile], progress: Callable[[int, int], None]
    ) -> tuple[dict[str, SavedFile], set[str], list[str]]:
        """Saves files; answers them with their chunks, the chunks that are new, and the files that changed while they
        were read. One that ``before`` knows with the same size and times is not read."""
        with translated("write into the backups", self.root):
            sizes = {path: real.stat().st_size for path, real in files.items() if real.exists()}
            total = sum(sizes.values())
            so_far = 0
            saved: dict[str, SavedFile] = {}
            fresh: set[str] = set()
            moved: list[str] = []
            with ThreadPoolExecutor(WORKERS) as pool:
                work = pool.map(lambda one: self._save_file(one[0], one[1], before.get(one[0])), files.items())
                for path, done in zip(files, work, strict=True):
                    so_far += sizes.get(path, 0)
                    progress(so_far, total)
                    if done is None:
                        continue  # it went away meanwhile
                    saved[path] = done[0]
                    fresh |= done[1]
                    moved += [] if done[2] else [path]
        return saved, fresh, moved

    def _save_file(
        self, path: RelPath, real: Path, before: SavedFile | None
    ) -> tuple[SavedFile, set[str], bool] | None:
        fresh: set[str] = set()
        for attempt in range(TRIES):
            try:
                first = real.stat()
                if before is not None and _unchanged(before, first) and self._has(before.chunks):
                    return before, fresh, True
                chunks, size = self._cut(real, fresh)
                last = real.stat()
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

    def _cut(self, real: Path, fresh: set[str]) -> tuple[tuple[str, ...], int]:
        chunks = []
        size = 0
        with real.open("rb") as file:
            while data := file.read(CHUNK):
                size += len(data)
                sha256 = hashlib.sha256(data).hexdigest()
                chunks.append(sha256)
                if not self._chunk(sha256).is_file():
                    self._write_chunk(sha256, data)
                    fresh.add(sha256)
        return tuple(chunks), size

    def _write_chunk(self, sha256: str, data: bytes) -> None:
        import zstandard

        target = self._chunk(sha256)
        make_folders(target.parent, 0o700)
        handle, name = tempfile.mkstemp(prefix="incoming-", dir=self.root)
        try:
            with os.fdopen(handle, "wb") as file:
                file.write(zstandard.ZstdCompressor(level=LEVEL, write_checksum=True).compress(data))
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
            data = zstandard.ZstdDecompressor().decompress(path.read_bytes(), max_output_size=CHUNK)
        except (OSError, zstandard.ZstdError):
            data = b""
        if hashlib.sha256(data).hexdigest() != sha256:
            raise TrustError(
                "backup-damaged",
                f"a piece of the backups is missing or damaged: {path}",
                hint="Take another backup of the same instance (--list); its pieces may be sound. Then make a new one.",
            )
        return data

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
        path = self.root / backup.id / f"{backup.when}.json"
        with translated("write into the backups", path):
            for folder in self.root.glob("chunks/*"):
                sync_folder(folder)
            make_folders(path.parent, 0o700)
            write_atomic(path, encode_json(backup), 0o600)
        return path

    def bytes_of(self, file: SavedFile) -> bytes:
        """A small file whole. Raises :class:`TrustError`."""
        return b"".join(self.chunk(one) for one in file.chunks)

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
                (self.root / ident / f"{when}.json").unlink(missing_ok=True)

    def sweep(self) -> int:
        """Removes pieces that no backup of any instance needs; bytes that this frees. A manifest that cannot be read
        raises: what it needs is not known."""
        needed: set[str] = set()
        for ident in self.ids():
            for when in self.times(ident):
                backup = self.read(ident, when)
                needed |= {
                    one for part in (backup.world, backup.settings) for file in part.values() for one in file.chunks
                }
        freed = 0
        with translated("remove backups", self.root):
            for file in [*self.root.glob("chunks/*/*.zst"), *self.root.glob("incoming-*")]:
                if file.stem not in needed:
                    freed += file.stat().st_size
                    file.unlink()
        return freed

    def chunk_size(self, sha256: str) -> int:
        """What a chunk takes on disk."""
        return self._chunk(sha256).stat().st_size

    def bytes_on_disk(self) -> int:
        """What all chunks take."""
        return sum(file.stat().st_size for file in self.root.glob("chunks/*/*.zst"))


def _unchanged(before: SavedFile, facts: os.stat_result) -> bool:
    return (before.size, before.mtime_ns, before.ctime_ns) == (facts.st_size, facts.st_mtime_ns, facts.st_ctime_ns)


def _settled(facts: os.stat_result) -> int:
    """The time to know the file by later; 0, which no file has, where it may change once more under the same time."""
    young = time.time_ns() - max(facts.st_mtime_ns, facts.st_ctime_ns) < SETTLED_NS
    return 0 if young else facts.st_ctime_ns
