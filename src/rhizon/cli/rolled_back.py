"""How going back (undo, restore) is shown."""

from typing import TYPE_CHECKING

from rhizon.cli.changes import show_changes, show_counts, show_diffs, show_plan
from rhizon.cli.command import Answer, Call
from rhizon.cli.output import Step, say
from rhizon.cli.servers import Server

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.keep.roll_back import RollBackResult

__all__ = ["rolled_back"]


def rolled_back(done: "RollBackResult", server: Server, call: Call) -> Answer:
    """The verdict, what differs, the plan where it is only one, and how to go on."""
    what = f"state {done.to}" if done.to.isdecimal() else f"the backup of {done.to}"
    steps = [Step(("rhizon", "run", server.label), "start it")]
    if done.kept is not None:
        steps.append(Step(("rhizon", "undo", server.label), "take this back"))
    headline = f"{done.name}: {f'plan for going back to {what}' if done.planned else f'restored {what}'}"
    return Answer(done, headline, lambda to: _body(to, done, call), done.findings, steps)


def _body(to: "Console", done: "RollBackResult", call: Call) -> None:
    show_changes(to, done.changes, call)
    if done.planned or call.out.verbose:
        show_plan(to, done.steps, call, whole=call.out.verbose)
        show_diffs(to, done.diffs)
    show_counts(to, done.steps, planned=done.planned)
    say(to, f"world: {done.world}" + (f"; the one before it: backup {done.backup}" if done.backup else ""))
