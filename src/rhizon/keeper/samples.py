"""Samples of a server's processes: memory, threads and processor time, from /proc."""

import contextlib
import os
import time
from collections.abc import Sequence
from pathlib import Path

__all__ = ["Samples"]

SECONDS = 5.0


class Samples:
    """Appends a line every few seconds: seconds since the start, resident MiB, threads, processor seconds."""

    def __init__(self, path: Path) -> None:
        self._path = path
        self._begun = time.monotonic()
        self._next = 0.0
        self._page = os.sysconf("SC_PAGE_SIZE")
        self._ticks = os.sysconf("SC_CLK_TCK")

    @property
    def due(self) -> bool:
        """Whether it is time for one."""
        return time.monotonic() - self._begun >= self._next

    def take(self, family: Sequence[int]) -> None:
        """One sample of these processes. What cannot be written is not measured: the server matters more."""
        seconds = time.monotonic() - self._begun
        self._next = seconds + SECONDS
        resident = threads = 0
        used = 0.0
        for pid in family:
            with contextlib.suppress(OSError, ValueError, IndexError):
                fields = Path(f"/proc/{pid}/stat").read_text("utf-8", "replace").rpartition(")")[2].split()
                used += (int(fields[11]) + int(fields[12])) / self._ticks
                threads += int(fields[17])
                resident += int(fields[21]) * self._page
        with contextlib.suppress(OSError), self._path.open("a", encoding="utf-8") as file:
            file.write(f"{seconds:.1f},{resident / (1 << 20):.1f},{threads},{used:.2f}\n")
