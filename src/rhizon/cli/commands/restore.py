"""``rhizon restore``."""

from pathlib import Path
from typing import TYPE_CHECKING, cast

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.completion import complete_backups
from rhizon.cli.options import backups_option, key_options, on_option, opening
from rhizon.cli.output import Step
from rhizon.cli.rolled_back import rolled_back
from rhizon.cli.servers import FOLDER, Server
from rhizon.core.units import counted, size_text

if TYPE_CHECKING:
    from rhizon.app.keep.find_backup import Sought
    from rhizon.app.keep.roll_back import Part

__all__ = ["restore"]


@command(
    "restore",
    examples=(
        ("rhizon restore marsh --dry-run", "show what the newest backup would bring back"),
        ("rhizon restore marsh --at 2026-11-25 --only world", "the world of that day; settings and content stay"),
        ("rhizon restore marsh --on lighthouse --only world", "the world of the newest backup, to a rented server"),
        ("rhizon restore ./marsh-old --of marsh", "a new server from the newest backup of marsh"),
        ("rhizon restore ./marsh --of marsh-3f --backups /mnt/disk --catalog ADDRESS", "on another machine"),
    ),
    verbose="every file of the plan",
    tables=True,
    dry_run="Show what would change and change nothing.",
    stops=True,
)
@click.argument("server", type=FOLDER, metavar="SERVER|FOLDER")
@click.option(
    "--at",
    metavar="TIME",
    shell_complete=complete_backups,
    help="Backup to restore: its time or the beginning of it (2026-11-25T19); by default the newest you made.",
)
@click.option("--only", type=click.Choice(["world", "settings"]), help="Restore only that part.")
@click.option("--of", metavar="SERVER", help="Use a backup of another server: its id, name or folder.")
@click.option("--catalog", "catalogs", multiple=True, metavar="ADDRESS", help="Fetch its files from this catalog.")
@on_option
@backups_option
@key_options
def restore(
    call: Call,
    server: Server,
    at: str | None,
    only: str | None,
    of: str | None,
    catalogs: tuple[str, ...],
    on: str | None,
    backups: Path | None,
    key_file: Path | None,
    passphrase: str | None,
) -> Answer:
    """Make a server what it was when a backup was made.

    In a folder that does not exist yet, a new server is made from the backup, with ports of its own; --of says whose
    backup. On a machine that has never seen the server, its files come from the backup where that is whole (rhizon
    backup --whole), else from its catalog (--catalog where that has another address here). A world that is there is
    backed up before another takes its place. With --on, the worlds and settings of a backup take the place of those on
    a rented server, after a backup of what is there; stop the server there first.
    """
    from rhizon.app.keep.find_backup import Sought
    from rhizon.app.keep.restore import RestoreWishes
    from rhizon.app.keep.restore import restore as bring

    if on is not None:
        return _there(call, server, on, Sought(at, of, backups, opening(key_file, passphrase)), only or "all")
    part: Part = "world" if only == "world" else "settings" if only == "settings" else "all"
    wishes = RestoreWishes(
        Sought(at, of, backups, opening(key_file, passphrase)),
        part=part,
        stop_first=call.stop_first,
        dry_run=call.dry_run,
        catalogs=catalogs,
    )
    done = bring(call.host, server.folder, call.reporter, wishes)
    call.close()
    return rolled_back(done, server, call)


def _there(call: Call, server: Server, on: str, sought: "Sought", part: str) -> Answer:
    """Worlds and settings of a backup, to a rented server."""
    from rhizon.app.remote.restore_there import RestoreThereWishes, restore_there

    wishes = RestoreThereWishes(sought, cast("Part", part), call.dry_run)
    done = restore_there(call.host, server.folder, on, call.reporter, wishes)
    call.close()
    what = f"{counted(len(done.worlds), 'world')} and {counted(len(done.settings), 'settings file')} of {done.to}"
    text = f"{what} {'would be put there' if done.planned else 'are there'} ({size_text(done.size)})"
    steps: tuple[Step, ...] = ()
    if done.backup is not None:
        back = ("rhizon", "restore", server.label, "--on", on, "--at", done.backup)
        steps = (Step(back, "what was there before"),)
    return Answer(done, f"{done.name} on {done.remote}: {text}", None, done.findings, steps)
