"""``rhizon ports``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.output import Output, common, next_steps, say, show_table, verdict
from rhizon.core.allocate.rules import KINDS

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.port_list import Ports

__all__ = ["command"]


@click.command("ports")
@click.argument("folder", type=click.Path(path_type=Path), required=False)
@click.option("--rules", "kind", type=click.Choice(list(KINDS)), help="Rules for a firewall or a router.")
@common
def command(folder: Path | None, kind: str | None, out: Output) -> None:
    """The ports of the server in FOLDER, or of all servers of this machine.

    Which number for what, where it is written, whether somebody listens now, and the addresses to hand out. --rules
    prints what a firewall has to let in (nftables, ufw, firewalld) or what a router has to forward (table); nothing is
    opened by itself.
    """
    from rhizon.app.context import this_host
    from rhizon.app.port_list import list_ports

    found = list_ports(this_host(), folder, kind)
    if kind is not None and not out.json and not out.quiet:
        click.echo(found.rules, nl=False)
        return
    out.result(found, lambda to: _render(to, found, folder))


def _render(to: "Console", found: "Ports", folder: Path | None) -> None:
    if not found.ports:
        verdict(to, "no server of this machine has a port yet")
        return
    servers = len({one.folder for one in found.ports})
    verdict(to, f"{len(found.ports)} ports of {servers} server{'s' if servers != 1 else ''}")
    rows = [
        (
            one.server,
            one.role,
            str(one.first) if one.first == one.last else f"{one.first}-{one.last}",
            one.protocol.upper(),
            "yes" if one.listening else "no",
            ", ".join(one.stored),
        )
        for one in found.ports
    ]
    show_table(to, ("server", "role", "number", "protocol", "listening", "written in"), rows, right=("number",))
    to.print()
    say(to, f"on this machine: {found.here}; in the local network: {', '.join(found.near) or 'no address'}")
    say(to, f"from the internet: {found.far or 'your router knows its address; forward the ports to this machine'}")
    say(to, f"numbers are taken from: {found.pool}")
    named = (str(folder),) if folder is not None else ()
    next_steps(
        to,
        [
            (("rhizon", "ports", *named, "--rules", "table"), "what the router has to forward"),
            (("rhizon", "ports", *named, "--rules", "nftables"), "what the firewall has to let in"),
        ],
    )
