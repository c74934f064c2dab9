"""Everything that is printed: results for people or as one JSON object, errors, tables, findings."""

import functools
import os
import sys
from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple, TypeVar

import click

from rhizon.core.errors import RhizonError
from rhizon.core.finding import Finding
from rhizon.core.names import plain

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table

__all__ = ["Output", "common", "mib", "next_steps", "show_error", "show_findings", "show_table", "size", "verdict"]

F = TypeVar("F", bound=Callable[..., Any])

PIPE_WIDTH = 120
COLOURS = {"error": "red", "warning": "yellow", "info": "cyan"}


class Output(NamedTuple):
    """How this command is to speak."""

    json: bool
    quiet: bool
    verbose: bool

    def result(self, result: object, render: Callable[["Console"], None], findings: Sequence[Finding] = ()) -> None:
        """The one result: as JSON, or rendered for a person (nothing when quiet)."""
        if self.json:
            show_json({"ok": True, "result": result} | ({"findings": list(findings)} if findings else {}))
        elif not self.quiet:
            render(console())


def common(function: F) -> F:
    """The options that every command has; the command gets them as ``out``."""

    @click.option("--json", "as_json", is_flag=True, help="Print exactly one JSON object on standard output.")
    @click.option("-q", "--quiet", is_flag=True, help="Print nothing but errors.")
    @click.option("-v", "--verbose", is_flag=True, help="Print more: the server's log, every file.")
    @click.option("--debug", is_flag=True, help="Show a traceback when something goes wrong.")
    @functools.wraps(function)
    def wrapped(*, as_json: bool, quiet: bool, verbose: bool, debug: bool, **rest: Any) -> Any:  # noqa: ARG001
        return function(out=Output(as_json, quiet, verbose), **rest)

    return wrapped  # type: ignore[return-value]


def console(*, stderr: bool = False) -> "Console":
    """A console that neither marks up nor highlights text: what comes from outside is only text."""
    from rich.console import Console

    stream = sys.stderr if stderr else sys.stdout
    width = None if stream.isatty() or "COLUMNS" in os.environ else PIPE_WIDTH
    return Console(file=stream, markup=False, highlight=False, emoji=False, width=width, soft_wrap=False)


def show_json(document: object) -> None:
    """One object and one line end."""
    from rhizon.core.model.decode import encode_line

    sys.stdout.write(encode_line(document).decode() + "\n")
    sys.stdout.flush()


def show_error(error: RhizonError, *, as_json: bool) -> None:
    """What happened, why, what to do: on standard error, or as the JSON object."""
    if as_json:
        details = {"details": [plain(one) for one in error.details]} if error.details else {}
        shown = {"code": error.code, "message": plain(error.message), "hint": plain(error.hint), **details}
        show_json({"ok": False, "error": shown})
        return
    to = console(stderr=True)
    from rich.padding import Padding
    from rich.text import Text

    to.print(Text.assemble(("error: ", "bold red"), plain(error.message)))
    for line in error.details:
        to.print(Padding(Text(plain(line), style="dim"), (0, 0, 0, 2)))
    to.print(Text.assemble(("hint: ", "bold cyan"), plain(error.hint)))


def verdict(to: "Console", text: str, *, good: bool = True) -> None:
    """The first line of an answer."""
    from rich.text import Text

    to.print(Text.assemble(("✓ " if good else "✗ ", "bold green" if good else "bold red"), (plain(text), "bold")))


def show_table(
    to: "Console", columns: Sequence[str], rows: Iterable[Sequence[str]], *, right: Sequence[str] = ()
) -> None:
    """A plain table; cells are cleaned. Columns named in ``right`` are numbers."""
    from rich.text import Text

    table = new_table(columns, right)
    for row in rows:
        table.add_row(*(Text(plain(cell)) for cell in row))
    to.print(table)


def new_table(columns: Sequence[str], right: Sequence[str] = ()) -> "Table":
    """The one look of our tables."""
    from rich import box
    from rich.table import Table

    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, header_style="bold", show_edge=False)
    for column in columns:
        table.add_column(column, justify="right" if column in right else "left", overflow="fold")
    return table


def show_findings(to: "Console", findings: Sequence[Finding]) -> None:
    """Each finding with what and how to mend it, worst first as they come."""
    from rich.padding import Padding
    from rich.text import Text

    for one in findings:
        head = Text.assemble(
            (f"{one.severity} ", f"bold {COLOURS[one.severity]}"), (plain(one.subject), "bold"), f": {plain(one.what)}"
        )
        to.print(head)
        if one.remedy:
            to.print(Padding(Text.assemble(("→ ", "cyan"), (plain(one.remedy), "dim")), (0, 0, 0, 2)))


def next_steps(to: "Console", steps: Sequence[tuple[str, str]]) -> None:
    """Commands to type next, each with what it does."""
    from rich.table import Table
    from rich.text import Text

    to.print()
    to.print(Text("next:", style="bold"))
    grid = Table.grid(padding=(0, 2))
    for command, meaning in steps:
        grid.add_row(Text("  " + plain(command), style="cyan"), Text(plain(meaning), style="dim"))
    to.print(grid)


def size(number: int) -> str:
    """Bytes for a person."""
    if number < 1000:
        return f"{number} B"
    if number < 1_000_000:
        return f"{number / 1000:.1f} kB"
    return f"{number / 1e6:.1f} MB" if number < 1_000_000_000 else f"{number / 1e9:.2f} GB"


def mib(number: int) -> str:
    """MiB for a person."""
    return f"{number} MiB" if number < 10240 else f"{number / 1024:.1f} GiB"
