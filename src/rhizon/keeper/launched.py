"""A server that its launcher leaves running: which process it is, and how it ends.

A process whose parent has ended becomes a child of the nearest one that asked for it (prctl(2),
PR_SET_CHILD_SUBREAPER). So the server is found among our own children, and its exit code is ours to read.
"""

import contextlib
import os
import re
import time
from collections.abc import Collection
from pathlib import Path

__all__ = ["Successor", "adopt_orphans", "began", "find_successor", "wait_for_successor"]

_SUBREAPER = 36


def began(pid: int) -> float:
    """When a process began, in seconds since 1970, as psutil says it; 0 for one that is gone, or where the system has
    no /proc."""
    with contextlib.suppress(OSError, ValueError, IndexError):
        fields = Path(f"/proc/{pid}/stat").read_text("utf-8", "replace").rpartition(")")[2].split()
        if fields[0] == "Z":
            return 0.0
        with Path("/proc/stat").open(encoding="utf-8") as file:
            boot = next(float(line.split()[1]) for line in file if line.startswith("btime"))
        return boot + int(fields[19]) / os.sysconf("SC_CLK_TCK")
    return 0.0


def adopt_orphans() -> None:
    """From now on, what a child leaves running becomes a child of this process, where the system can do that."""
    import ctypes  # it is large, and few need it

    with contextlib.suppress(OSError, AttributeError):
        ctypes.CDLL(None).prctl(_SUBREAPER, 1, 0, 0, 0)


class Successor:
    """The process that a launcher left running. ``since`` tells it from a later one with its number."""

    def __init__(self, pid: int, since: float) -> None:
        self.pid = pid
        self.since = since
        self._ended: tuple[bool, int | None] | None = None

    def poll(self) -> tuple[bool, int | None]:
        """Whether it has ended, and with which code: 128 + N where signal N ended it, None where that is not known."""
        if self._ended is not None:
            return self._ended
        try:
            done, status = os.waitpid(self.pid, os.WNOHANG)
        except ChildProcessError:
            found = began(self.pid)
            if not (found and abs(found - self.since) < 2):
                self._ended = True, None
            return self._ended or (False, None)
        if not done:
            return False, None
        code = os.waitstatus_to_exitcode(status)
        self._ended = True, (128 - code if code < 0 else code)
        return self._ended


def find_successor(folder: Path, pid_file: str, since: float, not_these: Collection[int]) -> Successor | None:
    """The server of a launcher that began at ``since``: by the file that names it, else the first of our children that
    began after it and is none of ``not_these``. None while there is none; a process of somebody else is none."""
    if pid_file:
        named = _named(folder / pid_file)
        found = [(began(named), named)] if named and _ours(named) else []
    else:
        found = [(began(pid), pid) for pid in _children() if pid not in not_these]
    born = sorted((when, pid) for when, pid in found if when and when >= since - 1)
    return Successor(born[0][1], born[0][0]) if born else None


def _named(file: Path) -> int:
    """The number in a file; 0 where there is none."""
    with contextlib.suppress(OSError, ValueError):
        match = re.search(r"\d{1,9}", file.read_text("utf-8", "replace")[:200])
        return int(match[0]) if match is not None and int(match[0]) > 1 else 0
    return 0


def _ours(pid: int) -> bool:
    with contextlib.suppress(OSError):
        return Path(f"/proc/{pid}").stat().st_uid == os.geteuid() and pid != os.getpid()
    return False


def _children() -> list[int]:
    found = []
    own = os.getpid()
    with contextlib.suppress(OSError):
        for one in os.scandir("/proc"):
            if one.name.isdecimal():
                with contextlib.suppress(OSError, ValueError, IndexError):
                    text = Path(one.path, "stat").read_text("utf-8", "replace")
                    if int(text.rpartition(")")[2].split()[1]) == own:
                        found.append(int(one.name))
    return found


def wait_for_successor(
    folder: Path, pid_file: str, since: float, not_these: Collection[int], seconds: float
) -> Successor | None:
    """The same, waiting that long for it."""
    until = time.monotonic() + seconds
    while (found := find_successor(folder, pid_file, since, not_these)) is None and time.monotonic() < until:
        time.sleep(0.05)
    return found
