"""How a change of an instance is shown: what differs for whom, the plan, the lines that change in settings."""

import collections
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from rhizon.cli.output import say
from rhizon.core.changes import Changes, ValueChange
from rhizon.core.plan import ACTIONS, Step
from rhizon.core.settings.apply import format_value
from rhizon.core.units import mib_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.instance.edited_files import FileDiff
    from rhizon.cli.command import Call

__all__ = ["show_changes", "show_counts", "show_diffs", "show_plan", "value_text"]

_DONE: Mapping[str, str] = {
    "back up": "backed up",
    "place": "placed",
    "replace": "replaced",
    "merge": "merged",
    "remove": "removed",
    "keep": "kept",
}


def show_changes(to: "Console", changes: Changes, call: "Call") -> None:
    """A table of releases, then a line for each other value."""
    rows = []
    for one in changes.releases:
        whom = " and ".join(word for word, flag in (("server", one.server), ("players", one.players)) if flag)
        rows.append((one.id, str(one.before or "-"), str(one.after or "removed"), whom))
    if rows:
        call.table(to, ("release", "before", "after", "for"), rows)
    if rows and (changes.target or changes.settings or changes.ports or changes.memory is not None):
        to.print()
    for name, values in (("target", changes.target), ("setting", changes.settings), ("port", changes.ports)):
        for value in values:
            say(to, f"{name} {value.name}: {_text(value.before)} → {_text(value.after)}")
    if changes.memory is not None:
        before, after = changes.memory.before, changes.memory.after
        say(to, f"memory: {mib_text(int(before or 0))} → {mib_text(int(after or 0))} of heap")


def _text(value: str | int | bool | None) -> str:
    return "(none)" if value is None or value == "" else format_value(value)


def value_text(value: ValueChange) -> str:
    """One value before and after."""
    return f"{value.name}: {_text(value.before)} → {_text(value.after)}"


def show_plan(to: "Console", steps: Sequence[Step], call: "Call", *, whole: bool) -> None:
    """What is done to which file and why; files that stay only where all is asked for."""
    rows = [(one.action, one.path, one.reason) for one in steps if whole or one.action != "keep"]
    if rows:
        to.print()
        call.table(to, ("action", "file", "reason"), rows, prose=("reason",))


def show_counts(to: "Console", steps: Sequence[Step], *, planned: bool) -> None:
    """How many files each thing is done to."""
    counts = collections.Counter(str(step.action) for step in steps if step.action != "back up")
    words = [f"{counts[action]} {'to ' + action if planned else _DONE[action]}" for action in ACTIONS if counts[action]]
    to.print()
    say(to, "files: " + (", ".join(words) or "none"))


def show_diffs(to: "Console", diffs: "Sequence[FileDiff]") -> None:
    """The lines that change, added ones green and removed ones red on a terminal."""
    from rich.text import Text

    colours = {"+": "green", "-": "red", "@": "cyan"}
    for told in diffs:
        if told.lines:
            to.print()
            to.print(Text(told.path, style="bold"))
        for line in told.lines:
            to.print(Text("  " + line, style=colours.get(line[:1], "dim")), soft_wrap=True)
