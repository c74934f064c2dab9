"""``rhizon update``."""

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.changes import show_changes, show_counts, show_diffs, show_plan
from rhizon.cli.licence import ask_on_terminal, licence_pending
from rhizon.cli.options import ask_secret, catalog_options
from rhizon.cli.output import Output, common, next_steps, say, show_findings, verdict

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.provision import ProvisionResult

__all__ = ["command"]


@click.command("update")
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--to", type=click.Path(path_type=Path), metavar="SOURCE", help="Another pack or list from now on.")
@catalog_options
@click.option("--accept-licence", is_flag=True, help="You have read the game's licence and accept it.")
@click.option("--allow-installer", is_flag=True, help="A loader's own installer program may be run.")
@click.option("--stop-first", is_flag=True, help="Stop the server if it runs.")
@click.option("--no-backup", is_flag=True, help="Do not save the world first.")
@click.option("--dry-run", is_flag=True, help="Show what would change, and change nothing.")
@common
def command(
    folder: Path,
    to: Path | None,
    catalogs: tuple[str, ...],
    accept_licence: bool,
    allow_installer: bool,
    stop_first: bool,
    no_backup: bool,
    offline: bool,
    dry_run: bool,
    out: Output,
) -> None:
    """Bring the server in FOLDER to the newest releases that fit its list or pack, or to another one.

    Shows what changes for the server and for the players, backs the world up before it meets other content, and
    merges new settings into your files: where you and the pack changed the same thing, yours stays.
    """
    from rhizon.app.host import this_host
    from rhizon.app.provision.update import UpdateWishes, update
    from rhizon.cli.progress import ConsoleReporter

    reporter = ConsoleReporter(out)
    asks = sys.stdin.isatty() and sys.stderr.isatty() and not out.json
    wishes = UpdateWishes(
        folder=folder,
        to=to,
        catalogs=catalogs,
        accept_licence=accept_licence,
        allow_installer=allow_installer,
        stop_first=stop_first,
        back_up=not no_backup,
        dry_run=dry_run,
        ask_secret=ask_secret if asks else None,
    )
    try:
        made = update(this_host(offline=offline), wishes, reporter, ask_on_terminal(reporter) if asks else None)
    finally:
        reporter.close()
    if made.state == "prepared":
        raise licence_pending(made)
    out.result(made, lambda console: _render(console, made, folder, out), made.findings)


def _render(to: "Console", made: "ProvisionResult", folder: Path, out: Output) -> None:
    changes = made.changes
    planned = made.state == "planned"
    nothing = (changes is None or changes.none) and all(step.action == "keep" for step in made.steps)
    if nothing:
        verdict(to, f"{made.name} is up to date")
        show_findings(to, made.findings)
        return
    verdict(to, f"{made.name}: {'this is what would change' if planned else 'updated'}")
    if changes is not None:
        show_changes(to, changes)
    if planned or out.verbose:
        show_plan(to, made.steps, whole=out.verbose)
        show_diffs(to, made.diffs)
    show_counts(to, made.steps, planned=planned)
    say(to, f"world: {made.world}" + (f"; backup {made.backup}" if made.backup else ""))
    if changes is not None:
        say(to, f"players: {'have to change too' if changes.for_players else 'need do nothing'}")
    show_findings(to, made.findings)
    if planned:
        say(to, "Nothing was changed. The same command without --dry-run does it.")
        return
    steps = [(("rhizon", "run", str(folder)), "start it")]
    if made.kept is not None:
        steps.append((("rhizon", "undo", str(folder)), "take the update back"))
    next_steps(to, steps)
