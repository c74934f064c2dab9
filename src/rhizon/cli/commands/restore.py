"""``rhizon restore``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.completion import complete_backups
from rhizon.cli.options import backups_option, key_options, opening
from rhizon.cli.rolled_back import rolled_back
from rhizon.cli.servers import FOLDER, Server

if TYPE_CHECKING:
    from rhizon.app.keep.roll_back import Part

__all__ = ["restore"]


@command(
    "restore",
    examples=(
        ("rhizon restore marsh --dry-run", "show what the newest backup would bring back"),
        ("rhizon restore marsh --at 2026-11-25 --only world", "the world of that day; settings and content stay"),
        ("rhizon restore ./marsh-old --of marsh", "a new server from the newest backup of marsh"),
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
@backups_option
@key_options
def restore(
    call: Call,
    server: Server,
    at: str | None,
    only: str | None,
    of: str | None,
    backups: Path | None,
    key_file: Path | None,
    passphrase: str | None,
) -> Answer:
    """Make a server what it was when a backup was made.

    In a folder that does not exist yet, a new server is made from the backup, with ports of its own; --of says whose
    backup. A world that is there is backed up before another takes its place.
    """
    from rhizon.app.keep.find_backup import Sought
    from rhizon.app.keep.restore import RestoreWishes
    from rhizon.app.keep.restore import restore as bring

    part: Part = "world" if only == "world" else "settings" if only == "settings" else "all"
    wishes = RestoreWishes(
        Sought(at, of, backups, opening(key_file, passphrase)),
        part=part,
        stop_first=call.stop_first,
        dry_run=call.dry_run,
    )
    done = bring(call.host, server.folder, call.reporter, wishes)
    call.close()
    return rolled_back(done, server, call)
