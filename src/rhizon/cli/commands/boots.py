"""``rhizon boots``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import say
from rhizon.cli.servers import SERVER, Server
from rhizon.core.units import counted

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.run.boots import Boots

__all__ = ["boots", "show_boot"]

MOST_ROWS = 12


@command(
    "boots",
    examples=(
        ("rhizon boots marsh", "which content takes longest to start, compared with earlier starts"),
        ("rhizon boots marsh --plot boot.png", "the same as a picture"),
    ),
    tables=True,
)
@click.argument("server", type=SERVER)
@click.option("--plot", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE", help="Draw the last start.")
def boots(call: Call, server: Server, plot: Path | None) -> Answer:
    """Show how long the parts of the last start took, beside earlier starts.

    Times are those at which lines of the log came, to about 20 ms. What a part usually takes is the median of earlier
    starts.
    """
    from rhizon.app.run.boots import boots as look

    found = look(call.host, server.folder, plot)
    last = found.boots[0]
    ready = f"ready after {last.ready_seconds:.2f} s" if last.ready_seconds is not None else "did not become ready"
    text = f"{found.name}: {ready}; {counted(len(found.boots), 'start')} kept"
    return Answer(found, text, lambda to: show_boot(to, found, call))


def show_boot(to: "Console", found: "Boots", call: Call) -> None:
    """The parts of the newest start that took longest, and the starts that are kept."""
    last = found.boots[0]
    for one in found.slower[:3]:
        say(to, f"slower than usual: {one.name} took {one.seconds:.2f} s, usually {one.usual:.2f} s")

    def usual(name: str) -> str:
        return f"{found.usual[name]:.2f} s" if name in found.usual else ""

    rows = [
        [one.name, one.kind, f"{one.begin:.2f} s", f"{one.seconds:.2f} s", usual(one.name)]
        for one in last.slowest(MOST_ROWS)
    ]
    call.table(to, ["part", "kind", "begins", "takes", "usually"], rows, right=("begins", "takes", "usually"))
    rows = [
        [
            one.began,
            f"{one.ready_seconds:.2f} s" if one.ready_seconds is not None else "not ready",
            str(len(one.phases)),
        ]
        for one in found.boots
    ]
    call.table(to, ["start", "ready after", "parts"], rows, right=("ready after", "parts"))
