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
    examples=(("rhizon report marsh -o marsh.zip", "read report.html in it before you send it"),),
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
    """Collect diagnostics into one archive: logs, findings, lock, settings, crash reports, facts about the machine.

    Secrets, addresses, and names of the user and the machine are removed from every text; the report counts them.
    """
    from rhizon.app.run.report import write_report

    done = write_report(call.host, server.folder, output)
    return Answer(done, f"{done.name}: {done.file} ({size_text(done.size)})", lambda to: _body(to, done))


def _body(to: "Console", done: "ReportResult") -> None:
    taken = "; ".join(f"{what} ({count})" for what, count in done.removed.items()) or "nothing"
    say(to, f"removed: {taken}")
