"""``rhizon store status``, ``verify`` and ``prune``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.output import Output, common, next_steps, say, show_findings, show_table, verdict
from rhizon.core.units import counted, size_text

if TYPE_CHECKING:
    from rich.console import Console

__all__ = ["command"]


@click.group("store")
def command() -> None:
    """The store of fetched files that all instances of this machine share."""


@command.command("status")
@common
def status(out: Output) -> None:
    """How large it is, which instance uses how much of it, and what nobody uses."""
    from rhizon.app.host import this_host
    from rhizon.app.machine.store import store_status

    found = store_status(this_host())

    def render(to: "Console") -> None:
        verdict(to, f"{counted(found.files, 'file')}, {size_text(found.bytes)}, in {found.folder or 'no folder'}")
        if found.used_by:
            rows = [(one.folder, str(one.files), size_text(one.bytes)) for one in found.used_by]
            show_table(to, ("instance", "files", "size"), rows, right=("files", "size"))
        say(to, f"shared by several: {size_text(found.shared_bytes)}; not used: {size_text(found.unused_bytes)}")
        if found.left_over:
            say(to, f"left over from commands that were cut short: {counted(found.left_over, 'file')}")
        if found.unused_files:
            next_steps(to, [(("rhizon", "store", "prune", "--dry-run"), "what could go")])

    out.result(found, render)


@command.command("verify")
@common
def verify(out: Output) -> int:
    """Hash every file; a damaged one is taken out, and fetched again where a lock says where from. Exit code 1 then."""
    from rhizon.app.host import this_host
    from rhizon.app.machine.store import verify_store
    from rhizon.cli.progress import ConsoleReporter

    reporter = ConsoleReporter(out, results=False)
    try:
        found = verify_store(this_host(), reporter)
    finally:
        reporter.close()

    def render(to: "Console") -> None:
        bad = len(found.damaged)
        text = f"{bad} of them damaged, {len(found.fetched)} fetched again" if bad else "all sound"
        verdict(to, f"{counted(found.files, 'file')}, {size_text(found.bytes)}: {text}", good=not bad)
        show_findings(to, found.findings)

    out.result(found, render, found.findings)
    return 1 if found.damaged else 0


@command.command("prune")
@click.option("--keep", multiple=True, type=click.Path(path_type=Path), metavar="LOCK", help="Keep what it needs too.")
@click.option("--days", type=click.FloatRange(min=0), default=1.0, show_default=True, help="What came since stays.")
@click.option("--dry-run", is_flag=True, help="Say what would go and take nothing out.")
@common
def prune(keep: tuple[Path, ...], days: float, dry_run: bool, out: Output) -> None:
    """Take out what no instance needs. What came lately stays: another command may be about to use it."""
    from rhizon.app.host import this_host
    from rhizon.app.machine.store import prune_store

    done = prune_store(this_host(), keep, days, write=not dry_run)

    def render(to: "Console") -> None:
        word = "would go" if dry_run else "taken out"
        verdict(to, f"{counted(done.files, 'file')} {word}, {size_text(done.bytes)}; {done.kept_files} stay")

    out.result(done, render)
