"""``rhizon catalog build``, ``describe`` and ``serve``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, RhizonGroup, answer_object, command
from rhizon.cli.options import LISTEN
from rhizon.cli.output import Step, say
from rhizon.core.units import counted

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.publish.build_catalog import BuildResult

__all__ = ["catalog"]


@click.group("catalog", cls=RhizonGroup)
def catalog() -> None:
    """Make a catalog from archives, or serve one over HTTP."""


catalog.examples = (("rhizon catalog build my-archives", "make a catalog from a folder of archives"),)


@command(
    "build",
    group=catalog,
    examples=(
        ("rhizon catalog build my-archives --dry-run", "show which documents would change"),
        ("rhizon catalog build my-archives", "write them; any web server can serve the folder"),
    ),
    verbose="the documents that changed",
    results=False,
    dry_run="Show which documents would change and write none.",
)
@click.argument("folder", type=click.Path(path_type=Path))
def build(call: Call, folder: Path) -> Answer:
    """Make FOLDER a catalog: read its archives and shelf.toml, write catalog.json and what it names.

    What archives say of themselves can be corrected by ARCHIVE.facts.toml beside them. Exit code 1 when an archive
    could not be used.
    """
    from rhizon.app.publish.build_catalog import build_catalog

    built = build_catalog(call.host, folder, call.reporter, write=not call.dry_run)
    call.close()
    changed = "would change" if call.dry_run else "changed"
    bad = any(one.severity == "error" for one in built.findings)
    parts = (
        f"{counted(built.releases, 'release')} of {counted(built.items, 'item')}",
        counted(built.builds, "loader build"),
        counted(built.servers, "server version"),
    )
    return Answer(
        built,
        f"{built.name}: {', '.join(parts)}; {counted(len(built.written), 'document')} {changed}",
        lambda to: _body(to, built, call),
        built.findings,
        (Step(("rhizon", "catalog", "serve", str(folder)), "serve it over HTTP (any web server can)"),),
        exit_code=1 if bad else 0,
    )


def _body(to: "Console", built: "BuildResult", call: Call) -> None:
    if call.out.verbose:
        for name in built.written:
            say(to, f"  {name}")


@command(
    "describe",
    group=catalog,
    examples=(
        ("rhizon catalog describe my-archives/oldmill.jar", "begin a facts file for an archive that says nothing"),
        ("rhizon catalog describe my-archives/oldmill.jar --game tarnholt", "of one game, where several are known"),
    ),
    dry_run="Show the facts file and do not write it.",
)
@click.argument("archive", type=click.Path(path_type=Path))
@click.option("--game", metavar="GAME", help="The game that the archive is for.")
def describe(call: Call, archive: Path, game: str | None) -> Answer:
    """Write ARCHIVE.facts.toml with what is known of ARCHIVE, for you to complete.

    A facts file counts before what the archive says itself, in a catalog, in a folder and in a pack.
    """
    from rhizon.app.publish.describe import describe as describe_archive

    made = describe_archive(call.host, archive, game, write=not call.dry_run)
    call.close()
    done = "would be written" if call.dry_run else "written"
    left = f"; to fill in: {', '.join(made.open)}" if made.open else ""
    return Answer(
        made,
        f"{made.path} {done}{left}",
        lambda to: _text(to, made.text),
        (),
        (Step(("rhizon", "inspect", str(archive)), "what the archive says itself"),),
    )


def _text(to: "Console", text: str) -> None:
    for line in text.splitlines():
        say(to, line)


@command(
    "serve",
    group=catalog,
    examples=(
        ("rhizon catalog serve my-archives", "on a free port of this machine"),
        ("rhizon catalog serve my-archives --listen 0.0.0.0:8200", "for the local network"),
    ),
    verbose="each request",
)
@click.argument("folder", type=click.Path(path_type=Path))
@click.option(
    "--listen",
    type=LISTEN,
    default="127.0.0.1:0",
    show_default=True,
    metavar="ADDRESS:PORT",
    help="Where to listen; port 0 takes a free one.",
)
def serve(call: Call, folder: Path, listen: tuple[str, int]) -> None:
    """Serve the catalog in FOLDER until Ctrl-C. With --json the one object is printed as soon as it listens."""
    from rhizon.app.publish.serve import Serving, serve_until
    from rhizon.cli.output import write_json
    from rhizon.cli.terminal import stop_signals

    def ready(url: str) -> None:
        if call.out.json:
            write_json(answer_object(Answer(Serving(url=url))))
        elif not call.out.quiet:
            click.echo(f"serving {folder} at {url} (Ctrl-C ends it)")

    def request(line: str) -> None:
        if call.out.verbose:
            click.echo(line, err=True)

    with stop_signals() as asked:
        serve_until(folder, *listen, asked, ready, request)
