"""``rhizon restart``."""

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.options import AGE
from rhizon.cli.output import Step
from rhizon.cli.servers import Server

__all__ = ["restart"]


@command(
    "restart",
    examples=(
        ("rhizon restart marsh", "stop it cleanly and start it again"),
        ("rhizon restart marsh --in 10m", "in ten minutes; players are told before"),
    ),
    several=True,
    tables=True,
)
@click.option("--in", "after", type=AGE, default="0m", metavar="TIME", help="Restart after this time (30m, 2h).")
@click.option(
    "--wait", type=click.FloatRange(1, 86400), metavar="SECONDS", help="Longest time until ready, in seconds."
)
@click.option("--anyway", is_flag=True, help="Start it also where a check says that this will fail.")
def restart(call: Call, server: Server, after: float, wait: float | None, anyway: bool) -> Answer:
    """Stop servers cleanly and start them again; one that does not run is started.

    Players are told before, where the game's definition has a command for that. Ctrl-C cancels it.
    """
    from rhizon.app.run.restart import restart as again
    from rhizon.app.run.start import StartWishes
    from rhizon.cli.terminal import stop_signals

    with stop_signals() as asked:
        wishes = StartWishes(wait=wait, anyway=anyway)
        done = again(call.host, server.folder, call.reporter, asked, after=after, wishes=wishes)
    call.close()
    text = f"{done.name}: restarted, ready after {done.ready_seconds or 0:.1f} s"
    return Answer(done, text, None, done.findings, (Step(("rhizon", "console", server.label), "type commands"),))
