"""``rhizon run``."""

from pathlib import Path

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.commands.boots import show_boot
from rhizon.cli.servers import SERVER, Server
from rhizon.core.units import counted

__all__ = ["run"]


@command(
    "run",
    examples=(
        ("rhizon run marsh", "start it; type commands for its console, Ctrl-C stops it"),
        ("rhizon run marsh --trial --wait 120", "does it start at all? stop it once it is ready"),
        ("rhizon run marsh --trial --plot boot.png", "and how long did each part of that take?"),
    ),
    verbose="the server's log beside --json",
)
@click.argument("server", type=SERVER)
@click.option("--trial", is_flag=True, help="Stop the server once it is ready.")
@click.option(
    "--wait", type=click.FloatRange(1, 86400), metavar="SECONDS", help="Longest time until ready, in seconds."
)
@click.option(
    "--plot", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE", help="Draw how long each part took."
)
@click.option("--anyway", is_flag=True, help="Start it also where a check says that this will fail.")
def run(call: Call, server: Server, trial: bool, wait: float | None, plot: Path | None, anyway: bool) -> Answer:
    """Start a server and stay attached to it.

    What `rhizon check` finds comes first: errors refuse the start, warnings are shown. Then the server's output is
    shown, and what you type goes to its console. Ctrl-C (or SIGTERM) stops it cleanly, a third one ends it at once.
    Exit code 6 when it does not become ready, with the reason and the content at fault; 1 when it was ready and did
    not end cleanly.
    """
    from rhizon.app.run.boots import boots as measured
    from rhizon.app.run.run import Moment, RunWishes
    from rhizon.app.run.run import run as start
    from rhizon.app.run.server import RunningServer
    from rhizon.cli.terminal import Console, stop_signals

    reporter = call.log_reporter(log=not call.out.json or call.out.verbose)
    typed = Console()
    with stop_signals() as asked:

        def tick(running: RunningServer) -> Moment:
            if trial:
                return "stop"
            line = typed.line()
            if line is not None:
                running.process.send(line)
            return "go on"

        def ask_move(offer: str) -> bool:
            reporter.end()
            click.echo(f"{offer}. Move the server there? [y/N] ", err=True, nl=False)
            return (typed.wait(asked) or "").strip().lower() in ("y", "yes")

        wishes = RunWishes(wait=wait, ask_move=ask_move if call.asks else None, anyway=anyway)
        ran = start(call.host, server.folder, reporter, asked, tick, wishes)
    call.close()
    parts = measured(call.host, server.folder, plot) if plot is not None else None
    clean = ran.exit_code == 0
    text = f"{ran.name}: ready after {ran.ready_seconds:.1f} s with {counted(len(ran.content), 'piece')} of content, "
    text += f"up for {ran.up_seconds:.0f} s, "
    text += "stopped cleanly" if clean else f"ended with exit code {ran.exit_code}; log: {ran.log}"
    return Answer(
        ran,
        text,
        None if parts is None else lambda to: show_boot(to, parts, call),
        ran.findings,
        exit_code=0 if clean else 1,
    )
