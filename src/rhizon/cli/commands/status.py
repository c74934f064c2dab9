"""``rhizon status``."""

from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.commands.schedule import task_end
from rhizon.cli.options import on_option
from rhizon.cli.output import Step, show_pairs
from rhizon.cli.servers import Server
from rhizon.cli.there import controlled
from rhizon.core.units import duration_text, mib_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.run.status import ServerStatus

__all__ = ["status"]


@command(
    "status",
    examples=(
        ("rhizon status marsh", "its state, what it uses, what happened last"),
        ("rhizon status --all", "a line for every server of this machine"),
        ("rhizon status --live", "a table of all servers that is kept up to date"),
    ),
    several=True,
    alone="live",
    tables=True,
)
@click.option("--live", is_flag=True, help="A table of all servers, kept up to date; Ctrl-C ends it.")
@on_option
def status(call: Call, server: Server | None, live: bool, on: str | None) -> Answer | None:
    """Show how servers are: starting, ready, stopping, stopped, crashed, crash-loop, or unknown-outside.

    The last is a server that Rhizon did not start. Exit code 1 for a server that crashed.
    """
    if server is None or live:
        from rhizon.cli.live import show_live

        show_live(call)
        return None
    if on is not None:
        return controlled(call, server, on, "status")
    from rhizon.app.run.status import status as look

    found = look(call.host, server.folder)
    bad = found.now.state in ("crashed", "crash-loop")
    how = duration_text(found.now.seconds) if found.now.seconds is not None else ""
    text = f"{found.name}: {found.now.state}" + (f" for {how}" if how else "")
    steps = []
    if found.now.pid is None:
        steps.append(Step(("rhizon", "start", server.label), "start it"))
    if bad:
        steps.append(Step(("rhizon", "log", server.label), "what it printed last"))
    return Answer(found, text, lambda to: _body(to, found), next=steps, exit_code=int(bad))


def _body(to: "Console", found: "ServerStatus") -> None:
    now = found.now
    pairs = []
    if now.pid is not None:
        keeper = "" if now.kept else "; no keeper: the next start, run, console or stop starts one"
        if now.state == "unknown-outside":
            keeper = "; Rhizon did not start it"
        pairs.append(("process", f"{now.pid}{keeper}"))
    if now.ready_seconds is not None:
        pairs.append(("ready after", f"{now.ready_seconds:.1f} s"))
    if found.memory_mib is not None:
        pairs.append(("memory", f"{mib_text(round(found.memory_mib))} of {mib_text(found.granted_mib)}"))
    if found.processor is not None:
        pairs.append(("processor", f"{100 * found.processor:.1f} % of one, since it started"))
    pairs.append(("ports", ", ".join(f"{name} {number}" for name, number in found.ports.items())))
    pairs.append(("restart", found.restart + (f"; {now.restarts} so far" if now.restarts else "")))
    if now.next_start is not None:
        pairs.append(("starts again", f"in {now.next_start:.0f} s"))
    if now.exit_code is not None:
        pairs.append(("exit code", str(now.exit_code)))
    if now.why or found.crash:
        pairs.append(("why", "; ".join(one for one in (now.why, found.crash) if one)))
    for line in found.schedule:
        pairs.append((line.task.what, f"{line.task.when}; {task_end(line)}"))
    show_pairs(to, pairs)
