"""Progress on standard error: a spinner where a person looks on, plain lines elsewhere."""

import sys
from typing import TYPE_CHECKING

from rhizon.app.reporter import Reporter
from rhizon.cli.output import Output, console
from rhizon.core.names import plain

if TYPE_CHECKING:
    from rich.status import Status

__all__ = ["ConsoleReporter"]


class ConsoleReporter(Reporter):
    """``lines`` shows the server's log too: to standard output, or to standard error beside JSON."""

    def __init__(self, out: Output, *, lines: bool = False) -> None:
        self._quiet = out.quiet
        self._to = console(stderr=True)
        self._log = self._to if out.json else console()
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
        if not self._quiet:
            from rich.text import Text

            self._to.print(Text.assemble(("  ✓ ", "green"), plain(text)), soft_wrap=True)

    def progress(self, text: str, part: float) -> None:
        if self._status is not None:
            from rich.text import Text

            share = f" {part:.0%}" if part else ""
            self._status.update(Text(f"{self._text} … {plain(text)}{share}"))

    def line(self, text: str) -> None:
        if self._lines and not self._quiet:
            from rich.text import Text

            self._log.print(Text(text, style="dim"), soft_wrap=True)

    def end(self) -> None:
        """Takes the spinner away; the last thing a command does with its reporter."""
        if self._status is not None:
            self._status.stop()
            self._status = None
