"""``rhizon repair``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.changes import show_plan
from rhizon.cli.output import Output, common, next_steps, say, verdict

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.keep.repair import RepairResult

__all__ = ["command"]


@click.command("repair")
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--full", is_flag=True, help="Look at every byte, not only at sizes and times.")
@click.option("--stop-first", is_flag=True, help="Stop the server if it runs.")
@click.option("--dry-run", is_flag=True, help="Show what would be put back, and change nothing.")
@common
def command(folder: Path, full: bool, stop_first: bool, dry_run: bool, out: Output) -> int:
    """Verify every file that Rhizon placed in FOLDER, and put back what is gone or changed.

    Settings, worlds and files of your own are left alone. A changed file that is put back is kept: rhizon undo.
    """
    from rhizon.app.host import this_host
    from rhizon.app.keep.repair import repair
    from rhizon.cli.progress import ConsoleReporter

    reporter = ConsoleReporter(out)
    try:
        done = repair(this_host(), folder, reporter, full=full, stop_first=stop_first, dry_run=dry_run)
    finally:
        reporter.close()
    out.result(done, lambda to: _render(to, done, folder))
    return 1 if done.planned and (done.steps or done.documents) else 0


def _render(to: "Console", done: "RepairResult", folder: Path) -> None:
    if not done.steps:
        good = not (done.planned and done.documents)
        records = f"; of Rhizon's records, {len(done.documents)} damaged" if done.documents else ""
        verdict(to, f"{done.name}: all {done.files} files are what was placed{records}", good=good)
        _show_documents(to, done)
        return
    text = "are to be put back" if done.planned else "were put back"
    verdict(to, f"{done.name}: {len(done.steps)} of {done.files} files {text}", good=not done.planned)
    _show_documents(to, done)
    show_plan(to, done.steps, whole=False)
    if done.fetched:
        say(to, f"{done.fetched} of them had to be fetched")
    if done.planned:
        say(to, "Nothing was changed. The same command without --dry-run does it.")
    else:
        look, back = ("rhizon", "check", str(folder)), ("rhizon", "undo", str(folder))
        next_steps(to, [(look, "look it over"), (back, "take it back")])


def _show_documents(to: "Console", done: "RepairResult") -> None:
    """Damaged records of ours."""
    for document in done.documents:
        verb = "is damaged ({}) and would be" if done.planned else "was damaged ({}) and is"
        say(to, f".rhizon/{document.name} {verb.format(document.why)} put back from the {document.source}")
