"""``rhizon delete``."""

from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import Step, say, show_pairs
from rhizon.cli.servers import SERVER, Server
from rhizon.core.errors import InputError
from rhizon.core.units import counted, mib_text, size_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.machine.delete import DeleteResult

__all__ = ["delete"]


@command(
    "delete",
    examples=(
        ("rhizon delete marsh --dry-run", "what would go"),
        ("rhizon delete marsh --yes", "without a question, for scripts"),
    ),
    stops=True,
    dry_run="Show what would go and remove nothing.",
)
@click.argument("server", type=SERVER)
@click.option("--yes", is_flag=True, help="Do not ask.")
def delete(call: Call, server: Server, yes: bool) -> Answer:
    """Remove a server: its folder, its ports, its memory. A backup of it is made first, read back, and stays.

    To keep the files and only free what it holds: rhizon forget.
    """
    from rhizon.app.machine.delete import delete as make

    if not yes and not call.dry_run:
        if not call.asks:
            raise InputError("nobody-to-ask", "confirmation is required, and there is no terminal", hint="Add --yes.")
        plan = make(call.host, server.folder, call.reporter, dry_run=True)
        call.close()
        text = f"Remove {plan.folder} ({counted(plan.files, 'file')}, {size_text(plan.size)}, worlds: "
        click.confirm(f"{text}{', '.join(plan.worlds) or 'none'})?", abort=True, err=True)
    done = make(call.host, server.folder, call.reporter, stop_first=call.stop_first, dry_run=call.dry_run)
    call.close()
    back = ("rhizon", "restore", done.folder, "--of", done.backup_id, "--at", done.backup)
    return Answer(
        done,
        f"{done.name}: {'would be removed' if done.planned else 'removed'}",
        lambda to: _body(to, done),
        next=() if done.planned else (Step(back, "make it again"),),
    )


def _body(to: "Console", done: "DeleteResult") -> None:
    show_pairs(
        to,
        [
            ("folder", f"{done.folder} ({counted(done.files, 'file')}, {size_text(done.size)})"),
            ("worlds", ", ".join(done.worlds) or "none"),
            ("free now", f"{mib_text(done.memory_mib)}, ports {', '.join(map(str, done.ports.values()))}"),
        ],
    )
    if done.other_files:
        where = f"in {done.archive}" if done.archive else "kept in a zip"
        say(to, f"{counted(len(done.other_files), 'file')} that Rhizon did not place: {where}")
    if done.backup:
        say(to, f"The backup of {done.backup} stays.")
