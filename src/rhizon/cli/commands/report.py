"""``rhizon report``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import say
from rhizon.cli.servers import SERVER, Server
from rhizon.core.units import size_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.run.report import ReportResult

__all__ = ["report"]


@command(
    "report",
    examples=(("rhizon report marsh -o marsh.zip", "what a helper needs; read report.html in it before you send it"),),
)
@click.argument("server", type=SERVER)
@click.option(
    "-o",
    "--output",
    type=click.Path(path_type=Path, dir_okay=False),
    required=True,
    metavar="FILE",
    help="Write the archive to this file.",
)
def report(call: Call, server: Server, output: Path) -> Answer:
    """Write what a helper needs into one archive: logs, findings, lock, settings, crashes, facts of the machine.

    Secrets, addresses, and names of the user and the machine are taken out of every text; it says how often.
    """
    from rhizon.app.run.report import write_report

    done = write_report(call.host, server.folder, output)
    return Answer(done, f"{done.name}: {done.file} ({size_text(done.size)})", lambda to: _body(to, done))


def _body(to: "Console", done: "ReportResult") -> None:
    taken = "; ".join(f"{what} ({count})" for what, count in done.removed.items()) or "nothing"
    say(to, f"taken out: {taken}")
