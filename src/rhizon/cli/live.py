"""All servers in a table that is kept up to date."""

import sys
import time
from typing import TYPE_CHECKING

from rhizon.core.units import duration_text, mib_text

if TYPE_CHECKING:
    from rich.table import Table

    from rhizon.app.run.status import ServerStatus
    from rhizon.cli.command import Call

__all__ = ["show_live"]

SECONDS = 1.0
STYLES = {"ready": "green", "crashed": "red", "crash-loop": "red", "starting": "yellow", "stopping": "yellow"}


def show_live(call: "Call") -> None:
    """Until Ctrl-C. Where the output is no terminal, the table is printed once."""
    from rich.live import Live

    from rhizon.app.run.overview import Overview
    from rhizon.cli.output import console
    from rhizon.cli.terminal import stop_signals

    to = console()
    overview = Overview(call.host)
    if not sys.stdout.isatty():
        to.print(_table(overview.look(), to.width, 10_000))
        return
    with stop_signals() as asked, Live(console=to, auto_refresh=False, screen=True) as live:
        while not asked():
            live.update(_table(overview.look(), to.width, to.height), refresh=True)
            until = time.monotonic() + SECONDS
            while time.monotonic() < until and not asked():
                time.sleep(0.1)


def _table(found: "list[ServerStatus]", width: int, height: int) -> "Table":
    """As many rows as fit: those that need somebody first."""
    from rich.table import Table
    from rich.text import Text

    order = {
        "crash-loop": 0,
        "crashed": 1,
        "starting": 2,
        "stopping": 3,
        "ready": 4,
        "unknown-outside": 5,
        "stopped": 6,
    }
    found.sort(key=lambda one: (order[one.now.state], one.name))
    table = Table(box=None, padding=(0, 1), expand=False, width=min(width, 120))
    for name in ("server", "state", "for"):
        table.add_column(name, no_wrap=True, overflow="ellipsis")
    for name in ("memory", "of", "cpu", "restarts"):
        table.add_column(name, justify="right", no_wrap=True)
    rows = max(height - 3, 1)
    for one in found[:rows]:
        now = one.now
        table.add_row(
            one.name,
            Text(now.state, style=STYLES.get(now.state, "")),
            duration_text(now.seconds) if now.seconds is not None else "",
            mib_text(round(one.memory_mib)) if one.memory_mib is not None else "",
            mib_text(one.granted_mib),
            f"{100 * one.processor:.0f} %" if one.processor is not None else "",
            str(now.restarts or ""),
        )
    if len(found) > rows:
        table.caption = f"and {len(found) - rows} more; the terminal is too low for them"
    return table
