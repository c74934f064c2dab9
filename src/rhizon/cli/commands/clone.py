"""``rhizon clone``."""

from pathlib import Path

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import Step
from rhizon.cli.servers import SERVER, Server

__all__ = ["clone"]


@command(
    "clone",
    examples=(
        ("rhizon clone marsh marsh-trial", "a second server beside it, to try something on"),
        ("rhizon clone marsh /srv/winter-marsh --without-world", "the same server with a new world"),
    ),
    dry_run="Show what would be made and make nothing.",
)
@click.argument("server", type=SERVER)
@click.argument("new", type=click.Path(path_type=Path), metavar="NAME|FOLDER")
@click.option("--without-world", is_flag=True, help="Give it no copy of the world: it makes a new one.")
def clone(call: Call, server: Server, new: Path, without_world: bool) -> Answer:
    """Make a second server like one that is there, with ports and a name of its own.

    The server may run meanwhile. A bare name is a folder beside it. Content comes from the store and takes no room
    twice; files that Rhizon did not place and that are no settings are not copied.
    """
    from rhizon.app.machine.clone import clone as make

    made = make(call.host, server.folder, new, call.reporter, without_world=without_world, dry_run=call.dry_run)
    call.close()
    what = (
        "plan for the clone"
        if made.planned
        else f"a clone of {made.of}, {'with' if made.world else 'without'} its world"
    )
    return Answer(
        made,
        f"{made.name or made.folder}: {what}, in {made.folder}",
        next=() if made.planned else (Step(("rhizon", "start", made.name), "start it"),),
    )
