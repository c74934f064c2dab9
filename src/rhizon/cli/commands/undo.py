"""``rhizon undo``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.options import key_options, opening
from rhizon.cli.output import Output, common, next_steps, say, show_findings, show_table, verdict
from rhizon.cli.returned import show_returned
from rhizon.core.units import counted

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.keep.undo import KeptLine
    from rhizon.core.finding import Finding

__all__ = ["command"]


@click.command("undo")
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--list", "list_", is_flag=True, help="Show the kept states.")
@click.option("--to", "number", type=click.IntRange(1), metavar="N", help="Back to that state of the list.")
@click.option("--with-world", is_flag=True, help="The world too, from the backup that was made then.")
@key_options
@click.option("--stop-first", is_flag=True, help="Stop the server if it runs.")
@click.option("--dry-run", is_flag=True, help="Show what would change, and change nothing.")
@common
def command(
    folder: Path,
    list_: bool,
    number: int | None,
    with_world: bool,
    key_file: Path | None,
    passphrase: str | None,
    stop_first: bool,
    dry_run: bool,
    out: Output,
) -> int:
    """Take back the last change of the server in FOLDER, or go back to any kept state.

    Files and settings are then exactly what they were. The world stays unless you say --with-world. What was there is
    kept too, so that an undo can be undone.
    """
    from rhizon.app.host import this_host
    from rhizon.app.keep.undo import UndoWishes, kept_states, undo
    from rhizon.cli.progress import ConsoleReporter

    if list_:
        states, broken = kept_states(this_host(), folder)
        out.result(states, lambda to: _list(to, states, broken, folder), broken)
        return 1 if broken else 0
    reporter = ConsoleReporter(out)
    try:
        done = undo(
            this_host(),
            folder,
            reporter,
            UndoWishes(number, with_world, stop_first, dry_run, opening(key_file, passphrase)),
        )
    finally:
        reporter.close()
    out.result(done, lambda to: show_returned(to, done, folder, out), done.findings)
    return 0


def _list(to: "Console", states: "list[KeptLine]", broken: "list[Finding]", folder: Path) -> None:
    show_findings(to, broken)
    if not states:
        verdict(to, "no change has been kept yet", good=not broken)
        return
    verdict(to, f"{counted(len(states), 'kept state')}, newest first")
    rows = [(str(one.number), one.kept_at, one.before, _differs(one), one.backup or "-") for one in states]
    show_table(to, ("", "kept", "before", "going back changes", "world's backup"), rows, right=("",))
    newest = str(states[0].number)
    say(to, "Going back keeps what is there now as one more state.")
    next_steps(to, [(("rhizon", "undo", str(folder), "--to", newest, "--dry-run"), "see what it would change")])


def _differs(one: "KeptLine") -> str:
    changes = one.changes
    words = [counted(len(changes.releases), "release")] if changes.releases else []
    words += [f"{value.name} {value.before} → {value.after}" for value in changes.target]
    words += [counted(len(changes.settings), "setting")] if changes.settings else []
    words += ["memory"] if changes.memory else []
    return ", ".join(words) or "files only"
