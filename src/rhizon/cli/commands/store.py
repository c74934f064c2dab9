"""``rhizon store status``, ``verify`` and ``prune``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, RhizonGroup, command
from rhizon.cli.options import AGE
from rhizon.cli.output import Step, say
from rhizon.core.units import counted, size_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.machine.store import StoreStatus

__all__ = ["store"]


@click.group("store", cls=RhizonGroup)
def store() -> None:
    """Show, verify or prune the store: fetched files that all servers of this machine share."""


store.examples = (("rhizon store status", "size, and which server uses how much of it"),)


@command(
    "status",
    group=store,
    examples=(("rhizon store status", "size, who uses it, what is not used"),),
    tables=True,
)
def status(call: Call) -> Answer:
    """Show the size of the store, which server uses how much of it, and what is not used."""
    from rhizon.app.machine.store import store_status

    found = store_status(call.host)
    prune = Step(("rhizon", "store", "prune", "--dry-run"), "what could be removed")
    return Answer(
        found,
        f"{counted(found.files, 'file')}, {size_text(found.bytes)}" + (f", in {found.folder}" if found.folder else ""),
        lambda to: _status(to, found, call),
        next=(prune,) if found.unused_files else (),
    )


def _status(to: "Console", found: "StoreStatus", call: Call) -> None:
    if found.used_by:
        rows = [(one.name, str(one.files), size_text(one.bytes), one.folder) for one in found.used_by]
        call.table(to, ("server", "files", "size", "folder"), rows, right=("files", "size"))
    say(to, f"shared by several servers: {size_text(found.shared_bytes)}; not used: {size_text(found.unused_bytes)}")
    if found.left_over:
        say(to, f"left over from interrupted commands: {counted(found.left_over, 'file')}")


@command(
    "verify",
    group=store,
    examples=(("rhizon store verify --dry-run", "hash every file and report damaged ones"),),
    results=False,
    dry_run="Report damaged files and leave them where they are.",
)
def verify(call: Call) -> Answer:
    """Hash every file of the store. Damaged ones are removed, and fetched again where a lock says from where.

    Exit code 1 when a file was damaged.
    """
    from rhizon.app.machine.store import verify_store

    found = verify_store(call.host, call.reporter, write=not call.dry_run)
    call.close()
    bad = len(found.damaged)
    text = f"{bad} damaged, {len(found.fetched)} fetched again" if bad else "all sound"
    return Answer(
        found,
        f"{counted(found.files, 'file')}, {size_text(found.bytes)}: {text}",
        None,
        found.findings,
        exit_code=1 if bad else 0,
    )


@command(
    "prune",
    group=store,
    examples=(
        ("rhizon store prune --dry-run", "show how much could be removed"),
        ("rhizon store prune --since 7d --lock marsh.lock.json", "keep a week, and what a lock needs"),
    ),
    dry_run="Show what would be removed and remove nothing.",
)
@click.option(
    "--lock",
    "locks",
    multiple=True,
    type=click.Path(path_type=Path),
    metavar="LOCK",
    help="Also keep what this lock needs. May be repeated.",
)
@click.option("--since", type=AGE, default="1d", show_default=True, metavar="AGE", help="Keep files added since then.")
def prune(call: Call, locks: tuple[Path, ...], since: float) -> Answer:
    """Remove files that no server needs. New ones stay: another command may be about to use them."""
    from rhizon.app.machine.store import prune_store

    done = prune_store(call.host, locks, since, write=not call.dry_run)
    word = "would be removed" if call.dry_run else "removed"
    return Answer(done, f"{counted(done.files, 'file')} {word}, {size_text(done.bytes)}; {done.kept_files} stay")
