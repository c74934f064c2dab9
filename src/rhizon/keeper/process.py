"""The server as a process: started by the keeper, or adopted from one that died."""

import contextlib
import os
import signal
import stat
import subprocess
import time
from collections.abc import Collection, Mapping
from pathlib import Path
from typing import Any

from rhizon.keeper.job import Job
from rhizon.keeper.launched import Successor, adopt_orphans, began, find_successor
from rhizon.keeper.places import INPUT, OUTPUT, OWN

__all__ = ["PATH_WORD", "Server", "started_in"]

PATH_WORD = "{PATH}"  # in a variable: what this process has as its own PATH
UNKNOWN_CODE = None  # of a process that is not our child
KILL_SECONDS = 5.0
SUCCESSOR_SECONDS = 5.0  # after its launcher's end a server is there, or will not be


def started_in(variables: Mapping[str, str]) -> dict[str, str]:
    """The variables of this process with those that a server is started with."""
    own = {name: text.replace(PATH_WORD, os.environ.get("PATH", os.defpath)) for name, text in variables.items()}
    return {**os.environ, **own}


class Server:
    """One process with its family. ``since`` tells it from a later one with its number. With a launcher it is that
    first, and then the process that the launcher left running (``launched``)."""

    def __init__(self, folder: Path, pid: int, since: float, child: "subprocess.Popen[bytes] | None") -> None:
        self._folder = folder
        self.pid = pid
        self.since = since
        self._child = child
        self._launcher: dict[str, Any] | None = None
        self._successor: Successor | None = None
        self._launcher_ended = 0.0
        self.not_these: Collection[int] = ()  # children of ours that are no servers
        self._input = self._open_input()

    @classmethod
    def start(cls, folder: Path, job: Job) -> "Server":
        """Starts it with the FIFO as its input and the log as its output. Raises OSError."""
        fifo = folder / OWN / INPUT
        if not fifo.exists() or not stat.S_ISFIFO(fifo.lstat().st_mode):
            fifo.unlink(missing_ok=True)
            os.mkfifo(fifo, 0o600)
        # Open for both, a FIFO has a writer as long as the server has it: it never reads end of input.
        given = os.open(fifo, os.O_RDWR | getattr(os, "O_NOFOLLOW", 0))
        _drain(given)
        if job.launcher is not None:
            adopt_orphans()
        output = folder / OWN / OUTPUT
        taken = os.open(output, os.O_WRONLY | os.O_CREAT | os.O_APPEND | getattr(os, "O_NOFOLLOW", 0), 0o644)
        try:
            child = subprocess.Popen(
                job.command,
                cwd=folder,
                env=started_in(job.environment),
                stdin=given,
                stdout=taken,
                stderr=subprocess.STDOUT,
                start_new_session=True,
            )
        finally:
            os.close(given)
            os.close(taken)
        server = cls(folder, child.pid, began(child.pid) or time.time(), child)
        server._launcher = job.launcher
        return server

    @classmethod
    def adopt(cls, folder: Path, pid: int, since: float) -> "Server | None":
        """The server that another keeper started; None where that process is gone."""
        found = began(pid)
        return cls(folder, pid, since, None) if found and abs(found - since) < 2 else None

    def _open_input(self) -> int:
        """The writing end of its input: the FIFO, or what the server itself has open where that was removed."""
        fifo = self._folder / OWN / INPUT
        flags = os.O_RDWR | os.O_NONBLOCK
        with contextlib.suppress(OSError):
            handle = os.open(fifo, flags | getattr(os, "O_NOFOLLOW", 0))
            with contextlib.suppress(OSError):
                theirs = Path(f"/proc/{self.pid}/fd/0").stat()
                ours = os.fstat(handle)
                if (theirs.st_dev, theirs.st_ino) != (ours.st_dev, ours.st_ino):
                    os.close(handle)
                    return os.open(f"/proc/{self.pid}/fd/0", flags)
            return handle
        with contextlib.suppress(OSError):
            return os.open(f"/proc/{self.pid}/fd/0", flags)
        return -1

    def send(self, line: str, encoding: str) -> bool:
        """Types a line into its console. False where it does not take any more: its input is full, or not there."""
        data = "".join(" " if ord(one) < 32 or ord(one) == 127 else one for one in line)
        try:
            os.write(self._input, data.encode(encoding, "replace") + b"\n")
        except OSError:
            return False
        return True

    def poll(self) -> tuple[bool, int | None]:
        """Whether it has ended, and with which code: 128 + N where signal N ended it, None where that is not known."""
        if self._successor is not None:
            return self._successor.poll()
        if self._child is not None:
            code = self._child.poll()
            if code == 0 and self._launcher is not None and not self._find_successor():
                return time.monotonic() > self._launcher_ended + SUCCESSOR_SECONDS, 0
            if self._successor is not None:
                return self._successor.poll()
            return code is not None, (128 - code if code is not None and code < 0 else code)
        found = began(self.pid)
        return not (found and abs(found - self.since) < 2), UNKNOWN_CODE

    @property
    def launched(self) -> bool:
        """Whether its launcher has ended and left it running."""
        return self._successor is not None

    def _find_successor(self) -> bool:
        """Looks for the process that the launcher left; it counts as the server from then on."""
        assert self._launcher is not None
        self._launcher_ended = self._launcher_ended or time.monotonic()
        found = find_successor(self._folder, str(self._launcher.get("pid_file") or ""), self.since, self.not_these)
        if found is None:
            return False
        self._successor, self.pid, self.since = found, found.pid, found.since
        return True

    def signal(self, number: int) -> None:
        """Sends it a signal; one that is gone hears nothing."""
        if not self.poll()[0]:
            with contextlib.suppress(OSError):
                os.kill(self.pid, number)

    def family(self) -> list[int]:
        """Its process and all that it started, as far as the system lets us see."""
        parents: dict[int, int] = {}
        with contextlib.suppress(OSError):
            for one in os.scandir("/proc"):
                if one.name.isdecimal():
                    with contextlib.suppress(OSError, ValueError, IndexError):
                        text = Path(one.path, "stat").read_text("utf-8", "replace")
                        parents[int(one.name)] = int(text.rpartition(")")[2].split()[1])
        found = [self.pid]
        for pid in found:
            found += [child for child, parent in parents.items() if parent == pid]
        return found

    def kill(self) -> None:
        """Ends it and all that it started, at once."""
        for pid in reversed(self.family()):
            with contextlib.suppress(OSError):
                os.kill(pid, signal.SIGKILL)

    def close(self) -> None:
        """Gives the handles back; the server is left as it is."""
        if self._input >= 0:
            os.close(self._input)
            self._input = -1


def _drain(handle: int) -> None:
    """What was typed for a server that is gone is not for the next one."""
    os.set_blocking(handle, False)
    with contextlib.suppress(OSError):
        while os.read(handle, 65536):
            pass
    os.set_blocking(handle, True)
