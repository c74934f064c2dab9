"""Keepers (:mod:`rhizon.keeper`): started, found, and the servers that they keep as processes to follow."""

import codecs
import contextlib
import os
import signal
import subprocess
import sys
import time
from collections import deque
from pathlib import Path

import msgspec

from rhizon.adapters.console import ConsoleClient
from rhizon.adapters.files import translated
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.processes import alive
from rhizon.core.errors import StateError
from rhizon.core.model.game import ConsoleRule
from rhizon.core.words import command_line
from rhizon.keeper.job import Job
from rhizon.keeper.places import JOB, LIFE, OUTPUT

__all__ = [
    "KeptProcess",
    "Life",
    "adopt",
    "end_keeper",
    "keeper_command",
    "keeper_ended",
    "life_of",
    "start_keeper",
    "tell_pages",
]

START_SECONDS = 30.0
POLL_SECONDS = 0.05
KILL_SECONDS = 30.0
CHUNK = 256 << 10
LONGEST_LINE = 16 << 10
ENDED = ("stopped", "crashed", "crash-loop")
LOG = "keeper.log"  # what a keeper and the commands that it starts have to say


class _Process(msgspec.Struct, frozen=True):
    pid: int = 0
    since: float = 0.0


class Life(msgspec.Struct, frozen=True, kw_only=True):
    """``life.json``: what the keeper wrote last. ``began``, ``ended``, ``changed``, ``next_start`` are seconds since
    1970; ``restarts`` how often it was started again; ``log_start`` the first byte that the log still has."""

    state: str
    pid: int = 0
    process_since: float = 0.0
    began: float = 0.0
    ended: float | None = None
    changed: float = 0.0
    ready_seconds: float | None = None
    exit_code: int | None = None
    restarts: int = 0
    next_start: float | None = None
    why: str = ""
    log_start: int = 0
    keeper: _Process = _Process()

    @property
    def kept(self) -> bool:
        """Whether that keeper still runs."""
        return alive(self.keeper.pid, self.keeper.since)


def life_of(home: InstanceFolder) -> Life | None:
    """What the last keeper of a server wrote; None where there was none, or it cannot be read."""
    with contextlib.suppress(OSError, msgspec.MsgspecError):
        return msgspec.json.decode((home.own / LIFE).read_bytes(), type=Life)
    return None


def keeper_command(folder: Path) -> list[str]:
    """What is executed for a keeper; ``-P``: nothing is imported from where it is started."""
    return [sys.executable, "-P", "-m", "rhizon.keeper", str(folder)]


def start_keeper(home: InstanceFolder, job: Job) -> Life:
    """Starts a keeper that outlives this process, and with it the server. Raises :class:`StateError` where the server
    cannot be started."""
    with translated("write what the keeper is to do", home.own / JOB):
        (home.own / LIFE).unlink(missing_ok=True)
        job.write(home.folder)
    return _begun(home, keeper_command(home.folder), job.command[0])


def adopt(home: InstanceFolder) -> Life:
    """Gives a server whose keeper is gone a new one. Raises :class:`StateError`."""
    if not (home.own / JOB).is_file():
        raise StateError(
            "server-unheard",
            "the server is running, but its console cannot be reached",
            hint="It was started by another program, or by an older Rhizon. Stop it there first.",
        )
    return _begun(home, [*keeper_command(home.folder), "--adopt"], "the keeper")


def _begun(home: InstanceFolder, command: list[str], what: str) -> Life:
    """Starts the process and waits until it has written down what it did."""
    with (home.own / LOG).open("ab") as log:
        if log.tell() > CHUNK:
            log.truncate(0)
        process = subprocess.Popen(
            [*command, "--background"], cwd="/", stdin=subprocess.DEVNULL, stdout=log, stderr=log
        )
    try:
        code = process.wait(START_SECONDS)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()
        raise StateError(
            "keeper-failed", "the keeper of the server did not start", hint=f"See {home.own / LOG}"
        ) from None
    life = life_of(home)
    if code or life is None:
        raise StateError(
            "keeper-failed",
            f"the keeper of the server ended with exit code {code}",
            details=_end_of(home.own / LOG),
            hint=f"Its output is in {home.own / LOG}",
        )
    if life.pid == 0 and not life.began:
        raise StateError(
            "cannot-start",
            f"{what} cannot be started: {life.why}",
            hint=f"See what is wrong: {command_line('rhizon', 'check', home.folder)}",
        )
    return life


def _end_of(path: Path) -> list[str]:
    with contextlib.suppress(OSError):
        return path.read_text("utf-8", "replace").splitlines()[-4:]
    return []


def tell_pages(home: InstanceFolder, pages: list[str]) -> None:
    """Tells the keeper of a running server which pages show its state. Raises StateError where it does not hear."""
    mark = home.running()
    if mark is not None:
        with ConsoleClient(home, mark) as client:
            client.ask({"pages": pages})


def end_keeper(life: Life) -> None:
    """Ends a keeper whose server has ended, and waits for it. Raises StateError where it stays."""
    with contextlib.suppress(OSError):
        os.kill(life.keeper.pid, signal.SIGTERM)
    if not keeper_ended(life):
        raise StateError("keeper-failed", "the keeper of the server does not end", hint=f"End {life.keeper.pid}.")


def keeper_ended(life: Life) -> bool:
    """Waits for a keeper that is about to end; False where it does not."""
    until = time.monotonic() + KILL_SECONDS
    while life.kept:
        if time.monotonic() > until:
            return False
        time.sleep(POLL_SECONDS)
    return True


class KeptProcess:
    """A server with a keeper, as a process whose lines are read: the same as
    :class:`~rhizon.adapters.processes.ServerProcess`, but that it goes on when this one ends.

    ``whole``: from the beginning of its log; otherwise from now on. ``client`` is a way to its keeper; without, one is
    opened, unless it is ``silent``: then lines are only read.
    """

    def __init__(
        self,
        home: InstanceFolder,
        life: Life,
        encoding: str,
        *,
        whole: bool = True,
        client: ConsoleClient | None = None,
        silent: bool = False,
    ) -> None:
        self._home = home
        self._life = life
        mark = home.running()
        self.pid = life.pid
        self.since = life.process_since
        if client is None and not silent and mark is not None and not mark.is_bare:
            client = ConsoleClient(home, mark)
        self._client = client
        self._detached = False
        self._over = False
        self._decoder = codecs.getincrementaldecoder(encoding)("replace")
        self._lines: deque[str] = deque()
        self._rest = ""
        self._file = (home.own / OUTPUT).open("rb", buffering=0)
        self._file.seek(life.log_start if whole else 0, os.SEEK_SET if whole else os.SEEK_END)

    @property
    def over(self) -> bool:
        """The server has ended and every line was read."""
        return self._over and not self._lines

    def line(self, seconds: float) -> str | None:
        """The next line, or None when none came in that time or the server has ended."""
        until = time.monotonic() + seconds
        while not self._lines and not self._over:
            ended = self._ended()  # before it is read on, so that nothing is missed
            if not self._read() and ended:
                self._over = True
                if self._rest:
                    self._lines.append(self._rest)
                    self._rest = ""
            if self._lines or self._over or time.monotonic() >= until:
                break
            time.sleep(min(POLL_SECONDS, max(until - time.monotonic(), 0)))
        return self._lines.popleft() if self._lines else None

    def _read(self) -> bool:
        """Whether there was something more."""
        data = self._file.read(CHUNK)
        if not data:
            return False
        *whole, self._rest = (self._rest + self._decoder.decode(data)).split("\n")
        self._lines.extend(one.rstrip("\r")[:LONGEST_LINE] for one in whole)
        self._rest = self._rest[:LONGEST_LINE]
        return True

    def _ended(self) -> bool:
        """Whether this run of the server is over: it ended, or the next one has begun, or nothing of it is left."""
        life = life_of(self._home)
        if life is None or life.began != self._life.began:
            return True
        self._life = life
        if life.pid:  # another one, where a launcher started it
            self.pid, self.since = life.pid, life.process_since
        return life.state in ENDED or (not life.kept and not alive(self.pid, self.since))

    def send(self, command: str) -> None:
        """Types one line into the console; a server that is gone hears nothing."""
        if self._client is not None:
            with contextlib.suppress(StateError):
                self._client.send(command)

    @property
    def launched(self) -> bool:
        """The keeper sees to that too."""
        return False

    @property
    def unheard(self) -> str:
        """The keeper sees to that."""
        return ""

    def ask_to_stop(self, _rule: ConsoleRule, *, again: bool = False) -> None:
        """Asks the keeper, who knows how, and when to ask harder."""
        if self._client is not None and not again:
            with contextlib.suppress(StateError):
                self._client.stop()

    def give_up(self) -> None:
        """The keeper does not start it again when it ends."""
        if self._client is not None:
            with contextlib.suppress(StateError):
                self._client.ask({"give_up": True})

    def wait(self, seconds: float) -> int | None:
        """The exit code as it was meant, or None when it still runs; -1 where it is not known."""
        until = time.monotonic() + seconds
        while not self._ended():
            if time.monotonic() >= until:
                return None
            time.sleep(POLL_SECONDS)
        code = self._life.exit_code
        if code is None:
            return 0 if self._life.state == "stopped" else -1
        return code

    def end(self) -> None:
        """Ends it at once."""
        if self._client is not None:
            with contextlib.suppress(StateError):
                self._client.kill()
        self.wait(KILL_SECONDS)

    def detach(self) -> None:
        """Leaves it running when this is closed."""
        self._detached = True

    def close(self) -> None:
        """Ends the server if it still runs and was not detached, and gives the handles back."""
        if not self._detached and not self._ended():
            self.end()
        if self._client is not None:
            self._client.close()
        self._file.close()
