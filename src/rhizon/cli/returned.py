"""How going back (undo, restore) is shown."""

from pathlib import Path
from typing import TYPE_CHECKING

from rhizon.cli.changes import show_changes, show_counts, show_diffs, show_plan
from rhizon.cli.output import Output, next_steps, say, show_findings, verdict

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.keep.roll_back import RollBackResult

__all__ = ["show_returned"]


def show_returned(to: "Console", done: "RollBackResult", folder: Path, out: Output) -> None:
    """The verdict, what differs, the plan where it is only one, and how to go on."""
    what = f"state {done.to}" if done.to.isdecimal() else f"the backup of {done.to}"
    verdict(
        to, f"{done.name}: {f'this is what going back to {what} would change' if done.planned else f'{what} is back'}"
    )
    show_changes(to, done.changes)
    if done.planned or out.verbose:
        show_plan(to, done.steps, whole=out.verbose)
        show_diffs(to, done.diffs)
    show_counts(to, done.steps, planned=done.planned)
    say(to, f"world: {done.world}" + (f"; the one that was there: backup {done.backup}" if done.backup else ""))
    show_findings(to, done.findings)
    if done.planned:
        say(to, "Nothing was changed. The same command without --dry-run does it.")
        return
    steps = [(("rhizon", "run", str(folder)), "start it")]
    if done.kept is not None:
        steps.append((("rhizon", "undo", str(folder)), "take this back"))
    next_steps(to, steps)
