"""``rhizon rename``."""

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import Step, say
from rhizon.cli.servers import SERVER, Server

__all__ = ["rename"]


@command(
    "rename",
    examples=(
        ("rhizon rename tarnholt marsh", "give a server another name"),
        ('rhizon rename marsh --note "Thursdays"', "set the note that rhizon list shows"),
    ),
    dry_run="Show what would change and change nothing.",
)
@click.argument("server", type=SERVER)
@click.argument("name", required=False, metavar="[NEW_NAME]")
@click.option("--note", metavar="TEXT", help="Short note, shown by rhizon list; an empty text removes it.")
def rename(call: Call, server: Server, name: str | None, note: str | None) -> Answer:
    """Give a server another name or a note. Its folder stays where it is; it may be running.

    Names are unique on a machine; every command takes a server's name or its folder.
    """
    from rhizon.app.machine.rename import rename as give

    done = give(call.host, server.folder, call.reporter, name=name, note=note, dry_run=call.dry_run)
    call.close()
    renamed = done.name != done.before
    noted = note is not None and note != done.note_before
    text = f"{done.before}: " + (f"renamed to {done.name}" if renamed else "note set" if noted else "nothing to change")
    return Answer(
        done,
        text,
        (lambda to: say(to, f"note: {done.note or '(none)'}")) if noted else None,
        next=(Step(("rhizon", "list"), "all servers of this machine"),),
    )
