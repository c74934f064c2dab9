"""Progress on standard error: a spinner where a person looks on, plain lines elsewhere."""

import contextlib
import sys
from typing import TYPE_CHECKING

from rhizon.app.reporter import Reporter
from rhizon.cli.output import Output, console
from rhizon.core.names import plain

if TYPE_CHECKING:
    from rich.status import Status

__all__ = ["ConsoleReporter"]


class ConsoleReporter(Reporter):
    """``lines`` shows the server's log too: to standard output, or to standard error beside JSON. Without
    ``results`` only the spinner is shown: for commands whose answer says it all."""

    def __init__(self, out: Output, *, lines: bool = False, results: bool = True) -> None:
        self._results = results
        self._quiet = out.quiet
        self._to = console(stderr=True)
        # beside a spinner the log must come through the spinner's own console
        self._log = self._to if out.json or sys.stdout.isatty() else console()
        self._lines = lines
        self._live = sys.stderr.isatty() and not out.quiet
        self._status: Status | None = None
        self._text = ""

    def step(self, text: str) -> None:
        self._text = plain(text)
        if self._live:
            self.end()
            from rich.status import Status
            from rich.text import Text

            self._status = Status(Text(self._text + " …"), console=self._to, spinner="line")
            self._status.start()

    def done(self, text: str) -> None:
        self.end()
        if self._results and not self._quiet:
            from rich.text import Text

            with contextlib.suppress(OSError):  # what cannot be told is no reason to stop
                self._to.print(Text.assemble(("  ✓ ", "green"), plain(text)), soft_wrap=True)

    def progress(self, text: str, part: float) -> None:
        if self._status is not None:
            from rich.text import Text

            share = f" {part:.0%}" if part else ""
            self._status.update(Text(f"{self._text} … {plain(text)}{share}"))

    def line(self, text: str) -> None:
        if self._lines and not self._quiet:
            from rich.text import Text

            with contextlib.suppress(OSError):
                self._log.print(Text(text, style="dim"), soft_wrap=True)

    def close(self) -> None:
        """Takes the spinner away and sets what was told apart from the answer that follows."""
        self.end()
        if self._live and self._results and self._text:
            self._to.print()

    def end(self) -> None:
        """Takes the spinner away."""
        if self._status is not None:
            self._status.stop()
            self._status = None
