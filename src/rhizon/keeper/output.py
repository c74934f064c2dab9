"""What a server prints: a file that the server appends to and the keeper reads on. Neither waits for the other."""

import codecs
import contextlib
import gzip
import os
import shutil
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

from rhizon.keeper.places import OUTPUT, OWN, RUNS, TIMES

__all__ = ["Output", "archive_run"]

CHUNK = 1 << 20
LONGEST_LINE = 64 << 10
ROTATE_BYTES = 32 << 20
MOST_RUNS = 30
MOST_ARCHIVED = 256 << 20
UNPACKED = "unpacked.log"  # of a run whose log could not be compressed


class Output:
    """Reads whole lines as they come, from ``offset`` on; ``start`` is the first byte that the file still has."""

    def __init__(self, folder: Path, encoding: str, offset: int = 0, start: int = 0) -> None:
        self._folder = folder
        self.path = folder / OWN / OUTPUT
        self.offset = offset
        self.start = start
        self._decoder = codecs.getincrementaldecoder(encoding)("replace")
        self._rest = ""
        self._noted = 0.0
        self._part = 0
        self.exact = True  # while the server starts: when each batch came is noted
        self._compressing: tuple[int, int] | None = None  # process, and the offset up to which it archives
        self._file = os.open(self.path, os.O_RDONLY | os.O_CREAT | getattr(os, "O_NOFOLLOW", 0), 0o644)

    def append(self, data: bytes) -> None:
        """Adds whole lines to the file, as the server does."""
        with contextlib.suppress(OSError):
            handle = os.open(self.path, os.O_WRONLY | os.O_APPEND | getattr(os, "O_NOFOLLOW", 0))
            try:
                os.write(handle, data)
            finally:
                os.close(handle)

    def read(self) -> Iterator[str]:
        """Texts of whole lines that came since the last time, each of at most a mebibyte."""
        size = os.fstat(self._file).st_size
        if size < self.offset:  # it was cut off by somebody
            self.offset = self.start = 0
        while self.offset < size:
            data = os.pread(self._file, CHUNK, self.offset)
            if not data:
                break
            self._note()
            self.offset += len(data)
            text = self._rest + self._decoder.decode(data)
            whole, end, self._rest = text.rpartition("\n")
            if len(self._rest) > LONGEST_LINE:
                whole, self._rest = whole + end + self._rest, ""
            if whole or end:
                yield whole

    def _note(self) -> None:
        """Writes down when output came: each time while the server starts, then at most once a second."""
        now = time.time()
        if self.exact or now - self._noted >= 1:
            self._noted = now
            with contextlib.suppress(OSError), (self._folder / OWN / TIMES).open("a", encoding="utf-8") as times:
                times.write(f"{self.offset} {now:.2f}\n")

    def rotate(self, most: int = ROTATE_BYTES) -> None:
        """Archives what was read where it is much, without a moment in which a line could be lost: the room of the
        archived bytes is given back to the disk (fallocate(2), a hole), and the server goes on appending where it
        is."""
        if self._compressing is not None:
            process, until = self._compressing
            done, status = os.waitpid(process, os.WNOHANG)
            if done:
                self._compressing = None
                if os.waitstatus_to_exitcode(status) == 0:
                    self._free(until)
        elif self.offset - self.start > most:
            self._part += 1
            process = os.fork()
            if process == 0:
                code = 1
                with contextlib.suppress(BaseException):
                    self._archive(self.start, self.offset)
                    code = 0
                os._exit(code)
            self._compressing = (process, self.offset)

    def _archive(self, begin: int, end: int) -> None:
        folder = self._folder / OWN / RUNS
        folder.mkdir(exist_ok=True)
        stamp = time.strftime("%Y-%m-%dT%H-%M-%S")
        with gzip.open(folder / f"{stamp}.part-{self._part}.log.gz", "wb") as packed:
            while begin < end:
                data = os.pread(self._file, min(CHUNK, end - begin), begin)
                packed.write(data)
                begin += len(data)
        _prune(folder)

    def _free(self, until: int) -> None:
        punch = ["fallocate", "--punch-hole", "--offset", "0", "--length", str(until), str(self.path)]
        with contextlib.suppress(OSError):
            if subprocess.run(punch, check=False, capture_output=True).returncode == 0:
                self.start = until
                return
        with contextlib.suppress(OSError):  # no holes here: between these two lines something could be lost
            if os.fstat(self._file).st_size == until == self.offset:
                os.truncate(self.path, 0)
                self.offset = self.start = 0

    def rest(self) -> str:
        """The last line where it has no end."""
        text, self._rest = self._rest, ""
        return text

    def close(self) -> None:
        """Gives the file back."""
        if self._compressing is not None:
            with contextlib.suppress(OSError):
                os.waitpid(self._compressing[0], 0)
        os.close(self._file)


def archive_run(folder: Path) -> None:
    """Moves the log of the last run to those of earlier runs, compressed; the oldest go. Raises OSError."""
    log = folder / OWN / OUTPUT
    try:
        facts = os.lstat(log)
    except FileNotFoundError:
        return
    runs = folder / OWN / RUNS
    runs.mkdir(exist_ok=True)
    times = folder / OWN / TIMES
    began = facts.st_mtime
    with contextlib.suppress(OSError, ValueError, IndexError):
        began = float(times.read_text("utf-8").split(maxsplit=2)[1])
    name = _free_name(runs, began)
    coming = runs / f"{name}.log.gz.new"
    try:
        with log.open("rb") as plain, gzip.open(coming, "wb", compresslevel=6) as packed:
            first = plain.read(CHUNK)
            while first and not first.strip(b"\0"):  # the hole that rotation left
                first = plain.read(CHUNK)
            packed.write(first.lstrip(b"\0"))
            shutil.copyfileobj(plain, packed, CHUNK)
        coming.replace(runs / f"{name}.log.gz")
    except OSError:  # a full disk is no reason not to start: the log stays as it is, beside the others
        coming.unlink(missing_ok=True)
        log.replace(runs / UNPACKED)
    with contextlib.suppress(FileNotFoundError):
        times.replace(runs / f"{name}.times")
    log.unlink(missing_ok=True)
    _prune(runs)


def _free_name(runs: Path, began: float) -> str:
    """A name by the time of a run that no other one has."""
    while True:
        stamp = time.strftime("%Y-%m-%dT%H-%M-%S", time.localtime(began))
        name = f"{stamp}.{int(began % 1 * 1000):03}"
        if not (runs / f"{name}.log.gz").exists():
            return name
        began += 0.001


def _prune(runs: Path) -> None:
    """Keeps the newest runs, and of these no more than a bound of bytes."""
    sizes = 0
    for number, one in enumerate(sorted(runs.glob("*.log.gz"), reverse=True)):
        sizes += one.stat().st_size
        if number >= MOST_RUNS or sizes > MOST_ARCHIVED:
            one.unlink(missing_ok=True)
            one.with_name(one.name.removesuffix(".log.gz") + ".times").unlink(missing_ok=True)
