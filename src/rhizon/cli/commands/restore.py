"""``rhizon restore``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.options import key_options, opening
from rhizon.cli.output import Output, common
from rhizon.cli.returned import show_returned

if TYPE_CHECKING:
    from rhizon.app.keep.roll_back import Part

__all__ = ["command"]


@click.command("restore")
@click.argument("folder", type=click.Path(path_type=Path))
@click.argument("when", required=False)
@click.option("--only", type=click.Choice(["world", "settings"]), help="Only that part of the backup.")
@click.option("--of", metavar="ID", help="A backup of another instance: its id, name or folder.")
@click.option("--place", type=click.Path(path_type=Path), metavar="DIR", help="Where the backups are, if not here.")
@key_options
@click.option("--stop-first", is_flag=True, help="Stop the server if it runs.")
@click.option("--dry-run", is_flag=True, help="Show what would change, and change nothing.")
@common
def command(
    folder: Path,
    when: str | None,
    only: str | None,
    of: str | None,
    place: Path | None,
    key_file: Path | None,
    passphrase: str | None,
    stop_first: bool,
    dry_run: bool,
    out: Output,
) -> None:
    """Make the server in FOLDER what it was when a backup was made: the newest of yours, or that of WHEN.

    WHEN is the beginning of a time in the list (2026-11-25, or 2026-11-25T19). Into a folder that is not there yet, a
    new server is laid out from the backup, with ports of its own; --of says whose backup. A world that is there is
    backed up before another takes its place.
    """
    from rhizon.app.host import this_host
    from rhizon.app.keep.find_backup import Sought
    from rhizon.app.keep.restore import RestoreWishes, restore
    from rhizon.cli.progress import ConsoleReporter

    part: Part = "world" if only == "world" else "settings" if only == "settings" else "all"
    reporter = ConsoleReporter(out)
    try:
        done = restore(
            this_host(),
            folder,
            reporter,
            RestoreWishes(
                Sought(when, of, place, opening(key_file, passphrase)),
                part=part,
                stop_first=stop_first,
                dry_run=dry_run,
            ),
        )
    finally:
        reporter.close()
    out.result(done, lambda to: show_returned(to, done, folder, out), done.findings)
