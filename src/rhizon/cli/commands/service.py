"""``rhizon service``."""

from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, RhizonGroup, command
from rhizon.cli.output import Step
from rhizon.cli.servers import SERVER, Server

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.run.service import ServiceResult

__all__ = ["service"]


@click.group("service", cls=RhizonGroup)
def service() -> None:
    """Let the machine's service manager (systemd) start servers when it boots."""


@command(
    "install",
    group=service,
    examples=(
        ("rhizon service install marsh --now", "start it now and whenever the machine boots"),
        ("rhizon service install marsh --user", "with your own manager, without being root"),
    ),
    dry_run="Show the unit and write nothing.",
)
@click.argument("server", type=SERVER)
@click.option("--user", is_flag=True, help="Use your user's manager instead of the machine's.")
@click.option("--now", is_flag=True, help="Also start it now.")
def install(call: Call, server: Server, user: bool, now: bool) -> Answer:
    """Write and enable a hardened unit: started at boot, stopped cleanly, watched."""
    from rhizon.app.run.service import install_service

    done = install_service(call.host, server.folder, user=user, start=now, dry_run=call.dry_run)
    what = (
        "plan for the service" if done.planned else f"{done.unit} installed" + (" and started" if done.started else "")
    )
    scope = "systemctl --user" if user else "systemctl"
    return Answer(
        done,
        f"{done.name}: {what}",
        (lambda to: _text(to, done)) if done.planned else None,
        next=() if done.planned else (Step((*scope.split(), "status", done.unit), "how it is"),),
    )


@command(
    "remove",
    group=service,
    examples=(("rhizon service remove marsh", "it no longer starts at boot; a running server keeps running"),),
    dry_run="Show what would be removed and remove nothing.",
)
@click.argument("server", type=SERVER)
@click.option("--user", is_flag=True, help="Use your user's manager instead of the machine's.")
def remove(call: Call, server: Server, user: bool) -> Answer:
    """Disable and remove the unit of a server."""
    from rhizon.app.run.service import remove_service

    done = remove_service(call.host, server.folder, user=user, dry_run=call.dry_run)
    what = (
        f"{done.unit} would be removed"
        if done.planned
        else f"{done.unit} removed"
        if done.files
        else "no unit is there"
    )
    return Answer(done, f"{done.name}: {what}")


@command(
    "show",
    group=service,
    examples=(
        ("rhizon service show marsh", "the unit as it would be installed"),
        ("rhizon service show marsh --manager openrc", "a file for another manager (untested)"),
    ),
)
@click.argument("server", type=SERVER)
@click.option("--user", is_flag=True, help="Use your user's manager instead of the machine's.")
@click.option(
    "--manager", type=click.Choice(["systemd", "openrc", "launchd"]), default="systemd", help="Which manager it is for."
)
def show(call: Call, server: Server, user: bool, manager: str) -> Answer:
    """Print the unit of a server, or a file for another service manager."""
    from rhizon.app.run.service import service_text

    done = service_text(call.host, server.folder, user=user, manager=manager)
    return Answer(done, "", lambda to: _text(to, done))


def _text(to: "Console", done: "ServiceResult") -> None:
    to.print(done.text, markup=False, highlight=False, soft_wrap=True, end="")
