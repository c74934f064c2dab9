"""Everything that is printed: results for people or as one JSON object, errors, tables, findings."""

import functools
import os
import sys
from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple, TypeVar

import click

from rhizon.core.errors import NoSolutionError, RhizonError
from rhizon.core.finding import Finding
from rhizon.core.names import plain

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table
    from rich.text import Text

__all__ = [
    "Output",
    "common",
    "console",
    "next_steps",
    "say",
    "show_error",
    "show_findings",
    "show_json",
    "show_pairs",
    "show_table",
    "verdict",
]

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


GAP = 3  # between two columns
HANG = 2  # columns that a finding's further lines stand further in


def console(*, stderr: bool = False) -> "Console":
    """A console that neither marks up nor highlights text: what comes from outside is only text."""
    from rich.console import Console

    class Plain(Console):
        def on_broken_pipe(self) -> None:  # the reader has seen enough: that is no failure
            raise BrokenPipeError

    stream = sys.stderr if stderr else sys.stdout
    width = None if stream.isatty() or "COLUMNS" in os.environ else PIPE_WIDTH
    return Plain(file=stream, markup=False, highlight=False, emoji=False, width=width, soft_wrap=False)


def show_json(document: object) -> None:
    """One object and one line end."""
    from rhizon.core.model.decode import encode_line

    sys.stdout.flush()
    sys.stdout.buffer.write(encode_line(document) + b"\n")  # UTF-8, whatever the locale says
    sys.stdout.flush()


def show_error(error: RhizonError, *, as_json: bool) -> None:
    """What happened, why, what to do: on standard error, or as the JSON object."""
    if as_json:
        details = {"details": [plain(one) for one in error.details]} if error.details else {}
        shown: dict[str, object] = {
            "code": error.code,
            "message": plain(error.message),
            "hint": plain(error.hint),
            **details,
        }
        if isinstance(error, NoSolutionError) and error.core:
            shown |= {"core": error.core, "repairs": error.repairs}
        show_json({"ok": False, "error": shown})
        return
    to = console(stderr=True)
    from rich.text import Text

    _line(to, Text.assemble(("error: ", "bold red"), plain(error.message)))
    for line in error.details:
        _line(to, Text("  " + plain(line), style="dim"))
    _line(to, Text.assemble(("hint: ", "bold cyan"), plain(error.hint)))


def _line(to: "Console", text: "Text", hang: int = 0) -> None:
    """Broken between words for a person, what follows the first line ``hang`` columns further in; whole where somebody
    else reads it."""
    if not to.is_terminal or not hang:
        to.print(text, soft_wrap=not to.is_terminal)
        return
    first, *rest = text.wrap(to, max(to.width - hang, 1), overflow="fold") or [text]
    to.print(first)
    for line in rest:
        line.pad_left(hang)
        to.print(line)


def verdict(to: "Console", text: str, *, good: bool = True) -> None:
    """The first line of an answer."""
    from rich.text import Text

    mark = ("✓ ", "bold green") if good else ("✗ ", "bold red")
    _line(to, Text.assemble(mark, (plain(text), "bold")))


def say(to: "Console", text: str) -> None:
    """A line of text, cleaned."""
    from rich.text import Text

    _line(to, Text(plain(text)))


def show_table(
    to: "Console", columns: Sequence[str], rows: Iterable[Sequence[str]], *, right: Sequence[str] = ()
) -> None:
    """A plain table; cells are cleaned. Columns named in ``right`` are numbers. Where a person looks, cells that do not
    fit are folded; where a program reads, every row is one line."""
    from rich.cells import cell_len
    from rich.text import Text

    cells = [[plain(cell) for cell in row] for row in rows]
    widths = [max(map(cell_len, column)) for column in zip(columns, *cells, strict=True)]
    if to.is_terminal and sum(widths) + GAP * (len(widths) - 1) > to.width:
        table = _new_table(columns, right)
        for row in cells:
            table.add_row(*map(Text, row))
        to.print(table)
        return

    def line(row: Sequence[str]) -> str:
        padded = []
        for name, cell, width in zip(columns, row, widths, strict=True):
            blank = " " * (width - cell_len(cell))
            padded.append(blank + cell if name in right else cell + blank)
        return (" " * GAP).join(padded).rstrip()

    to.print(Text(line(columns), style="bold"), soft_wrap=True)
    rule = "─" * (sum(widths) + GAP * (len(widths) - 1))
    to.print(Text("\n".join([rule, *map(line, cells)])), soft_wrap=True)


def _new_table(columns: Sequence[str], right: Sequence[str] = ()) -> "Table":
    """The one look of our tables."""
    from rich import box
    from rich.table import Table

    table = Table(box=box.SIMPLE_HEAD, pad_edge=False, header_style="bold", show_edge=False)
    for column in columns:
        table.add_column(column, justify="right" if column in right else "left", overflow="fold")
    return table


def show_findings(to: "Console", findings: Sequence[Finding]) -> None:
    """Each finding with what and how to mend it, worst first as they come."""
    from rich.text import Text

    for one in findings:
        head = Text.assemble(
            (f"{one.severity} ", f"bold {COLOURS[one.severity]}"), (plain(one.subject), "bold"), f": {plain(one.what)}"
        )
        _line(to, head, HANG)
        if one.remedy:
            _line(to, Text.assemble(("  → ", "cyan"), (plain(one.remedy), "dim")), 2 * HANG)


def next_steps(to: "Console", steps: Sequence[tuple[Sequence[str], str]]) -> None:
    """Commands to type next, each with what it does; quoted for a shell and never broken over lines."""
    import shlex

    from rich.cells import cell_len
    from rich.text import Text

    to.print()
    to.print(Text("next:", style="bold"))
    commands = [shlex.join(plain(word) for word in words) for words, _ in steps]
    width = max((cell_len(one) for one in commands if cell_len(one) <= 64), default=0)
    for command, (_, meaning) in zip(commands, steps, strict=True):
        blank = " " * (width - cell_len(command) + 2)
        line = Text.assemble("  ", (command, "cyan"), blank, (plain(meaning), "dim"))
        to.print(line, soft_wrap=True)


def show_pairs(to: "Console", rows: Sequence[tuple[str, str]]) -> None:
    """Names with what belongs to each; rows without a value are left out."""
    from rich.table import Table
    from rich.text import Text

    grid = Table.grid(padding=(0, 2))
    grid.add_column(overflow="fold")
    grid.add_column(overflow="fold")
    for name, value in rows:
        if value:
            grid.add_row(Text(name, style="dim"), Text(plain(value)))
    to.print(grid)
