"""Everything that is printed for people: verdicts, tables, findings, errors; and the one JSON object for programs."""

import os
import shlex
import sys
from collections.abc import Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, NamedTuple

from rhizon.core.errors import RhizonError
from rhizon.core.finding import Finding
from rhizon.core.names import printable

if TYPE_CHECKING:
    from rich.console import Console
    from rich.text import Text

__all__ = [
    "Output",
    "Step",
    "console",
    "is_narrow",
    "next_steps",
    "say",
    "shortened",
    "show_error",
    "show_findings",
    "show_pairs",
    "show_table",
    "verdict",
    "write_json",
]

PIPE_WIDTH = 120
NARROW = 110  # columns
GAP = 2  # columns between two cells
HANG = 2  # columns that a finding's further lines stand further in
LEAST = 10  # columns that a shortened cell keeps
LEAST_PROSE = 24  # columns that a folded cell keeps
COLOURS = {"error": "red", "warning": "yellow", "note": "cyan"}


class Output(NamedTuple):
    """How this command is to speak."""

    json: bool = False
    quiet: bool = False
    verbose: bool = False
    wide: bool = False
    events: bool = False


class Step(NamedTuple):
    """A command to type next, as words, and what it does."""

    command: tuple[str, ...]
    meaning: str


def console(*, stderr: bool = False) -> "Console":
    """A console that neither marks up nor highlights text: what comes from outside is only text."""
    from rich.console import Console

    class Plain(Console):
        def on_broken_pipe(self) -> None:  # the reader has seen enough: that is not a failure
            raise BrokenPipeError

    stream = sys.stderr if stderr else sys.stdout
    width = None if stream.isatty() or "COLUMNS" in os.environ else PIPE_WIDTH
    return Plain(file=stream, markup=False, highlight=False, emoji=False, width=width, soft_wrap=False)


def _is_bounded(to: "Console") -> bool:
    """Whether lines must fit a width: on a terminal, and where the person has set COLUMNS."""
    return to.is_terminal or "COLUMNS" in os.environ


def is_narrow(to: "Console") -> bool:
    """Whether a table has to be brief to keep a row on one line."""
    return _is_bounded(to) and to.width < NARROW


def write_json(document: object) -> None:
    """One object and one line end on standard output."""
    from rhizon.core.model.decode import encode_line

    sys.stdout.flush()
    sys.stdout.buffer.write(encode_line(document) + b"\n")  # UTF-8, whatever the locale says
    sys.stdout.flush()


def show_error(error: RhizonError) -> None:
    """What happened, why, what to do: on standard error."""
    to = console(stderr=True)
    from rich.text import Text

    _line(to, Text.assemble(("error: ", "bold red"), printable(error.message)), HANG)
    for line in error.details:
        _line(to, Text("  " + printable(line), style="dim"), 2 * HANG)
    _line(to, Text.assemble(("hint: ", "bold cyan"), printable(error.hint)), HANG, whole="rhizon " in error.hint)


def _line(to: "Console", text: "Text", hang: int = 0, *, whole: bool = False) -> None:
    """Broken between words for a person, what follows the first line ``hang`` columns further in; whole where somebody
    else reads it, or where it holds a command to copy."""
    if whole or not _is_bounded(to):
        to.print(text, soft_wrap=True)
        return
    for line in _folded(to, text, to.width, hang):
        to.print(line, soft_wrap=True)


def _folded(to: "Console", text: "Text", width: int, hang: int = 0) -> "Iterator[Text]":
    """The lines of a text, without blanks at their ends."""
    first, *rest = text.wrap(to, max(width - hang, 1), overflow="fold") or [text]
    first.rstrip()
    yield first
    for line in rest:
        line.rstrip()
        line.pad_left(hang)
        yield line


def verdict(to: "Console", text: str, *, good: bool = True) -> None:
    """The first line of an answer."""
    from rich.text import Text

    mark = ("✓ ", "bold green") if good else ("✗ ", "bold red")
    _line(to, Text.assemble(mark, (printable(text), "bold")), HANG)


def say(to: "Console", text: str) -> None:
    """A line of text, cleaned."""
    from rich.text import Text

    _line(to, Text(printable(text)), HANG)


def shortened(text: str, width: int) -> str:
    """``text`` in at most ``width`` columns, its middle left out: both ends of a path or a name tell more."""
    from rich.cells import cell_len, set_cell_size

    if cell_len(text) <= width:
        return text
    tail = max((width - 1) * 3 // 5, 1)
    head = width - 1 - tail
    end = text[len(text) - tail :]
    while cell_len(end) > tail:
        end = end[1:]
    return f"{set_cell_size(text, head).rstrip() if head else ''}…{end}"


def show_table(
    to: "Console",
    columns: Sequence[str],
    rows: Iterable[Sequence[str]],
    *,
    right: Sequence[str] = (),
    prose: Sequence[str] = (),
    wide: bool = False,
) -> None:
    """A table; cells are cleaned. Columns named in ``right`` are numbers, those in ``prose`` are sentences.

    Where a person looks and it does not fit, sentences are folded between words and other cells lose their middle, so
    that a row is one line where no sentence is in it. With ``wide``, and where a program reads, every cell is whole.
    """
    from rich.cells import cell_len
    from rich.text import Text

    cells = [[printable(cell) for cell in row] for row in rows]
    widths = [max(map(cell_len, column)) for column in zip(columns, *cells, strict=True)]
    if _is_bounded(to) and not wide:
        _fit(widths, to.width - GAP * (len(widths) - 1), columns, right, prose)

    def lines(row: Sequence[str]) -> Iterator[str]:
        parts = []
        for name, cell, width in zip(columns, row, widths, strict=True):
            if name in prose and cell_len(cell) > width:
                parts.append([one.plain for one in _folded(to, Text(cell), width)])
            else:
                parts.append([shortened(cell, width)])
        for number in range(max(map(len, parts))):
            padded = []
            for name, part, width in zip(columns, parts, widths, strict=True):
                cell = part[number] if number < len(part) else ""
                blank = " " * (width - cell_len(cell))
                padded.append(blank + cell if name in right else cell + blank)
            yield (" " * GAP).join(padded).rstrip()

    for head in lines(columns):
        to.print(Text(head, style="bold"), soft_wrap=True)
    rule = "─" * min(sum(widths) + GAP * (len(widths) - 1), to.width if _is_bounded(to) and not wide else 10_000)
    to.print(Text("\n".join([rule, *(line for row in cells for line in lines(row))])), soft_wrap=True)


def _fit(widths: list[int], room: int, columns: Sequence[str], right: Sequence[str], prose: Sequence[str]) -> None:
    """Takes columns away from the widest until all fit: from sentences first, then from all but the first column, which
    names the row; numbers and heads are cut last."""
    heads = [len(name) for name in columns]
    sentences = [i for i, name in enumerate(columns) if name in prose]
    others = [i for i, name in enumerate(columns) if name not in right and name not in prose]
    readable = [max(head, LEAST) for head in heads]
    phases = (
        (sentences, [LEAST_PROSE] * len(heads)),
        ([i for i in others if i], readable),
        (sentences, readable),
        (others, readable),
        (list(range(len(heads))), [3] * len(heads)),
    )
    for members, least in phases:
        while sum(widths) > room:
            wide = [i for i in members if widths[i] > least[i]]
            if not wide:
                break
            widths[max(wide, key=lambda i: widths[i])] -= 1


def show_findings(to: "Console", findings: Sequence[Finding]) -> None:
    """Each finding with what and how to fix it, in the order given."""
    from rich.text import Text

    for one in findings:
        head = Text.assemble(
            (f"{one.severity} ", f"bold {COLOURS[one.severity]}"),
            (printable(one.subject), "bold"),
            f": {printable(one.what)}",
        )
        _line(to, head, HANG)
        if one.remedy:
            hint = Text.assemble(("  → ", "cyan"), (printable(one.remedy), "dim"))
            _line(to, hint, 2 * HANG, whole="rhizon " in one.remedy)


def next_steps(to: "Console", steps: Sequence[Step]) -> None:
    """Commands to type next, each with what it does; quoted for a shell and never broken over lines."""
    from rich.cells import cell_len
    from rich.text import Text

    if not steps:
        return
    to.print()
    to.print(Text("next:", style="bold"))
    commands = [shlex.join(printable(word) for word in one.command) for one in steps]
    width = max((cell_len(one) for one in commands if cell_len(one) <= 64), default=0)
    for command, one in zip(commands, steps, strict=True):
        blank = " " * (max(width - cell_len(command), 0) + 2)
        line = Text.assemble("  ", (command, "cyan"), blank, (printable(one.meaning), "dim"))
        to.print(line, soft_wrap=True)


def show_pairs(to: "Console", rows: Sequence[tuple[str, str]]) -> None:
    """Names with what belongs to each, folded beside its name; rows without a value are left out."""
    from rich.cells import cell_len
    from rich.text import Text

    shown = [(printable(name), printable(value)) for name, value in rows if value]
    width = max((cell_len(name) for name, _ in shown), default=0) + GAP
    bounded = _is_bounded(to)
    for name, value in shown:
        room = max(to.width - width, LEAST)
        lines = list(_folded(to, Text(value), room)) if bounded else [Text(value)]
        first, *rest = lines
        to.print(Text.assemble((name + " " * (width - cell_len(name)), "dim"), first), soft_wrap=True)
        for line in rest:
            line.pad_left(width)
            to.print(line, soft_wrap=True)
