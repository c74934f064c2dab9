"""``rhizon start``."""

import os
from pathlib import Path
from typing import NoReturn

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.options import on_option
from rhizon.cli.output import Step, say
from rhizon.cli.servers import Server
from rhizon.cli.there import controlled
from rhizon.core.units import counted

__all__ = ["become_keeper", "start"]


@command(
    "start",
    examples=(
        ("rhizon start marsh", "start it in the background, and wait until it is ready"),
        ("rhizon start --all --no-wait", "start every server of this machine"),
        ("rhizon start marsh --restart always", "and start it again whenever it ends by itself"),
    ),
    several=True,
    tables=True,
)
@click.option(
    "--wait", type=click.FloatRange(1, 86400), metavar="SECONDS", help="Longest time until ready, in seconds."
)
@click.option("--no-wait", is_flag=True, help="Do not wait until it is ready.")
@click.option(
    "--restart",
    type=click.Choice(["never", "on-crash", "always"]),
    help="What to do when it ends by itself, from now on; by default on-crash.",
)
@click.option(
    "--adjust/--no-adjust",
    default=None,
    help="Whether to give it more memory after that ran out, if the machine has it, from now on.",
)
@click.option(
    "--tell",
    metavar="COMMAND|URL",
    help="From now on: run this with each crash as JSON on standard input, or post it there; empty for nobody.",
)
@click.option("--anyway", is_flag=True, help="Start it also where a check says that this will fail.")
@on_option
@click.option("--foreground", is_flag=True, help="Become its keeper; for service managers (sd_notify).")
def start(
    call: Call,
    server: Server,
    wait: float | None,
    no_wait: bool,
    restart: str | None,
    adjust: bool | None,
    tell: str | None,
    anyway: bool,
    foreground: bool,
    on: str | None,
) -> Answer | None:
    """Start servers in the background.

    What `rhizon check` finds comes first: errors refuse the start, warnings are shown. Each server has a keeper of its
    own that owns its console and log, and restarts it after a crash. The server keeps running when the terminal closes.
    Exit code 6 when it does not become ready, with the reason and the content at fault.
    """
    from rhizon.app.run.start import StartWishes
    from rhizon.app.run.start import start as begin
    from rhizon.cli.terminal import stop_signals

    if on is not None:
        return controlled(call, server, on, "start")
    if foreground:
        become_keeper(call, server.folder)
    wishes = StartWishes(
        wait=0 if no_wait else wait,
        restart=restart,  # type: ignore[arg-type]
        adjust=adjust,
        tell=tell,
        anyway=anyway,
    )
    with stop_signals() as asked:
        done = begin(call.host, server.folder, call.reporter, asked, wishes)
    call.close()
    if done.already:
        text = f"{done.name}: is running already"
    elif done.ready_seconds is None:
        text = f"{done.name}: started"
    else:
        pieces = counted(len(done.content), "piece")
        text = f"{done.name}: ready after {done.ready_seconds:.1f} s with {pieces} of content"
    where = ", ".join(done.addresses)
    body = (lambda to: say(to, f"players join at {where}")) if where and done.ready_seconds is not None else None
    steps = (
        Step(("rhizon", "console", server.label), "type commands"),
        Step(("rhizon", "stop", server.label), "stop it cleanly"),
    )
    return Answer(done, text, body, done.findings, steps)


def become_keeper(call: Call, folder: Path) -> NoReturn:
    """Replaces this process by the keeper of the server."""
    from rhizon.app.run.start import in_foreground

    command = in_foreground(call.host, folder, call.reporter)
    call.close()
    os.chdir("/")
    os.execv(command[0], command)
