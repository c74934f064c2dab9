"""``rhizon backup``."""

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.completion import complete_backups
from rhizon.cli.options import ask_secret, backups_option, key_options, opening
from rhizon.cli.output import Step, say
from rhizon.cli.servers import Server
from rhizon.core.units import counted, size_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.keep.backup import BackupResult
    from rhizon.app.keep.find_backup import Backups

__all__ = ["backup"]

CONSISTENCY = {
    "stopped": "the server was not running",
    "held": "the server paused saving meanwhile",
    "saved": "the server had saved, and nothing changed meanwhile",
    "unsure": "the server may have written meanwhile",
}


@command(
    "backup",
    examples=(
        ("rhizon backup marsh --keep 7d,4w,6m", "back up, then keep one of each of 7 days, 4 weeks and 6 months"),
        ("rhizon backup --all --backups /mnt/nas/servers", "back every server up to another disk"),
        ("rhizon backup marsh --verify", "read the newest backup back, every byte"),
    ),
    verbose="which files are in it",
    tables=True,
    dry_run="Show what would be saved and pruned, and write nothing.",
    stops=True,
    several=True,
    alone="list_",
)
@backups_option
@click.option("--keep", metavar="RULE", help="Then prune: keep the last of so many days, weeks and months (7d,4w,6m).")
@click.option("--whole", is_flag=True, help="Save all other files too: then nothing else is needed to restore it.")
@click.option("--list", "list_", is_flag=True, help="Show the backups of the server; without one, all of this machine.")
@click.option("--verify", is_flag=True, help="Read the newest backup (or that of --at) back, every byte.")
@click.option("--at", metavar="TIME", shell_complete=complete_backups, help="With --verify: the backup of that time.")
@click.option(
    "--encrypt",
    metavar="KEY|FILE|passphrase",
    help="Encrypt to an age public key (age1...), to those in a file, or with a passphrase.",
)
@key_options
def backup(
    call: Call,
    server: Server | None,
    backups: Path | None,
    keep: str | None,
    whole: bool,
    list_: bool,
    verify: bool,
    at: str | None,
    encrypt: str | None,
    key_file: Path | None,
    passphrase: str | None,
) -> Answer:
    """Back up the worlds and settings of servers, and all that they are made of.

    Works while a server runs: it is asked to save and to pause saving. Equal pieces are stored once over all backups
    of all servers; what was written is read back. rhizon restore brings a backup back, into a new folder too.

    Backups hold the passwords in the server's settings and are readable by you alone. --encrypt makes them unreadable
    without the key: an age public key needs no secret on this machine, so that a timer can make the backups.
    """
    from rhizon.app.keep.backup import BackupWishes, back_up
    from rhizon.app.keep.backup_keys import Encryption
    from rhizon.app.keep.find_backup import Sought, list_backups, verify_backup

    if list_ or server is None:
        found = list_backups(call.host, server.folder if server is not None else None, backups)
        headline = counted(len(found.backups), "backup")
        body = lambda to: _list(to, found, call)  # noqa: E731
        return Answer(found, headline, body, found.findings, exit_code=1 if found.findings else 0)
    folder = server.folder
    if verify:
        seen = verify_backup(call.host, folder, Sought(at, None, backups, opening(key_file, passphrase)), call.reporter)
        call.close()
        good = not seen.damaged
        state = "is sound" if good else f"is damaged: {len(seen.damaged)} pieces"
        text = f"{server.label}: backup {seen.when} {state}; {counted(seen.chunks, 'piece')} read back"
        return Answer(seen, text, exit_code=0 if good else 4)
    encryption = Encryption(encrypt, passphrase, ask_secret if sys.stdin.isatty() else None)
    wishes = BackupWishes(backups, keep, call.stop_first, call.dry_run, encryption, whole)
    done = back_up(call.host, folder, call.reporter, wishes)
    call.close()
    key = ("--key", str(key_file or "key.txt")) if done.encrypted else ()
    new = f"about {size_text(done.size)}" if done.planned else f"{size_text(done.size)}, {size_text(done.added)} new"
    text = f"{done.name}: {'would back up' if done.planned else f'backup {done.when}:'} {counted(done.files, 'file')}, "
    return Answer(
        done,
        text + new,
        lambda to: _body(to, done, call),
        done.findings,
        (
            Step(("rhizon", "backup", server.label, "--list"), "all backups of it"),
            Step(("rhizon", "restore", server.label, "--at", done.when, *key), "restore it"),
        ),
    )


def _body(to: "Console", done: "BackupResult", call: Call) -> None:
    """What was saved and where."""
    if done.planned:
        say(to, f"into {done.backups} as {done.id}")
    else:
        say(to, f"{CONSISTENCY[done.consistency]}; stored in {done.backups} as {done.id}, and read back")
    if done.secrets:
        how = "encrypted" if done.encrypted else "not encrypted, readable by you alone"
        say(to, f"contains secrets ({', '.join(done.secrets)}): {how}")
    elif done.encrypted:
        say(to, "encrypted")
    if call.out.verbose:
        for path in done.paths:
            say(to, f"  {path}")
    if done.removed:
        say(to, f"{'would be pruned' if done.planned else 'pruned'}: {', '.join(done.removed)}")


def _list(to: "Console", found: "Backups", call: Call) -> None:
    """The table of backups."""
    if found.backups:
        rows = [
            (
                one.when,
                one.id,
                str(one.files),
                size_text(one.size),
                one.consistency,
                "encrypted" if one.encrypted else ", ".join(one.secrets) or "-",
                one.why,
            )
            for one in found.backups
        ]
        columns = ("time", "server", "files", "size", "state", "secrets", "reason")
        call.table(to, columns, rows, right=("files", "size"), prose=("reason",))
    for place, size in found.on_disk.items():
        say(to, f"{place}: {size_text(size)} on disk")
