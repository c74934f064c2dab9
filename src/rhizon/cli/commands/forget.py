"""``rhizon forget``."""

from typing import TYPE_CHECKING

import click

from rhizon.cli.output import Output, common, next_steps, say, verdict
from rhizon.core.units import mib_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.machine.forget import ForgetResult

__all__ = ["command"]


@click.command("forget")
@click.argument("server", metavar="NAME_OR_FOLDER")
@click.option("--stop-first", is_flag=True, help="Stop the server if it runs.")
@click.option("--dry-run", is_flag=True, help="Show what would be freed, and change nothing.")
@common
def command(server: str, stop_first: bool, dry_run: bool, out: Output) -> None:
    """Stop using Rhizon for a server: its ports and memory are free for others.

    Its files stay as they are: the server, its worlds and settings, start.sh and start.cmd, and all backups. Rhizon's
    records in .rhizon stay too; rhizon provision SOURCE FOLDER uses them to take the server up again, and you may
    delete that folder. Also for a server whose folder is gone.
    """
    from rhizon.app.host import this_host
    from rhizon.app.machine.forget import forget
    from rhizon.cli.progress import ConsoleReporter

    reporter = ConsoleReporter(out)
    try:
        done = forget(this_host(), server, reporter, stop_first=stop_first, dry_run=dry_run)
    finally:
        reporter.close()
    out.result(done, lambda to: _render(to, done))


def _render(to: "Console", done: "ForgetResult") -> None:
    verdict(to, f"{done.name}: {'would be forgotten' if done.planned else 'forgotten'}")
    from rhizon.core.allocate.port_roles import spans

    ports = ", ".join(spans(done.ports)) or "none"
    word = "to be freed" if done.planned else "freed"
    say(to, f"{word}: ports {ports}; {mib_text(done.memory_mib)} of memory")
    if done.absent:
        say(to, f"its folder cannot be seen and was not marked: {done.folder}")
        say(to, "If it comes back, every command on it reports ports that another server has by then.")
    else:
        say(to, f"stays: everything in {done.folder}, and its backups")
    if done.planned:
        say(to, "Nothing was changed. The same command without --dry-run does it.")
    elif not done.absent:
        next_steps(to, [(("rhizon", "provision", "SOURCE", done.folder), "use Rhizon for it again")])
