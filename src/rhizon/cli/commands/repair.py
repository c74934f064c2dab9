"""``rhizon repair``."""

from typing import TYPE_CHECKING

import click

from rhizon.cli.changes import show_plan
from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import Step, say
from rhizon.cli.servers import Server
from rhizon.core.units import counted

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.keep.repair import RepairResult

__all__ = ["repair"]


@command(
    "repair",
    examples=(
        ("rhizon repair marsh --dry-run", "show which placed files are missing or changed"),
        ("rhizon repair --all --full", "verify every byte of every server and repair it"),
    ),
    tables=True,
    dry_run="Show what would be put back and change nothing.",
    stops=True,
    several=True,
)
@click.option("--full", is_flag=True, help="Verify every byte, not only sizes and times.")
def repair(call: Call, server: Server, full: bool) -> Answer:
    """Verify every file that Rhizon placed, and put back what is missing or changed.

    Settings, worlds and files of your own are left alone. A changed file that is replaced is kept: rhizon undo.
    """
    from rhizon.app.keep.repair import repair as mend

    done = mend(call.host, server.folder, call.reporter, full=full, stop_first=call.stop_first, dry_run=call.dry_run)
    call.close()
    open_ = bool(done.planned and (done.steps or done.documents))
    if done.steps:
        verb = "would be put back" if done.planned else "put back"
        text = f"{len(done.steps)} of {counted(done.files, 'file')} {verb}"
    else:
        text = f"all {counted(done.files, 'file')} are as placed"
        text += f"; {counted(len(done.documents), 'record')} damaged" if done.documents else ""
    steps = (
        Step(("rhizon", "check", server.label), "check it"),
        Step(("rhizon", "undo", server.label), "take it back"),
    )
    return Answer(
        done,
        f"{done.name}: {text}",
        lambda to: _body(to, done, call),
        next=steps if done.kept is not None else (),
        exit_code=1 if open_ else 0,
    )


def _body(to: "Console", done: "RepairResult", call: Call) -> None:
    for document in done.documents:
        verb = "is damaged ({}) and would be" if done.planned else "was damaged ({}) and is"
        say(to, f".rhizon/{document.name} {verb.format(document.why)} put back from the {document.source}")
    show_plan(to, done.steps, call, whole=False)
    if done.fetched:
        say(to, f"{done.fetched} of them were fetched")
