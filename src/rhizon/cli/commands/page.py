"""``rhizon page``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.options import LISTEN, told_options
from rhizon.cli.output import say
from rhizon.cli.servers import SERVER, Server
from rhizon.core.units import counted

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.share.page import PageResult

__all__ = ["page"]


@command(
    "page",
    examples=(
        ("rhizon page marsh -o ./marsh-page", "a folder for any web server"),
        ("rhizon page marsh -o ./marsh-page --listen :8090", "write it and serve it"),
        ("rhizon page marsh -o P --description 'Mondays at eight' --contact Solveig", "with words for players"),
    ),
    dry_run="Show what would be written and write nothing.",
)
@click.argument("server", type=SERVER)
@click.option(
    "-o", "--output", "target", required=True, type=click.Path(path_type=Path, file_okay=False), metavar="DIR",
    help="Folder of the page: a new one, or one with a page.",
)  # fmt: skip
@click.option("--listen", type=LISTEN, metavar="ADDRESS:PORT", help="Then serve it over HTTP until Ctrl-C.")
@told_options
def page(
    call: Call,
    server: Server,
    target: Path,
    listen: tuple[str, int] | None,
    address: str | None,
    contact: str | None,
    description: str | None,
) -> Answer:
    """Write a page for players: how to join, the kit, whether the server is up, and a check of their own folder.

    The page needs nothing from elsewhere, and works from any web server or as a file. The check runs in the player's
    browser; nothing is uploaded. Put the folder where players can reach it; write it again after a change.
    """
    from rhizon.app.share.kit import Told
    from rhizon.app.share.page import make_page

    told = Told(address=address, contact=contact, description=description)
    done = make_page(call.host, server.folder, target, call.reporter, told, dry_run=call.dry_run)
    call.close()
    if listen is not None and not done.planned:
        _serve(call, target, listen)
    return Answer(
        done,
        f"{done.name}: {'plan for ' if done.planned else ''}{done.page}, "
        f"the kit and {counted(done.files, 'file')} beside it",
        lambda to: _body(to, done),
    )


def _serve(call: Call, target: Path, listen: tuple[str, int]) -> None:
    """Until it is stopped."""
    from rhizon.app.publish.serve import serve_folder
    from rhizon.cli.terminal import stop_signals

    with stop_signals() as asked:
        serve_folder(target, *listen, asked, lambda url: call.reporter.done(f"the page is at {url}/ (Ctrl-C ends it)"))


def _body(to: "Console", done: "PageResult") -> None:
    say(to, f"players join at {done.join}" if done.join else "no address is known: add --address")
