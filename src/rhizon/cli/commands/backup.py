"""``rhizon backup``."""

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.options import ask_secret, key_options, opening
from rhizon.cli.output import Output, common, next_steps, say, show_findings, show_table, verdict
from rhizon.core.units import counted, size_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.keep.backup import BackupResult
    from rhizon.app.keep.find_backup import Backups

__all__ = ["command"]

CALM = {
    "stopped": "the server was not running",
    "held": "the server held still meanwhile",
    "saved": "the server had saved, and nothing changed meanwhile",
    "unsure": "the server may have written meanwhile",
}


@click.command("backup")
@click.argument("folder", type=click.Path(path_type=Path), required=False)
@click.option("--to", type=click.Path(path_type=Path), metavar="DIR", help="Into that folder (another disk, a share).")
@click.option("--keep", metavar="RULE", help="Then keep only the last of so many days, weeks, months: 7d,4w,6m.")
@click.option("--stop-first", is_flag=True, help="Stop the server if it runs; otherwise saving is paused.")
@click.option("--list", "list_", is_flag=True, help="Show the backups of FOLDER, or all of this machine.")
@click.option("--verify", is_flag=True, help="Read the newest backup (or that of --when) back, every byte.")
@click.option("--when", metavar="TIME", help="With --verify: the backup whose time begins so.")
@click.option(
    "--encrypt",
    metavar="KEY|FILE|passphrase",
    help="Encrypt to an age public key (age1...), to those in a file, or with a passphrase.",
)
@key_options
@common
def command(
    folder: Path | None,
    to: Path | None,
    keep: str | None,
    stop_first: bool,
    list_: bool,
    verify: bool,
    when: str | None,
    encrypt: str | None,
    key_file: Path | None,
    passphrase: str | None,
    out: Output,
) -> int:
    """Save the worlds and settings of the server in FOLDER, and all that it is made of.

    Works while the server runs: it is asked to save and to hold still. Equal pieces are kept once over all backups of
    all servers; what was written is read back. rhizon restore takes a backup back, into a new folder too.

    Backups hold passwords of the server's settings and are readable by you alone. --encrypt makes them unreadable
    without the key: an age public key needs no secret on this machine, so that a timer can make the backups.
    """
    from rhizon.app.host import this_host
    from rhizon.app.keep.backup import BackupWishes, back_up
    from rhizon.app.keep.backup_keys import Encryption
    from rhizon.app.keep.find_backup import Sought, list_backups, verify_backup
    from rhizon.cli.progress import ConsoleReporter

    host = this_host()
    if list_:
        found = list_backups(host, folder, to)
        out.result(found, lambda console: _list(console, found), found.findings)
        return 1 if found.findings else 0
    if folder is None:
        raise click.UsageError("Name the folder of a server, or --list.")
    reporter = ConsoleReporter(out)
    try:
        if verify:
            seen = verify_backup(host, folder, Sought(when, None, to, opening(key_file, passphrase)), reporter)
        else:
            encryption = Encryption(encrypt, passphrase, ask_secret if sys.stdin.isatty() else None)
            done = back_up(host, folder, reporter, BackupWishes(to, keep, stop_first, encryption))
    finally:
        reporter.close()
    if verify:
        good = not seen.damaged
        text = (
            f"the backup of {seen.when} reads back: {seen.chunks} pieces"
            if good
            else (f"the backup of {seen.when} is damaged: {len(seen.damaged)} of {seen.chunks} pieces")
        )
        out.result(seen, lambda console: verdict(console, text, good=good))
        return 0 if good else 4
    out.result(done, lambda console: _render(console, done, folder), done.findings)
    return 0


def _render(to: "Console", done: "BackupResult", folder: Path) -> None:
    verdict(to, f"backup {done.when}: {done.files} files, {size_text(done.size)}, {size_text(done.added)} of it new")
    say(to, f"{CALM[done.calm]}; it lies in {done.place} as {done.id}, and was read back")
    if done.secrets:
        how = "encrypted" if done.encrypted else "not encrypted, readable by you alone"
        say(to, f"it holds secrets ({', '.join(done.secrets)}): {how}")
    elif done.encrypted:
        say(to, "it is encrypted")
    if done.removed:
        say(to, f"pruned: {', '.join(done.removed)}")
    show_findings(to, done.findings)
    key = ("--key", "FILE") if done.encrypted else ()
    next_steps(
        to,
        [
            (("rhizon", "backup", str(folder), "--list"), "all of them"),
            (("rhizon", "restore", str(folder), done.when, *key), "take it back"),
        ],
    )


def _list(to: "Console", found: "Backups") -> None:
    if not found.backups:
        verdict(to, "there are no backups", good=not found.findings)
    else:
        verdict(to, counted(len(found.backups), "backup"), good=not found.findings)
        rows = [
            (
                one.when,
                one.id,
                str(one.files),
                size_text(one.size),
                one.calm,
                "encrypted" if one.encrypted else ", ".join(one.secrets) or "-",
                one.why,
            )
            for one in found.backups
        ]
        show_table(to, ("when", "of", "files", "size", "server", "secrets", "why"), rows, right=("files", "size"))
    for place, size in found.on_disk.items():
        say(to, f"{place} takes {size_text(size)}")
    show_findings(to, found.findings)
