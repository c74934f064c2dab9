"""Getting many artefacts into the store, several at once.

Every file is hashed as it comes, checked against the size and hash of the lock, tried again after a break from where it
broke, and then from the catalog's mirrors. A long one that was not finished is kept, so that the next command goes on
with it.
"""

import contextlib
import hashlib
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import FIRST_EXCEPTION, ThreadPoolExecutor, wait
from pathlib import Path
from threading import Event, Lock
from typing import NamedTuple

from rhizon.adapters.catalogs import Catalogs, Transport
from rhizon.adapters.http import BrokenError, Network, Piece, not_given
from rhizon.adapters.store import Incoming, Store
from rhizon.core.errors import CancelledError, RemoteError, RhizonError, TrustError
from rhizon.core.model.lock import LockedFile
from rhizon.core.units import size_text

__all__ = ["Piecewise", "Progress", "fetch_all", "missing_from"]

TELL_SECONDS = 0.1
SLOW_SECONDS = 3.0  # a file that takes longer and is slower than a quarter of the rest is reported
WORTH_KEEPING = 1 << 20  # a shorter part of a file is not worth keeping


class Progress(NamedTuple):
    """How far fetching is: files and bytes so far and in all, seconds since it began, and what is slow."""

    files: int
    of_files: int
    bytes: int
    of_bytes: int
    seconds: float
    slow: str

    @property
    def part(self) -> float:
        """Between 0 and 1."""
        return self.bytes / max(self.of_bytes, 1)

    @property
    def text(self) -> str:
        """For a person."""
        speed = f", {size_text(int(self.bytes / self.seconds))}/s" if self.seconds > 0.5 else ""
        slow = f"; slow: {self.slow}" if self.slow else ""
        return (
            f"{self.files} of {self.of_files} files, {size_text(self.bytes)} of {size_text(self.of_bytes)}{speed}{slow}"
        )


class Piecewise(NamedTuple):
    """A file as the SHA-256 of its pieces, all but the last ``size`` bytes long, and where pieces are on this machine:
    a file and the offset in it."""

    pieces: tuple[str, ...]
    size: int
    here: Mapping[str, tuple[Path, int]]

    def local(self, number: int) -> bytes | None:
        """A piece from this machine; None where it is not here or is not what it should be any more."""
        place = self.here.get(self.pieces[number])
        if place is None:
            return None
        try:
            with place[0].open("rb") as file:
                file.seek(place[1])
                data = file.read(self.size)
        except OSError:
            return None
        return data if hashlib.sha256(data).hexdigest() == self.pieces[number] else None

    def runs(self) -> Iterator[tuple[bytes | None, int]]:
        """The file from its beginning: a piece that is here, or how many pieces in a row are not."""
        missing = 0
        for number in range(len(self.pieces)):
            data = self.local(number)
            if data is None:
                missing += 1
                continue
            if missing:
                yield None, missing
                missing = 0
            yield data, 1
        if missing:
            yield None, missing


def missing_from(store: Store, files: Iterable[LockedFile]) -> list[LockedFile]:
    """The files that are not in the store, each hash once."""
    wanted = {file.sha256: file for file in files}
    return [file for file in wanted.values() if not store.has(file.sha256, file.size)]


def fetch_all(
    catalogs: Catalogs,
    files: Iterable[LockedFile],
    store: Store,
    progress: Callable[[Progress], None],
    piecewise: Mapping[str, Piecewise] | None = None,
) -> int:
    """Fetches what the store lacks and verifies it; answers how many files came. Of those in ``piecewise`` (by hash)
    only the pieces come that are not on this machine.

    The first error ends the others and is raised (RemoteError, :class:`TrustError`, StateError where there is no room);
    files that were complete by then stay in the store.
    """
    missing = missing_from(store, files)
    tally = _Tally(missing, progress)
    pool = ThreadPoolExecutor(max_workers=catalogs.network.limits.connections)
    try:
        known = piecewise or {}
        futures = [pool.submit(_fetch, catalogs, file, store, tally, known.get(file.sha256)) for file in missing]
        done, _ = wait(futures, return_when=FIRST_EXCEPTION)
        for future in done:
            future.result()
    finally:
        tally.stop.set()
        pool.shutdown(cancel_futures=True)
    return len(missing)


class _Tally:
    """What all transfers of a command have brought so far."""

    def __init__(self, files: list[LockedFile], progress: Callable[[Progress], None]) -> None:
        self.stop = Event()
        self._progress = progress
        self._guard = Lock()  # guards all below
        self._files = len(files)
        self._total = sum(file.size for file in files)
        self._done = 0
        self._bytes = 0
        self._begun = time.monotonic()
        self._told = 0.0
        self._running: dict[str, tuple[float, int, str]] = {}  # path -> since when, how much, from where

    def began(self, path: str, address: str) -> None:
        """Notes that a file is under way."""
        with self._guard:
            self._running[path] = (time.monotonic(), 0, address)

    def came(self, path: str, size: int) -> None:
        """Counts bytes (fewer than none where a transfer begins again). Raises CancelledError when all are to end."""
        if self.stop.is_set():
            raise CancelledError("fetch-ended", "the download was interrupted", hint="Run the same command again.")
        with self._guard:
            self._bytes += size
            since, so_far, address = self._running[path]
            self._running[path] = (since, so_far + size, address)
            now = time.monotonic()
            if now - self._told > TELL_SECONDS:
                self._told = now
                self._tell(now)

    def ended(self, path: str) -> None:
        """Notes that a file is there, whatever came of it."""
        with self._guard:
            self._running.pop(path, None)
            self._done += 1
            self._tell(time.monotonic())

    def _tell(self, now: float) -> None:
        seconds = now - self._begun
        slow = ""
        even = self._bytes / max(seconds, 0.001) / max(len(self._running), 1)
        for path, (since, size, address) in self._running.items():
            if now - since > SLOW_SECONDS and size / (now - since) < even / 4:
                slow = f"{path.rpartition('/')[2]} from {address}"
        self._progress(Progress(self._done, self._files, self._bytes, self._total, seconds, slow))


def _fetch(
    catalogs: Catalogs, file: LockedFile, store: Store, tally: _Tally, piecewise: Piecewise | None = None
) -> None:
    """One file, from the first place that gives it."""
    first: RhizonError | None = None
    for transport in catalogs.transports_for(file):
        try:
            with store.incoming(file.sha256 if file.size > WORTH_KEEPING else None) as into:
                _Transfer(transport, file, into, tally, catalogs.network, piecewise).run()
                store.keep(into, file.sha256)
            tally.ended(file.path)
            return
        except (RemoteError, TrustError) as wrong:
            first = first or wrong
    assert first is not None
    raise first


class _Transfer:
    """One file from one place: as many tries as the limits allow, each from where the last one broke."""

    def __init__(
        self,
        transport: Transport,
        file: LockedFile,
        into: Incoming,
        tally: _Tally,
        network: Network,
        piecewise: Piecewise | None,
    ) -> None:
        self._transport = transport
        self._file = file
        self._into = into
        self._tally = tally
        self._network = network
        self._digest = hashlib.sha256()
        self._size = 0
        self._validator = ""
        self._resumed = False
        self._piecewise = piecewise
        self._limit = time.monotonic() + network.limits.whole(file.size)

    def run(self) -> None:
        """Fetches the file from the first address that gives the right bytes. Raises what the last one raised."""
        self._tally.began(self._file.path, self._transport.address)
        self._take_up()
        number = 0
        while True:
            before = self._size
            try:
                self._try()
                if self._sound():
                    return
                self._begin_anew()  # the part that an earlier command left was of something else
            except BrokenError as broken:
                number = 0 if self._size > before else number
                self._network.pause(number, broken)
                number += 1

    def _take_up(self) -> None:
        """What an earlier command has left of it."""
        for chunk in self._into.read_all() if self._into.resumes else ():
            self._add(chunk)
        self._resumed = self._size > 0
        if self._size > self._file.size:
            self._begin_anew()

    def _add(self, chunk: bytes) -> None:
        self._digest.update(chunk)
        self._size += len(chunk)
        self._tally.came(self._file.path, len(chunk))

    def _begin_anew(self) -> None:
        self._tally.came(self._file.path, -self._size)
        self._into.clear()
        self._digest = hashlib.sha256()
        self._size = 0
        self._resumed = False

    def _try(self) -> None:
        if self._size == self._file.size and self._resumed:
            return
        if self._piecewise is not None:
            self._by_pieces(self._piecewise)
            return
        self._from_here(self._file.size - self._size)

    def _by_pieces(self, known: Piecewise) -> None:
        """Puts the file together again: pieces from here, and what is between them from the other side."""
        self._begin_anew()
        self._piecewise = None  # a second try takes all of it from the other side
        for data, count in known.runs():
            if data is not None:
                self._into.write(data)
                self._add(data)
            else:
                self._from_here(min(count * known.size, self._file.size - self._size))
                if self._size == self._file.size:
                    return  # also where the other side knows no ranges and gave all of it

    def _from_here(self, wanted: int) -> None:
        """Takes the next ``wanted`` bytes from the other side."""
        stream = self._transport.stream(self._file.path, Piece(self._size, self._validator))
        if stream.piece.offset != self._size:
            self._begin_anew()
            wanted = self._file.size
        self._validator = stream.piece.validator
        with contextlib.closing(stream.chunks) as chunks:
            if stream.total is not None and stream.total != self._file.size:
                raise self._wrong(f"it has {stream.total} bytes, not the {self._file.size} of the lock")
            self._take(chunks, wanted)

    def _take(self, chunks: Iterator[bytes], wanted: int) -> None:
        """Adds the bytes of a stream to the file, with a bound on size and time. Raises TrustError for more than the
        lock says."""
        end = self._size + wanted
        for chunk in chunks:
            if self._size + len(chunk) > self._file.size:
                raise self._wrong(f"it is longer than the {self._file.size} bytes of the lock")
            chunk = chunk[: end - self._size]
            self._into.write(chunk)
            self._add(chunk)
            if self._size == end < self._file.size:
                return
            if time.monotonic() > self._limit:
                raise not_given(self._transport.address, self._file.path, "it takes too long")

    def _sound(self) -> bool:
        """Whether it is what was promised. False when it is not and part of it came from an earlier command."""
        if self._size == self._file.size and self._digest.hexdigest() == self._file.sha256:
            return True
        if self._resumed:
            return False
        if self._size != self._file.size:
            raise self._wrong(f"it has {self._size} bytes, not the {self._file.size} of the lock")
        found = self._digest.hexdigest()
        raise self._wrong(f"its SHA-256 is {found[:16]}…, {self._file.sha256[:16]}… is expected")

    def _wrong(self, why: str) -> TrustError:
        self._into.clear()  # nothing of it is taken up later
        return TrustError(
            "hash-mismatch",
            f"{self._file.path} from {self._transport.address} does not match the lock: {why}",
            hint="Nothing of it was used. Try again; if it happens again, report it to the catalog's maintainer.",
        )
