"""What runs leave behind to be measured by: collector logs and samples of the process, in ``.rhizon/measured/``."""

import contextlib
import fnmatch
import os
import time
from collections.abc import Iterator
from pathlib import Path

from rhizon.adapters.files import translated
from rhizon.adapters.inside import Inside
from rhizon.adapters.transact import RHIZON
from rhizon.core.allocate.measured import GcEvent, read_gc_log
from rhizon.core.errors import StateError

__all__ = ["MEASURED", "Samples", "gc_runs", "make_room", "process_runs"]

MEASURED = "measured"
MOST_RUNS = 8
SAMPLE_SECONDS = 5.0
LARGEST_LOG = 64 << 20


class Samples:
    """Writes the memory of a process and of all that it started down every few seconds: seconds since the start,
    resident MiB, threads."""

    def __init__(self, folder: Path, pid: int) -> None:
        import psutil

        self._folder = folder
        self._begun = time.monotonic()
        self._next = 0.0
        self._process: psutil.Process | None = None
        with contextlib.suppress(psutil.Error):
            self._process = psutil.Process(pid)
        self._path = f"{RHIZON}/{MEASURED}/process-{time.strftime('%Y-%m-%d_%H-%M-%S')}.csv"

    def tick(self) -> None:
        """Takes a sample where one is due. What cannot be written is not measured: the server matters more."""
        import psutil

        seconds = time.monotonic() - self._begun
        if seconds < self._next or self._process is None:
            return
        self._next = seconds + SAMPLE_SECONDS
        with contextlib.suppress(psutil.Error, OSError, StateError):
            resident = self._process.memory_info().rss
            threads = self._process.num_threads()
            for child in self._process.children(recursive=True):  # a server may be a script that starts the program
                with contextlib.suppress(psutil.Error):
                    resident += child.memory_info().rss
                    threads += child.num_threads()
            line = f"{seconds:.1f},{resident / (1 << 20):.1f},{threads}\n"
            with Inside(self._folder) as inside, os.fdopen(inside.open_write(self._path, append=True), "ab") as file:
                file.write(line.encode())


def make_room(folder: Path) -> None:
    """The folder for measurements of an instance, with the newest few runs in it."""
    with translated("make room for measurements", folder), Inside(folder) as inside:
        here = f"{RHIZON}/{MEASURED}"
        inside.make_folder(here)
        for kind in ("gc-*.log*", "process-*.csv"):
            runs = [f"{here}/{name}" for name in inside.names(here) if fnmatch.fnmatch(name, kind)]
            aged = [(facts.st_mtime, run) for run in runs if (facts := inside.lstat(run)) is not None]
            for _, old in sorted(aged)[: -MOST_RUNS + 1]:
                inside.unlink(old)


def gc_runs(own: Path) -> list[list[GcEvent]]:
    """The collections of each run that was measured, oldest run first."""
    files = sorted((own / MEASURED).glob("gc-*.log"))
    return [read_gc_log(_lines(file)) for file in files]


def _lines(file: Path) -> Iterator[str]:
    with file.open(encoding="utf-8", errors="replace") as log:
        yield from log.read(LARGEST_LOG).splitlines()


def process_runs(own: Path) -> list[list[tuple[float, float]]]:
    """The samples of each run, oldest run first: seconds since its start, resident MiB."""
    return [list(_samples(file)) for file in sorted((own / MEASURED).glob("process-*.csv"))]


def _samples(file: Path) -> Iterator[tuple[float, float]]:
    for line in _lines(file):
        parts = line.split(",")
        with contextlib.suppress(ValueError, IndexError):
            yield float(parts[0]), float(parts[1])
