"""Progress on standard error: a spinner where a person looks on, plain lines elsewhere, JSON lines with --events."""

import contextlib
import json
import sys
from typing import TYPE_CHECKING

from rhizon.app.reporter import Reporter
from rhizon.cli.output import Output, console
from rhizon.core.names import printable

if TYPE_CHECKING:
    from rich.status import Status

__all__ = ["CommandReporter", "ConsoleReporter", "EventReporter", "new_reporter"]


class CommandReporter(Reporter):
    """A reporter that a command opens and closes."""

    def end(self) -> None:
        """Takes away what is shown of the current step, so that something else can be printed."""

    def close(self) -> None:
        """The same at the end of the command."""


def new_reporter(out: Output, *, log: bool, results: bool) -> CommandReporter:
    """The one that the options ask for. With ``log`` the server's lines are shown, with ``results`` what each step came
    to; without it only the current step, for commands whose answer says it all."""
    return EventReporter(log=log) if out.events else ConsoleReporter(out, log=log, results=results)


class EventReporter(CommandReporter):
    """One JSON object a line: ``step``, ``done``, ``warning``, ``progress`` (``part`` from 0 to 1) and, with ``log``,
    ``line``."""

    def __init__(self, *, log: bool) -> None:
        self._log = log

    def step(self, text: str) -> None:
        self._write("step", text)

    def done(self, text: str) -> None:
        self._write("done", text)

    def warning(self, text: str) -> None:
        self._write("warning", text)

    def progress(self, text: str, part: float) -> None:
        self._write("progress", text, part=round(part, 3))

    def line(self, text: str) -> None:
        if self._log:
            self._write("line", text)

    def _write(self, event: str, text: str, **more: float) -> None:
        with contextlib.suppress(OSError):  # a reader that went away is not a reason to stop
            line = json.dumps({"event": event, "text": printable(text), **more}, ensure_ascii=False)
            sys.stderr.buffer.write(line.encode("utf-8", "replace") + b"\n")
            sys.stderr.flush()


class ConsoleReporter(CommandReporter):
    """``log`` shows the server's log too: to standard output, or to standard error beside JSON. Without ``results``
    only the spinner is shown."""

    def __init__(self, out: Output, *, log: bool = False, results: bool = True) -> None:
        self._results = results
        self._quiet = out.quiet
        self._to = console(stderr=True)
        # beside a spinner the log must come through the spinner's own console
        self._log = self._to if out.json or sys.stdout.isatty() else console()
        self._lines = log
        self._live = sys.stderr.isatty() and not out.quiet
        self._status: Status | None = None
        self._text = ""

    def step(self, text: str) -> None:
        self._text = printable(text)
        if self._live:
            self.end()
            from rich.status import Status
            from rich.text import Text

            self._status = Status(Text(self._text + " …"), console=self._to, spinner="line")
            self._status.start()

    def done(self, text: str) -> None:
        self._result("  ✓ ", "green", text)

    def warning(self, text: str) -> None:
        self._result("  ! ", "yellow", text)

    def _result(self, sign: str, style: str, text: str) -> None:
        self.end()
        if self._results and not self._quiet:
            from rich.text import Text

            with contextlib.suppress(OSError):  # progress that cannot be shown is not a reason to stop
                self._to.print(Text.assemble((sign, style), printable(text)), soft_wrap=True)

    def progress(self, text: str, part: float) -> None:
        if self._status is not None:
            from rich.text import Text

            share = f" {part:.0%}" if part else ""
            self._status.update(Text(f"{self._text} … {printable(text)}{share}"))

    def line(self, text: str) -> None:
        if self._lines and not self._quiet:
            from rich.text import Text

            with contextlib.suppress(OSError):
                self._log.print(Text(text, style="dim"), soft_wrap=True)

    def close(self) -> None:
        """Takes the spinner away and leaves a blank line before the answer that follows."""
        self.end()
        if self._live and self._results and self._text:
            self._to.print()

    def end(self) -> None:
        if self._status is not None:
            self._status.stop()
            self._status = None
