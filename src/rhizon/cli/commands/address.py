"""``rhizon address`` and ``rhizon reach``."""

from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import Step, say
from rhizon.cli.servers import SERVER, Server

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.reach.addresses import Addresses
    from rhizon.app.reach.chain import Chain

__all__ = ["address", "reach"]

_ask_router = click.option("--ask-router", is_flag=True, help="Ask the router of this network (NAT-PMP, UPnP IGD).")


@command(
    "address",
    examples=(
        ("rhizon address marsh", "every address to give to players, best first"),
        ("rhizon address marsh --ask-router", "also the router's public address"),
    ),
    tables=True,
)
@click.argument("server", type=SERVER)
@_ask_router
def address(call: Call, server: Server, ask_router: bool) -> Answer:
    """List every address of a server to give to players, best first: where it works from, and what it depends on. For
    players on the internet, set one in host.toml (address) or for this server (rhizon kit --address)."""
    from rhizon.app.reach.addresses import list_addresses

    found = list_addresses(call.host, server.folder, ask_router=ask_router)
    best = found.addresses[0]
    steps = [Step(("rhizon", "reach", server.label), "find what keeps players out")]
    return Answer(
        found, f"{found.name}: {best.join} ({best.reach})", lambda to: _body(to, found, call), found.findings, steps
    )


def _body(to: "Console", found: "Addresses", call: Call) -> None:
    rows = [(one.join, one.reach, one.depends, "yes" if one.sure else "perhaps") for one in found.addresses]
    call.table(to, ("join with", "from", "depends on", "works"), rows, prose=("depends on",))
    to.print()
    say(to, f"forwarding: {found.forwarding}")
    if found.router:
        say(to, f"router: {found.router}")


@command(
    "reach",
    examples=(
        ("rhizon reach marsh", "process, address, sockets, firewall"),
        ("rhizon reach marsh --ask-router", "and the router"),
    ),
    tables=True,
)
@click.argument("server", type=SERVER)
@_ask_router
def reach(call: Call, server: Server, ask_router: bool) -> Answer:
    """Find the first broken link between players and a server: its process, the address that it listens on, its
    sockets, this machine's firewall, the router. Exit code 1 where one is broken."""
    from rhizon.app.reach.chain import follow_chain

    found = follow_chain(call.host, server.folder, ask_router=ask_router)
    text = f"{found.name}: no broken link was found"
    if found.broken:
        first = next(one for one in found.links if one.link == found.broken and one.holds == "no")
        text = f"{found.name}: {first.link}: {first.what}"
    return Answer(found, text, lambda to: _links(to, found, call), exit_code=1 if found.broken else 0)


def _links(to: "Console", found: "Chain", call: Call) -> None:
    signs = {"yes": "ok", "no": "broken", "unknown": "unknown"}
    rows = [(one.link, signs[one.holds], one.what) for one in found.links]
    call.table(to, ("link", "state", "what"), rows, prose=("what",))
    fixes = dict.fromkeys(f"{one.link}: {one.fix}" for one in found.links if one.fix and one.holds != "yes")
    if fixes:
        to.print()
        for fix in fixes:
            say(to, fix)
