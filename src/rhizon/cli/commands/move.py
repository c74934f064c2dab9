"""``rhizon move``."""

from pathlib import Path

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import Step
from rhizon.cli.servers import SERVER, Server
from rhizon.core.units import size_text

__all__ = ["move"]


@command(
    "move",
    examples=(("rhizon move marsh /mnt/fast/marsh", "to another folder, also on another disk"),),
    stops=True,
    dry_run="Show what would be moved and move nothing.",
)
@click.argument("server", type=SERVER)
@click.argument("folder", type=click.Path(path_type=Path))
def move(call: Call, server: Server, folder: Path) -> Answer:
    """Move a server to another folder. Its name and ports stay.

    To another disk it is copied first and removed here when the copy is whole.
    """
    from rhizon.app.machine.move import move as make

    done = make(call.host, server.folder, folder, call.reporter, stop_first=call.stop_first, dry_run=call.dry_run)
    call.close()
    how = f" ({size_text(done.copied)} copied)" if done.copied else ""
    what = "plan for the move" if done.planned else "moved"
    return Answer(
        done,
        f"{done.name}: {what} from {done.before} to {done.folder}{how}",
        next=() if done.planned else (Step(("rhizon", "start", done.name), "start it"),),
    )
