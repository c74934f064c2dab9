"""A server as a child process: its lines, its console, its end."""

import codecs
import contextlib
import os
import queue
import signal
import subprocess
import threading
import time
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

import psutil

from rhizon.core.errors import StateError
from rhizon.core.model.game import ConsoleRule, StopSignal
from rhizon.core.words import command_line

__all__ = [
    "SIGNALS",
    "ServerProcess",
    "Usage",
    "alive",
    "began",
    "ended",
    "holder_of",
    "program_of",
    "signalled",
    "usage_of",
]

LONGEST_LINE = 16 << 10
KILL_SECONDS = 5.0
SIGNALS: Mapping[StopSignal, signal.Signals] = {"interrupt": signal.SIGINT, "terminate": signal.SIGTERM}


class ServerProcess:
    """Started in its own session, so that Ctrl-C in the terminal reaches us and not the server.

    Lines of both of its streams arrive in the order in which it wrote them.
    """

    def __init__(
        self,
        command: Sequence[str],
        folder: Path,
        environment: Mapping[str, str] | None = None,
        encoding: str = "utf-8",
    ) -> None:
        try:
            self._process = subprocess.Popen(
                list(command),
                cwd=folder,
                env={**os.environ, **(environment or {})},
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.STDOUT,
                start_new_session=True,
            )
        except OSError as broken:
            raise StateError(
                "cannot-start",
                f"{command[0]} cannot be started: {broken.strerror}",
                hint=f"See what is wrong: {command_line('rhizon', 'check', folder)}",
            ) from None
        self.pid = self._process.pid
        self.since = psutil.Process(self.pid).create_time()
        self._lines: queue.SimpleQueue[str | None] = queue.SimpleQueue()
        self._over = False
        self._decoder = codecs.getincrementaldecoder(encoding)("replace")
        self._typing = threading.Lock()
        threading.Thread(target=self._read, daemon=True).start()

    def _read(self) -> None:
        stream = self._process.stdout
        assert stream is not None
        while raw := stream.readline(LONGEST_LINE):
            self._lines.put(self._decoder.decode(raw).rstrip("\r\n"))
        self._lines.put(None)

    def line(self, seconds: float) -> str | None:
        """The next line, or None when none came in that time or the streams have ended (:attr:`over`)."""
        if self._over:
            return None
        try:
            line = self._lines.get(timeout=max(seconds, 0.0))
        except queue.Empty:
            return None
        self._over = line is None
        return line

    @property
    def over(self) -> bool:
        """The server has closed its streams and every line was read."""
        return self._over

    def send(self, command: str) -> None:
        """Types one line into the server's console, from any thread; a server that is gone hears nothing."""
        stream = self._process.stdin
        assert stream is not None
        with self._typing, contextlib.suppress(OSError, ValueError):
            stream.write(command.encode("utf-8", "surrogateescape") + b"\n")
            stream.flush()

    def ask_to_stop(self, rule: ConsoleRule) -> None:
        """Asks it to stop, over its console or by the signal that it knows; a server that is gone hears nothing."""
        if rule.stop_signal is None:
            self.send(rule.stop)
            return
        with contextlib.suppress(OSError):
            self._process.send_signal(SIGNALS[rule.stop_signal])

    def wait(self, seconds: float) -> int | None:
        """The exit code (128 + N where signal N ended it), or None when it still runs."""
        try:
            code = self._process.wait(seconds)
        except subprocess.TimeoutExpired:
            return None
        return 128 - code if code < 0 else code

    def end(self) -> None:
        """Ends it and its children at once, asking first."""
        children: list[psutil.Process] = []
        with contextlib.suppress(psutil.Error):
            children = psutil.Process(self.pid).children(recursive=True)
        self._process.terminate()
        for one in children:
            with contextlib.suppress(psutil.Error):
                one.terminate()
        if self.wait(KILL_SECONDS) is None:  # asked by its own object: the one who waits first gets the exit code
            self._process.kill()
            self._process.wait()
        _, left = psutil.wait_procs(children, timeout=KILL_SECONDS)
        for one in left:
            with contextlib.suppress(psutil.Error):
                one.kill()

    def close(self) -> None:
        """Gives the pipes back; ends the server if it still runs."""
        if self._process.poll() is None:
            self.end()
        for stream in (self._process.stdin, self._process.stdout):
            if stream is not None:
                with contextlib.suppress(OSError):
                    stream.close()


def ended(pid: int, since: float) -> None:
    """Ends that very process and its children, asking first; one that is gone needs nothing."""
    if not alive(pid, since):
        return
    family: list[psutil.Process] = []
    with contextlib.suppress(psutil.Error):
        family = [psutil.Process(pid), *psutil.Process(pid).children(recursive=True)]
    for one in family:
        with contextlib.suppress(psutil.Error):
            one.terminate()
    _, left = psutil.wait_procs(family, timeout=KILL_SECONDS)
    for one in left:
        with contextlib.suppress(psutil.Error):
            one.kill()
    psutil.wait_procs(left, timeout=KILL_SECONDS)


def signalled(pid: int, since: float, name: StopSignal) -> None:
    """Asks that very process to stop by a signal; one that is gone hears nothing."""
    if alive(pid, since):
        with contextlib.suppress(OSError):
            os.kill(pid, SIGNALS[name])


def began(pid: int) -> float:
    """When a process began, in seconds since 1970; 0 for one that is gone."""
    with contextlib.suppress(psutil.Error):
        return float(psutil.Process(pid).create_time())
    return 0.0


class Usage(NamedTuple):
    """Resident memory in MiB of a process and all that it started, the share of one processor that they used on
    average since they began, and the seconds of it."""

    memory_mib: float
    processor: float
    seconds: float


def usage_of(pid: int) -> Usage | None:
    """What a process and its children use now; None for one that is gone."""
    resident = used = 0.0
    try:
        first = psutil.Process(pid)
        seconds = max(time.time() - first.create_time(), 0.001)
        for one in (first, *first.children(recursive=True)):
            with contextlib.suppress(psutil.Error):
                resident += one.memory_info().rss
                times = one.cpu_times()
                used += times.user + times.system
    except psutil.Error:
        return None
    return Usage(round(resident / (1 << 20), 1), round(used / seconds, 3), used)


def program_of(pid: int) -> str:
    """The name of a process's program, "" for one that is gone."""
    with contextlib.suppress(psutil.Error):
        return str(psutil.Process(pid).name())
    return ""


def alive(pid: int, since: float) -> bool:
    """Whether that very process (not a later one with its number) still runs."""
    with contextlib.suppress(psutil.Error):
        process = psutil.Process(pid)
        return abs(process.create_time() - since) < 2 and process.status() != psutil.STATUS_ZOMBIE
    return False


def holder_of(number: int) -> str:
    """Which program holds a port, as far as the system lets us see."""
    with contextlib.suppress(psutil.Error, OSError):
        for one in psutil.net_connections("inet"):
            if one.laddr and one.laddr.port == number and one.pid and one.pid != os.getpid():
                return f"{psutil.Process(one.pid).name()} (process {one.pid})"
    return "another program"
