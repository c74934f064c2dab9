"""``rhizon match``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import say
from rhizon.cli.servers import SERVER
from rhizon.core.units import counted

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.share.match import MatchResult

__all__ = ["match"]

MOST_LINES = 30


@command(
    "match",
    examples=(
        ("rhizon match marsh ~/.local/share/tarnholt", "a player's folder"),
        ("rhizon match marsh listing.txt -o missing.zip", "what they pasted; write a zip of what is missing"),
        ("rhizon match marsh-kit.zip FOLDER", "against a kit, on any machine"),
        ("rhizon match marsh FOLDER --make-list theirs.list.toml", "a content list that says what is there"),
    ),
)
@click.argument("server", metavar="SERVER|KIT")
@click.argument("theirs", type=click.Path(path_type=Path), metavar="FOLDER|LISTING|LOG|KIT")
@click.option(
    "-o", "--output", "archive", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
    help="Write a zip with just what is missing.",
)  # fmt: skip
@click.option(
    "--make-list", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
    help="Write a content list that says the same as the player's folder.",
)  # fmt: skip
def match(call: Call, server: str, theirs: Path, archive: Path | None, make_list: Path | None) -> Answer:
    """Check whether a player can join: their folder, a listing of it, their game's log, or a kit that they have.

    A listing is the output of sha256sum, ls -lR or dir /s, or names alone; without hashes some things cannot be told.
    Exit code 0 when they can join, 1 when they cannot or it cannot be told.
    """
    from rhizon.app.choose.kit_file import is_kit
    from rhizon.app.share.match import match as compare

    file = Path(server)
    folder = file if file.is_file() and is_kit(file) else SERVER.convert(server, None, None).folder
    done = compare(call.host, folder, theirs, call.reporter, archive=archive)
    listed = ""
    if make_list is not None:
        from rhizon.app.share.make_list import make_list as write

        listed = write(call.host, folder, theirs, make_list, call.reporter)
    call.close()
    verdicts = {"yes": "can join", "no": "cannot join yet", "unknown": "can perhaps join: not all of it is known"}
    return Answer(
        done,
        f"{done.server}: a player with this {done.form} {verdicts[done.verdict]}",
        lambda to: _body(to, done, listed),
        exit_code=0 if done.verdict == "yes" else 1,
    )


def _body(to: "Console", done: "MatchResult", listed: str) -> None:
    for line in done.lines[1 : MOST_LINES + 1]:
        say(to, line)
    if len(done.lines) > MOST_LINES + 1:
        say(to, f"... and {len(done.lines) - MOST_LINES - 1} more")
    if done.unread:
        say(to, f"{counted(done.unread, 'file')} could not be read")
    if done.archive:
        say(to, f"what is missing: {done.archive}")
    if listed:
        say(to, f"content list: {listed}")
