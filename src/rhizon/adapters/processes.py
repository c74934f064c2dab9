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
from typing import TYPE_CHECKING, Any, NamedTuple

import psutil

from rhizon.core.errors import StateError
from rhizon.core.model.game import ConsoleRule, StopSignal
from rhizon.core.words import command_line
from rhizon.keeper.launched import Successor, adopt_orphans, wait_for_successor
from rhizon.keeper.process import started_in

if TYPE_CHECKING:
    from rhizon.keeper.consoles import ServerConsole

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
SUCCESSOR_SECONDS = 5.0
POLL_SECONDS = 0.05
SIGNALS: Mapping[StopSignal, signal.Signals] = {
    "interrupt": signal.SIGINT,
    "terminate": signal.SIGTERM,
    "hangup": signal.SIGHUP,
    "quit": signal.SIGQUIT,
}


class ServerProcess:
    """Started in its own session, so that Ctrl-C in the terminal reaches us and not the server.

    Lines of both of its streams arrive in the order in which it wrote them. ``launcher`` and ``console`` are as in
    :class:`rhizon.keeper.job.Job`.
    """

    def __init__(
        self,
        command: Sequence[str],
        folder: Path,
        environment: Mapping[str, str] | None = None,
        encoding: str = "utf-8",
        *,
        launcher: dict[str, Any] | None = None,
        console: dict[str, Any] | None = None,
    ) -> None:
        if launcher is not None:
            adopt_orphans()
        try:
            self._process = subprocess.Popen(
                list(command),
                cwd=folder,
                env=started_in(environment or {}),
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
        self._streams_over = False
        self._folder = folder
        self._launcher = launcher
        self._successor: Successor | None = None
        self._console: ServerConsole | None = None
        if console is not None:
            from rhizon.keeper.consoles import console_by

            self._console = console_by(console, folder, encoding, self._lines.put)
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
        if self.over:
            return None
        try:
            line = self._lines.get(timeout=max(seconds, 0.0))
        except queue.Empty:
            return None
        self._streams_over = self._streams_over or line is None
        return line

    @property
    def over(self) -> bool:
        """The server has closed its streams and every line was read; one that its launcher left has ended too."""
        if not self._streams_over or not self._lines.empty():
            return False
        return self._launcher is None or self.wait(0) is not None

    @property
    def launched(self) -> bool:
        """Whether its launcher has ended and left it running."""
        if self._launcher is not None and self._successor is None and self._process.poll() == 0:
            self.wait(0)
        return self._successor is not None

    @property
    def unheard(self) -> str:
        """Why nothing can be typed into its console; "" where it can, as far as is known."""
        return self._console.failed if self._console is not None else ""

    def send(self, command: str) -> None:
        """Types one line into the server's console, from any thread; a server that is gone hears nothing."""
        if self._console is not None:
            self._console.send(command)
            return
        stream = self._process.stdin
        assert stream is not None
        with self._typing, contextlib.suppress(OSError, ValueError):
            stream.write(command.encode("utf-8", "surrogateescape") + b"\n")
            stream.flush()

    def ask_to_stop(self, rule: ConsoleRule, *, again: bool = False) -> None:
        """Asks it to stop, over its console or by the signal that it knows; ``again``: it did not hear the first. A
        server that is gone hears nothing."""
        if rule.stop and not again:
            self.send(rule.stop)
            return
        with contextlib.suppress(OSError):
            number = SIGNALS[rule.stop_signal or "terminate"]
            if self._successor is None:
                self._process.send_signal(number)
            elif not self._successor.poll()[0]:
                os.kill(self.pid, number)

    def wait(self, seconds: float) -> int | None:
        """The exit code (128 + N where signal N ended it), or None when it still runs."""
        if self._successor is None:
            try:
                code = self._process.wait(seconds)
            except subprocess.TimeoutExpired:
                return None
            if code == 0 and self._launcher is not None:
                file = str(self._launcher.get("pid_file") or "")
                self._successor = wait_for_successor(self._folder, file, self.since, (), SUCCESSOR_SECONDS)
            if self._successor is None:
                return 128 - code if code < 0 else code
            self.pid, self.since = self._successor.pid, self._successor.since
        until = time.monotonic() + seconds
        while not (ended := self._successor.poll())[0]:
            if time.monotonic() >= until:
                return None
            time.sleep(POLL_SECONDS)
        return ended[1] if ended[1] is not None else 0

    def end(self) -> None:
        """Ends it and its children at once, asking first."""
        if self._successor is not None:
            ended(self.pid, self.since)
            return
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
        if self._process.poll() is None or (self._successor is not None and not self._successor.poll()[0]):
            self.end()
        if self._console is not None:
            self._console.close()
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
