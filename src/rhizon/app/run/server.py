"""Starting a server and judging whether it becomes ready."""

import re
import time
from collections.abc import Callable, Collection
from pathlib import Path
from types import TracebackType
from typing import Protocol

from rhizon.adapters.processes import SIGNALS, ServerProcess
from rhizon.adapters.run_log import LOG, RunLog
from rhizon.adapters.transact import RHIZON
from rhizon.app.reporter import Reporter
from rhizon.app.run.command import StartCommand
from rhizon.core.boot import BootFailure, BootJudge
from rhizon.core.errors import CancelledError, NotReadyError
from rhizon.core.model.game import ConsoleRule, GameDefinition
from rhizon.core.names import printable
from rhizon.core.words import command_line
from rhizon.keeper.followed import FollowedLogs
from rhizon.keeper.ready import READY_MARK, ReadyWatch

__all__ = ["Process", "RunningServer"]

TICK_SECONDS = 0.2
LAST_LINES = 40
STOP_PER_START = 5  # times the seconds from start to ready
TELL_SECONDS = 2.0


class Process(Protocol):
    """A server's process, ours or a keeper's."""

    pid: int
    since: float

    @property
    def over(self) -> bool:
        """It has ended and every line was read."""

    def line(self, seconds: float) -> str | None:
        """The next line, waiting that long for it."""

    def send(self, command: str) -> None:
        """Types a line into its console."""

    @property
    def launched(self) -> bool:
        """Whether its launcher has ended and left it running."""

    @property
    def unheard(self) -> str:
        """Why nothing can be typed into its console; "" where it can."""

    def ask_to_stop(self, rule: ConsoleRule, *, again: bool = False) -> None:
        """Asks it to stop cleanly; ``again``: by what it knows beside its console."""

    def wait(self, seconds: float) -> int | None:
        """The exit code; None when it still runs."""

    def end(self) -> None:
        """Ends it at once."""

    def close(self) -> None:
        """Ends it if it still runs, and gives the handles back."""


class RunningServer:
    """One run of a server, from its start to its end; leaving the ``with`` ends it whatever happened.

    All that it prints, and writes to the log files that its definition names, goes to ``.rhizon/last-run.log``, to the
    reporter and to ``listeners``.
    """

    def __init__(
        self,
        process: Process,
        folder: Path,
        game: GameDefinition,
        reporter: Reporter,
        seen_in_good_runs: Collection[str] = (),
    ) -> None:
        self.game = game
        self.judge = BootJudge(game, seen_in_good_runs)
        self.process = process
        self._reporter = reporter
        self._folder = folder
        self._begun = time.monotonic()
        self._last: list[str] = []
        self.listeners: list[Callable[[str], None]] = []
        self._log: RunLog | None = None
        self._files: FollowedLogs | None = None
        self._watch: ReadyWatch | None = None
        self._ready_line = re.compile(game.log.ready) if game.log.ready else None
        self._log_trouble = ""
        self._ready_seconds = 0.0

    @classmethod
    def start(
        cls,
        command: StartCommand,
        folder: Path,
        game: GameDefinition,
        reporter: Reporter,
        seen_in_good_runs: Collection[str] = (),
    ) -> "RunningServer":
        """Starts a server that ends with this process, without a keeper: one that nobody is to play on. Raises
        StateError."""
        log = RunLog(folder)
        files = FollowedLogs(folder, [(one.path, one.encoding) for one in game.log.files])
        try:
            watch = ReadyWatch(folder, command.watch) if command.watch is not None else None
            process = ServerProcess(
                command.words,
                folder,
                command.environment,
                game.log.encoding,
                launcher=command.launcher,
                console=command.console,
            )
        except BaseException:
            log.close()
            raise
        made = cls(process, folder, game, reporter, seen_in_good_runs)
        made._log, made._files, made._watch = log, files, watch
        if watch is not None:
            watch.start()
        return made

    def __enter__(self) -> "RunningServer":
        return self

    def __exit__(
        self, _kind: type[BaseException] | None, _error: BaseException | None, _at: TracebackType | None
    ) -> None:
        self.close()

    def close(self) -> None:
        """Ends the server if it still runs, and gives the pipes and the log back."""
        self.process.close()
        if self._watch is not None:
            self._watch.stop()
        if self._files is not None:
            self._files.close()
        if self._log is not None:
            self._log.close()

    @property
    def log(self) -> Path:
        """Where all is that it printed."""
        return self._folder / RHIZON / LOG

    @property
    def seconds(self) -> float:
        """Since the start."""
        return time.monotonic() - self._begun

    def pump(self, seconds: float = TICK_SECONDS) -> bool:
        """Takes the next line, waiting that long for it, and what its log files have. False when there was nothing."""
        line = self.process.line(seconds)
        if line is not None:
            self._take(line, "")
        got = line is not None
        for more, source in self._files.lines(last=self.process.over) if self._files is not None else ():
            self._take(more, source)
            got = True
        if self._watch is not None:
            self._look(self._watch)
        return got

    def _look(self, watch: ReadyWatch) -> None:
        """What shows, beside the log, that the server is ready becomes a line of the log."""
        if self.process.launched:
            watch.launched.set()
        if watch.said and self._ready_line is None:
            self._watch = None
            self._take(f"{READY_MARK}{watch.said}", "")

    def _take(self, line: str, source: str) -> None:
        """One line of the server's, printed or from the log file ``source``."""
        shown = printable(line)
        trouble = self._log.write(shown) if self._log is not None else ""
        if trouble and trouble != self._log_trouble:
            self._reporter.line(f"rhizon: the log cannot be written ({trouble}); the server goes on")
        self._log_trouble = trouble
        self._last = [*self._last[1 - LAST_LINES :], shown]
        self._reporter.line(shown)
        for hear in self.listeners:
            hear(line)
        if self._ready_line is not None and self._ready_line.search(line):
            self._ready_line = None
        event = self.judge.feed(line, source)
        if event is not None and event.kind in ("progress", "content"):
            self._reporter.progress(event.text, (event.percent or 0) / 100)

    def until_ready(self, wait: float | None = None, stop_asked: Callable[[], bool] = lambda: False) -> float:
        """Seconds until the server said that it is ready. Raises :class:`NotReadyError` with the reason, and
        :class:`CancelledError` when a stop was asked for meanwhile."""
        limit = float(wait if wait is not None else self.game.log.ready_seconds)
        while not self.judge.ready:
            if not self.pump() and self.process.over:
                code = self.process.wait(10)
                raise self._not_ready(self.judge.verdict(code if code is not None else -1, self.seconds))
            if not self.judge.ready and stop_asked():
                self.stop()
                raise CancelledError(
                    "start-cancelled",
                    "the start was cancelled; the server has stopped",
                    hint="Start it again when you like.",
                )
            if self.seconds > limit:
                raise self._not_ready(self.judge.verdict(None, self.seconds))
        self._ready_seconds = self.seconds
        return self._ready_seconds

    def _named(self, hint: str) -> str:
        """A hint with this server where it says ``{server}``."""
        return hint.replace("{server}", command_line(self._folder))

    def _not_ready(self, failure: BootFailure) -> NotReadyError:
        said = f"the log says: {failure.line}" if failure.line else "it printed nothing"
        wrong = NotReadyError(
            failure.code,
            f"the server did not become ready: {failure.what}",
            details=[said],
            hint=self._named(failure.hint),
        )
        wrong.culprit = failure.culprit
        wrong.frames = failure.frames
        return wrong

    def stop(self) -> int:
        """Asks for a clean stop and waits for it: as long as the definition says, and longer where the start took long
        too, since the machine is busy then. After that the server is ended. The exit code."""
        rule = self.game.console
        self.process.ask_to_stop(rule)
        ended = self._wait_for_end()
        if not ended and ((rule.stop and rule.stop_signal is not None) or self.process.unheard):
            self.process.ask_to_stop(rule, again=True)
            self._wait_for_end()
        code = self.process.wait(1 if self.process.over else 0)
        if code is None:
            self.process.end()
            while self.pump(0):
                pass
            code = self.process.wait(1)
        return self.meant_exit_code(code)

    def _wait_for_end(self) -> bool:
        """Whether it has ended in its time; where its console does not hear, there is nothing to wait for."""
        begun = time.monotonic()
        limit = max(self.game.console.stop_seconds, STOP_PER_START * self._ready_seconds)
        while (waited := time.monotonic() - begun) < limit:
            if not self.pump() and self.process.over:
                return True
            if self.process.unheard:
                return False
            if waited > TELL_SECONDS:
                self._reporter.progress(f"waiting for it to stop for {waited:.0f} s", waited / limit)
        return False

    def meant_exit_code(self, code: int | None) -> int:
        """An exit code as it is meant: that of the signal by which such a server is stopped is a good end."""
        by = self.game.console.stop_signal
        if by is not None and code == 128 + SIGNALS[by]:
            return 0
        return code if code is not None else -1

    @property
    def last_lines(self) -> list[str]:
        """The newest lines of the log."""
        return list(self._last)
