"""``rhizon forget``."""

from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import Step, say
from rhizon.cli.servers import SERVER, Server
from rhizon.core.units import mib_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.machine.forget import ForgetResult

__all__ = ["forget"]


@command(
    "forget",
    examples=(
        ("rhizon forget moor --dry-run", "show which ports and memory would be released"),
        ("rhizon forget moor --stop-first", "stop it and release them; all files stay"),
    ),
    dry_run="Show what would be released and change nothing.",
    stops=True,
)
@click.argument("server", type=SERVER)
def forget(call: Call, server: Server) -> Answer:
    """Stop managing a server: its ports and memory become free for others.

    Its files stay as they are: the server, its worlds and settings, start.sh and start.cmd, and all backups. Rhizon's
    records in .rhizon stay too; rhizon provision uses them to take the server up again, and you may delete that
    folder. Works for a server whose folder is gone, too.
    """
    from rhizon.app.machine.forget import forget as release

    done = release(call.host, server.folder, call.reporter, stop_first=call.stop_first, dry_run=call.dry_run)
    call.close()
    again = Step(("rhizon", "provision", done.source, done.folder), "manage it again")
    return Answer(
        done,
        f"{done.name}: {'would be forgotten' if done.planned else 'forgotten'}",
        lambda to: _body(to, done),
        next=(again,) if done.source and not done.absent else (),
    )


def _body(to: "Console", done: "ForgetResult") -> None:
    from rhizon.core.allocate.port_roles import spans

    ports = ", ".join(spans(done.ports)) or "none"
    say(to, f"{'to release' if done.planned else 'released'}: ports {ports}; {mib_text(done.memory_mib)} of memory")
    if done.absent:
        say(to, f"its folder was not found and could not be marked: {done.folder}")
        say(to, "If it comes back, commands on it report ports that another server has by then.")
    else:
        say(to, f"kept: everything in {done.folder}, and its backups")
