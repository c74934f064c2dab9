"""``rhizon stop``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.output import Output, common, next_steps, verdict

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.run.stop import StopResult

__all__ = ["command"]


@click.command("stop")
@click.argument("folder", type=click.Path(path_type=Path))
@common
def command(folder: Path, out: Output) -> None:
    """Stop the server that runs in FOLDER, cleanly.

    It is asked over its console, as if stop was typed where rhizon run runs; by a signal where that command is gone.
    """
    from rhizon.app.host import this_host
    from rhizon.app.run.stop import stop
    from rhizon.cli.progress import ConsoleReporter

    reporter = ConsoleReporter(out)
    try:
        done = stop(this_host(), folder, reporter)
    finally:
        reporter.close()
    out.result(done, lambda to: _render(to, done, folder))


def _render(to: "Console", done: "StopResult", folder: Path) -> None:
    verdict(to, f"{done.name}: {'stopped' if done.was_running else 'no server runs there'}")
    next_steps(to, [(("rhizon", "run", str(folder)), "start it")])
