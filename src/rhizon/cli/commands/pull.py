"""``rhizon pull``."""

from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import Step, say
from rhizon.cli.servers import SERVER, Server
from rhizon.core.units import counted, size_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.keep.backup import BackupResult

__all__ = ["pull"]


@command(
    "pull",
    examples=(
        ("rhizon pull marsh lighthouse", "a backup here of the world and settings there"),
        ("rhizon pull marsh lighthouse --dry-run", "what would be fetched"),
    ),
    verbose="which files are in it",
    dry_run="Show what would be fetched, and write nothing.",
)
@click.argument("server", type=SERVER)
@click.argument("remote", metavar="REMOTE|FILE")
def pull(call: Call, server: Server, remote: str) -> Answer:
    """Fetch the worlds and settings from a rented server, and keep them as a backup of the server here.

    Nothing is changed there. rhizon restore brings that backup back here, into a new folder too. Stop the server there
    first to be sure that nothing is written meanwhile; what was is told.
    """
    from rhizon.app.remote.pull import pull as fetch

    made = fetch(call.host, server.folder, remote, call.reporter, dry_run=call.dry_run)
    call.close()
    body = (lambda to: _paths(to, made)) if call.out.verbose else None
    size = f"{counted(made.files, 'file')}, {size_text(made.size)}"
    if made.planned:
        return Answer(made, f"{made.name}: {size} would be fetched", body, made.findings)
    hints = (Step(("rhizon", "restore", server.label, "--at", made.when), "bring that world here"),)
    return Answer(made, f"{made.name}: backup {made.when} of what is there: {size}", body, made.findings, hints)


def _paths(to: "Console", made: "BackupResult") -> None:
    for path in made.paths:
        say(to, f"  {path}")
