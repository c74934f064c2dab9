"""Keeping one server: start or adopt it, follow its output, answer commands, start it again after a crash."""

import contextlib
import fcntl
import os
import re
import secrets
import signal
import subprocess
import sys
import time
from collections import deque
from pathlib import Path
from typing import TYPE_CHECKING, Any

from rhizon.keeper.control import Client, Control, Holds
from rhizon.keeper.followed import FollowedLogs
from rhizon.keeper.job import Job
from rhizon.keeper.launched import began
from rhizon.keeper.notify import ServiceManager
from rhizon.keeper.output import Output, archive_run
from rhizon.keeper.pages import Pages
from rhizon.keeper.places import INPUT, LIFE, OPENED, OWN, RUNNING, read_json, write_json
from rhizon.keeper.process import KILL_SECONDS, Server
from rhizon.keeper.ready import READY_MARK, ReadyWatch
from rhizon.keeper.samples import Samples

if TYPE_CHECKING:
    from rhizon.keeper.consoles import ServerConsole

__all__ = ["Keeper"]

BATCH_SECONDS = 0.1  # output is read ten times a second
START_SECONDS = 0.02  # and more often while the server starts, to tell how long its parts take
STOP_PER_START = 5  # times the seconds from start to ready: a machine that is busy then is busy later
LONGEST_PAUSE = 600.0
MOST_ANSWERS = 10_000
EVENT_SECONDS = 900.0
LOOK_SECONDS = 15.0  # at what has to be renewed
SIGNALS = {
    "interrupt": signal.SIGINT,
    "terminate": signal.SIGTERM,
    "hangup": signal.SIGHUP,
    "quit": signal.SIGQUIT,
}


class Keeper:
    """One keeper. ``state`` is one of starting, ready, stopping, stopped, crashed, crash-loop."""

    def __init__(self, folder: Path, job: Job) -> None:
        self._folder = folder
        self._own = folder / OWN
        self._job = job
        self._manager = ServiceManager()
        self._ready = re.compile(job.ready, re.MULTILINE)
        self._ready_line = re.compile(job.ready_line, re.MULTILINE) if job.ready_line else None
        self._watch: ReadyWatch | None = None
        self._console: ServerConsole | None = None
        self._answers: deque[str] = deque(maxlen=MOST_ANSWERS)
        self._closed = re.compile(job.closed, re.MULTILINE) if job.closed else None
        self._token = secrets.token_hex(16)
        self._server: Server | None = None
        self._output: Output | None = None
        self._files: FollowedLogs | None = None
        self._samples: Samples | None = None
        self._holds = Holds(job.hold, self._type)
        self._event: tuple[subprocess.Popen[bytes], float] | None = None
        self._pages = Pages(self._job.pages)
        self._untold: list[str] = []
        self._said_closed = False
        self._stop_at = 0.0  # when a server that was asked to stop is asked harder
        self._next = 0.0  # when it is started again
        self._given_up = False
        self._stop_asked = False
        self._restarts: list[float] = []
        self._life: dict[str, Any] = {"restarts": 0}
        self._attended = job.attended
        self._look_again = 0.0

    # ---- the loop

    def run(self, *, adopt: bool) -> int:
        """Until the server has ended for good. The exit code: 0 where it was stopped, 1 where it crashed."""
        for number in (signal.SIGTERM, signal.SIGINT):
            signal.signal(number, self._signalled)
        signal.signal(signal.SIGHUP, signal.SIG_IGN)
        control = Control(self._folder, self._token, self._asked, self._holds.end)
        try:
            if not (adopt and self._adopt()):
                self._start()
            while self._goes_on():
                control.wait(START_SECONDS if self._life["state"] == "starting" else BATCH_SECONDS)
                self._manager.alive()
                self._pages.tell(self._life["state"])
        finally:
            control.close()
            self._release()
            self._pages.tell(self._life["state"])
        return 0 if self._life["state"] == "stopped" else 1

    def _signalled(self, *_: object) -> None:
        """A signal only asks: the loop stops the server, so that it is not in the middle of something else."""
        self._stop_asked = True

    def _goes_on(self) -> bool:
        """One round: False when there is nothing to keep any more."""
        if self._stop_asked:
            self._stop_asked = False
            self._stop()
        if self._server is not None:
            before = self._server.pid
            self._server.not_these = {self._event[0].pid} if self._event is not None else ()
            over, code = self._server.poll()  # first, so that what it printed before its end is read
            if self._server.pid != before:
                self._mark()
                self._told(self._life["state"], pid=self._server.pid, process_since=self._server.since)
            self._look()
            self._read(last=over)
            if over:
                self._ended(code)
            else:
                self._hurry()
                if self._samples is not None and self._samples.due:
                    self._samples.take(self._server.family())
        self._renew()
        if self._event is not None:
            process, until = self._event
            if process.poll() is not None:
                self._event = None
                self._next_event()
            elif time.monotonic() > until:
                process.kill()
        if self._server is not None or self._event is not None:
            return True
        if self._next and not self._given_up:
            if time.monotonic() >= self._next:
                self._start_again()
            return True
        return False

    def _renew(self) -> None:
        """A router forgets what it forwards unless it is asked again in time; a command of Rhizon does that."""
        if self._server is None or time.monotonic() < self._look_again or not self._job.events:
            return
        self._look_again = time.monotonic() + LOOK_SECONDS
        opened = read_json(self._own / OPENED)
        if opened is not None and time.time() >= float(opened.get("renew_at") or 0) and "renew" not in self._untold:
            self._untold.append("renew")
            self._next_event()

    # ---- the server

    def _start(self) -> None:
        """Starts the server; one that cannot be started has crashed."""
        self._said_closed = False
        self._stop_at = 0.0
        with contextlib.suppress(ValueError, TypeError):  # an event may have changed what to start
            self._job = Job.read(self._folder)
        self._ready_line = re.compile(self._job.ready_line, re.MULTILINE) if self._job.ready_line else None
        self._life["line_seen"] = False
        try:
            if self._job.watch is not None:  # before the start: what is there now is not of this run
                self._watch = ReadyWatch(self._folder, self._job.watch)
            archive_run(self._folder)
            self._output = Output(self._folder, self._job.encoding)
            self._files = FollowedLogs(self._folder, [(path, encoding) for path, encoding in self._job.files])
            self._server = Server.start(self._folder, self._job)
        except OSError as broken:
            self._told("crashed", why=f"{broken.filename or self._job.command[0]}: {broken.strerror}", pid=0)
            self._after_crash()
            return
        self._open_ways()
        self._samples = Samples(self._own / "measured" / f"process-{time.strftime('%Y-%m-%d_%H-%M-%S')}.csv")
        self._mark()
        self._told(
            "starting",
            pid=self._server.pid,
            process_since=self._server.since,
            began=time.time(),
            ready_seconds=None,
            exit_code=None,
            ended=None,
            why="",
        )

    def _adopt(self) -> bool:
        """Takes over a server whose keeper is gone, from where that one had read."""
        mark, life = read_json(self._own / RUNNING), read_json(self._own / LIFE)
        if mark is None:
            return False
        server = Server.adopt(self._folder, int(mark.get("pid", 0)), float(mark.get("since", 0)))
        if server is None:
            return False
        self._server = server
        self._life = life if life is not None and life.get("pid") == server.pid else self._life
        offset = int(self._life.get("offset", 0))
        self._output = Output(self._folder, self._job.encoding, offset, int(self._life.get("log_start", 0)))
        self._files = FollowedLogs(self._folder, [(path, encoding) for path, encoding in self._job.files])
        self._samples = Samples(self._own / "measured" / f"process-{time.strftime('%Y-%m-%d_%H-%M-%S')}.csv")
        self._open_ways()
        if self._life.get("line_seen"):
            self._ready_line = None
        self._attended = False
        self._mark()
        state = "ready" if self._life.get("ready_seconds") is not None else "starting"
        self._told(state, pid=server.pid, adopted=time.time())
        if state == "ready":
            self._manager.tell("READY=1\nSTATUS=ready")
        return True

    def _open_ways(self) -> None:
        """The console of a server that has another one than its input, and the watch of one that does not say itself
        that it is ready."""
        job = self._job
        if job.console is not None:
            from rhizon.keeper.consoles import console_by  # few servers need it, and it is large

            self._console = console_by(job.console, self._folder, job.encoding, self._answers.append)
        if job.watch is not None:
            self._watch = self._watch or ReadyWatch(self._folder, job.watch)
            self._watch.start()

    def _look(self) -> None:
        """What the watch found becomes a line of the log, which readers of logs know."""
        if self._watch is None or self._server is None:
            return
        if self._server.launched:
            self._watch.launched.set()
        if self._watch.said and self._ready_line is None and self._output is not None:
            self._output.append(f"{READY_MARK}{self._watch.said}\n".encode(self._job.encoding, "replace"))
            self._watch = None

    def _mark(self) -> None:
        """Says which process runs, and how its console is reached."""
        assert self._server is not None
        mark = {"pid": self._server.pid, "since": self._server.since, "port": 0, "token": self._token}
        with contextlib.suppress(OSError):
            write_json(self._own / RUNNING, mark, 0o600)

    def _read(self, *, last: bool) -> None:
        """What the server printed since the last round, and what is in its log files."""
        assert self._output is not None and self._files is not None
        added = [line for line, _ in self._files.lines(last=last)]
        while self._answers:
            added.append(self._answers.popleft())
        if added:
            self._output.append("".join(f"{line}\n" for line in added).encode(self._job.encoding, "replace"))
        for text in self._output.read():
            self._heard(text)
        if last and (rest := self._output.rest()):
            self._heard(rest)
        self._output.rotate()
        if self._output.start != self._life.get("log_start", 0):
            self._told(self._life["state"])  # the next keeper, and readers, begin behind the hole

    def _heard(self, text: str) -> None:
        """Whole lines that came together: most have no sign, which one search shows."""
        if self._manager.there:  # its journal has the log too
            with contextlib.suppress(OSError):
                sys.stdout.write(f"{text}\n")
                sys.stdout.flush()
        if self._life["state"] == "starting" and self._first(self._ready, text):
            seconds = time.time() - float(self._life.get("began", time.time()))
            self._told("ready", ready_seconds=round(seconds, 2))
            if self._output is not None:
                self._output.exact = False
            self._manager.tell("READY=1\nSTATUS=ready")
            self._send_event("ready")
        if self._ready_line is not None and self._first(self._ready_line, text):
            self._ready_line = None
            self._life["line_seen"] = True
        if self._closed is not None and not self._said_closed:
            self._said_closed = self._first(self._closed, text)
        if self._holds.awaited:
            for line in text.split("\n"):
                self._holds.heard(line.rstrip("\r"))

    @staticmethod
    def _first(pattern: "re.Pattern[str]", text: str) -> bool:
        """Whether a line has the sign; a match over several lines is none."""
        return pattern.search(text) is not None and any(pattern.search(line.rstrip("\r")) for line in text.split("\n"))

    def _type(self, line: str) -> bool:
        if self._server is None:
            return False
        if self._console is not None:
            return self._console.send(line)
        return self._server.send(line, self._job.encoding)

    def _stop(self) -> None:
        """Asks the server to stop, once; one that waits to be started again is given up."""
        self._given_up = True
        if self._server is None or self._life["state"] == "stopping":
            return
        seconds = max(self._job.stop_seconds, STOP_PER_START * float(self._life.get("ready_seconds") or 0))
        self._stop_at = time.monotonic() + seconds
        self._told("stopping")
        self._manager.tell("STOPPING=1\nSTATUS=stopping")
        if not self._job.stop or not self._type(self._job.stop):
            self._server.signal(self._signal)
            self._life["signalled"] = True

    @property
    def _signal(self) -> int:
        """The signal that ends the server."""
        return SIGNALS.get(self._job.stop_signal, signal.SIGTERM)

    def _hurry(self) -> None:
        """Ends a server that was asked to stop and does not: by a signal, and then at once."""
        if not self._stop_at or self._server is None:
            return
        unheard = self._console is not None and self._console.failed and not self._life.get("signalled")
        if time.monotonic() <= self._stop_at and not unheard:
            return
        if self._life.get("hurried"):
            self._server.kill()
        elif self._job.stop and self._job.stop_signal and not self._life.get("signalled"):
            self._server.signal(self._signal)  # it knows both, and has its time for the second too
            self._told("stopping", signalled=True)
            self._stop_at = time.monotonic() + self._job.stop_seconds
        else:
            self._server.signal(signal.SIGTERM)
            self._told("stopping", hurried=True, signalled=True)
            self._stop_at = time.monotonic() + KILL_SECONDS

    def _ended(self, code: int | None) -> None:
        """It has ended: as it was asked to, by a command in its console, or by a crash."""
        asked = self._life["state"] == "stopping"
        by_signal = self._job.stop_signal and code == 128 + SIGNALS[self._job.stop_signal]
        meant = 0 if by_signal else code
        # A code that is not known is judged by what was said.
        well = asked or meant == 0 or (self._said_closed and (code is None or code < 128))
        self._close_server()
        for name in (RUNNING, INPUT):  # a FIFO that nobody reads would stop programs that copy the folder
            with contextlib.suppress(OSError):
                (self._own / name).unlink()
        self._told(
            "stopped" if well else "crashed", exit_code=meant, ended=time.time(), pid=0, hurried=False, signalled=False
        )
        if not well:
            self._after_crash()
        elif self._job.restart == "always" and not asked:
            self._again()

    def _after_crash(self) -> None:
        """Tells of it, and starts the server again where that is wanted."""
        self._send_event("crashed")
        if self._job.restart in ("on-crash", "always"):
            self._again()

    def _again(self) -> None:
        """A restart after a pause, twice as long each time, unless there were too many."""
        now = time.time()
        self._restarts = [one for one in self._restarts if now - one < self._job.within_seconds]
        if len(self._restarts) >= self._job.most_restarts:
            self._told("crash-loop", why=f"{len(self._restarts)} restarts within {self._job.within_seconds:.0f} s")
            self._manager.tell("STATUS=crash-loop")
            return
        pause = min(self._job.pause_seconds * 2 ** len(self._restarts), LONGEST_PAUSE)
        self._restarts.append(now)
        self._next = time.monotonic() + pause
        self._told(self._life["state"], restarts=self._life.get("restarts", 0) + 1, next_start=now + pause)
        self._manager.tell(f"STATUS=crashed, starting again in {pause:.0f} s")

    def _start_again(self) -> None:
        """Starts the server unless a command is changing the instance; none can begin to until it has started."""
        with contextlib.suppress(OSError):
            handle = os.open(self._own / "busy", os.O_RDWR | os.O_CREAT, 0o644)
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                self._next = 0.0
                self._start()
            finally:
                os.close(handle)

    # ---- words to others

    def _asked(self, client: Client, message: dict[str, Any]) -> None:
        """What a command wants."""
        line = message.get("send")
        if isinstance(line, str):
            client.put({"sent": self._type(line)})
        elif message.get("hold") is True:
            self._holds.begin(client)
        elif message.get("stop") is True:
            self._stop()
            client.put({"stopping": True})
        elif message.get("kill") is True:
            self._given_up = True
            if self._server is not None:
                self._told("stopping")
                self._server.kill()
            client.put({"stopping": True})
        elif message.get("give_up") is True:
            self._given_up = True
            client.put({"given_up": True})
        elif isinstance(message.get("pages"), list):
            self._pages.add([one for one in message["pages"] if isinstance(one, str)])
            client.put({"pages": True})
        elif message.get("state") is True:
            client.put({"state": self._life})

    def _told(self, state: str, **facts: Any) -> None:
        """Writes down in which state the server is."""
        self._life.update(facts)
        if state != self._life.get("state"):
            self._life["changed"] = time.time()
        if state != "crashed" and state != "stopped":
            self._life.pop("next_start", None)
        self._life["state"] = state
        self._life["keeper"] = {"pid": os.getpid(), "since": began(os.getpid()) or time.time()}
        if self._output is not None:
            self._life["offset"], self._life["log_start"] = self._output.offset, self._output.start
        with contextlib.suppress(OSError):
            write_json(self._own / LIFE, self._life)

    def _send_event(self, what: str) -> None:
        """Starts the command that is told of events. The first start of an attended job is watched by a person."""
        if self._attended:
            self._attended = what != "ready"
            return
        if self._job.events:
            self._untold.append(what)
            self._next_event()

    def _next_event(self) -> None:
        """Starts the command for the next event where none runs."""
        if self._event is not None or not self._untold:
            return
        command = [*self._job.events, self._untold.pop(0), str(self._folder)]
        with contextlib.suppress(OSError):
            process = subprocess.Popen(
                command, stdin=subprocess.DEVNULL, stdout=sys.stderr, stderr=sys.stderr, start_new_session=True
            )
            self._event = (process, time.monotonic() + EVENT_SECONDS)

    def _close_server(self) -> None:
        for one in (self._server, self._output, self._files, self._console):
            if one is not None:
                one.close()
        if self._watch is not None:
            self._watch.stop()
        self._server = self._output = self._files = self._console = self._watch = None

    def _release(self) -> None:
        """At the end of the keeper; a server that still runs is left running."""
        self._close_server()
