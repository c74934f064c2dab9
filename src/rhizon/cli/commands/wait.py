"""``rhizon wait``."""

from typing import Literal

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.servers import SERVER, Server

__all__ = ["wait"]


@command(
    "wait",
    examples=(
        ("rhizon wait marsh ready --wait 120", "for scripts: exit code 0 when players can join"),
        ("rhizon wait marsh stopped", "until it has stopped"),
    ),
)
@click.argument("server", type=SERVER)
@click.argument("state", type=click.Choice(["ready", "stopped"]))
@click.option(
    "--wait",
    "seconds",
    type=click.FloatRange(0, 86400),
    default=60,
    metavar="SECONDS",
    help="Longest time to wait, in seconds; by default 60.",
)
def wait(call: Call, server: Server, state: Literal["ready", "stopped"], seconds: float) -> Answer:
    """Wait until a server is ready, or has stopped.

    Exit code 0 when it is, 1 when the time is up, 6 when it ended instead of becoming ready.
    """
    from rhizon.app.run.status import wait_for
    from rhizon.cli.terminal import stop_signals

    with stop_signals() as asked:
        done = wait_for(call.host, server.folder, state, seconds, asked)
    return Answer(done, f"{done.name}: {done.state} after {done.seconds:.1f} s")
