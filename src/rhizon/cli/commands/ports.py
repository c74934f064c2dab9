"""``rhizon ports``."""

import re
from collections import Counter
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.completion import complete_roles
from rhizon.cli.options import port_numbers
from rhizon.cli.output import Step, console, say, show_findings
from rhizon.cli.servers import SERVER, Server
from rhizon.core.allocate.rules import KINDS
from rhizon.core.units import counted

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.tune.list_ports import PortLine, Ports
    from rhizon.app.tune.move_ports import PortsMoved

__all__ = ["ports"]


@command(
    "ports",
    examples=(
        ("rhizon ports", "all ports of all servers, who listens, and the addresses to hand out"),
        ("rhizon ports marsh --rules table", "what to forward on the router"),
        ("rhizon ports marsh --move --port game=21700 --dry-run", "show what another game port would change"),
        ("rhizon ports marsh --open --lease 2h", "ask the router to forward them; its keeper renews that"),
        ("rhizon ports marsh --close", "ask it to forward them no more"),
    ),
    tables=True,
    dry_run="Show what would change, and change and ask for nothing.",
    stops=True,
)
@click.argument("server", type=SERVER, required=False)
@click.option("--rules", "kind", type=click.Choice(list(KINDS)), help="Print rules for a firewall or a router.")
@click.option("--move", is_flag=True, help="Move ports that another program uses to free numbers.")
@click.option(
    "--port",
    "fixed",
    multiple=True,
    metavar="ROLE=N",
    shell_complete=complete_roles,
    help="With --move: port number of a role.",
)
@click.option("--open", "open_", is_flag=True, help="Ask the router to forward the ports (PCP, NAT-PMP, UPnP IGD).")
@click.option("--lease", default="2h", metavar="TIME", help="With --open: for how long, as in 30m, 2h or 1d (2h).")
@click.option("--close", "close_", is_flag=True, help="Ask the router to stop forwarding them.")
def ports(
    call: Call,
    server: Server | None,
    kind: str | None,
    move: bool,
    fixed: tuple[str, ...],
    open_: bool,
    lease: str,
    close_: bool,
) -> Answer | None:
    """List the ports of a server, or of all servers of this machine.

    Which number for what, where it is stored, whether somebody listens now, and the addresses to hand out. --rules
    prints what a firewall has to let in (nftables, ufw, firewalld) or what a router has to forward (table). Nothing is
    opened by itself: only --open asks the router, by PCP, NAT-PMP or UPnP, and --close takes that back. --move gives
    the server other numbers, in every place that needs them.
    """
    from rhizon.app.tune.list_ports import list_ports

    if open_ or close_:
        if server is None or kind is not None or move or fixed or (open_ and close_):
            raise click.UsageError("--open and --close take one server, and no other option but --lease.")
        return _at_the_router(call, server, lease if open_ else None)
    if (fixed or call.stop_first or call.dry_run) and not move:
        raise click.UsageError("--port, --stop-first and --dry-run go with --move, --open or --close.")
    if move:
        if server is None or kind is not None:
            raise click.UsageError("--move takes one server, and no --rules.")
        return _move(call, server, port_numbers(fixed))

    found = list_ports(call.host, server.folder if server is not None else None, kind)
    if kind is not None and not call.out.json and not call.out.quiet:
        click.echo(found.rules, nl=False)
        show_findings(console(stderr=True), found.findings)  # the rules may go into a file
        return None
    roles: dict[tuple[str, str], list[PortLine]] = {}
    for one in found.ports:
        roles.setdefault((one.folder, one.role), []).append(one)
    servers = len({one.folder for one in found.ports})
    return Answer(
        found,
        f"{counted(len(roles), 'port')} of {counted(servers, 'server')}" if found.ports else "no ports are allocated",
        (lambda to: _body(to, found, list(roles.values()), call)) if found.ports else None,
        found.findings,
        _next(found, server) if found.ports else (),
        good=not found.findings or bool(found.ports),
    )


def _at_the_router(call: Call, server: Server, lease: str | None) -> Answer:
    """Asks the router to forward the ports for a while, or (None) no more."""
    from rhizon.app.reach.opened import close_ports, open_ports

    if lease is None:
        done = close_ports(call.host, server.folder, call.reporter, dry_run=call.dry_run)
        verb = "would be closed" if done.planned else "closed"
        text = f"{counted(len(done.closed), 'port')} {verb}" if done.closed else "the router forwards nothing for it"
    else:
        done = open_ports(call.host, server.folder, _seconds(lease), call.reporter, dry_run=call.dry_run)
        verb = "would be asked for" if done.planned else "forwarded"
        text = f"{counted(len(done.opened), 'port')} {verb} by the router {done.gateway}"
    call.close()

    def body(to: "Console") -> None:
        for one in done.opened:
            until = "" if done.planned else f" until {one.until} ({one.how}); renewed while the server runs"
            say(to, f"{one.role}: {one.protocol} {one.external} → {one.internal}{until}")
        for line in done.closed:
            say(to, line)

    steps = [Step(("rhizon", "address", server.label, "--ask-router"), "the address to hand out")]
    return Answer(done, f"{done.name}: {text}", body, done.findings, steps if lease is not None else ())


def _seconds(text: str) -> int:
    """A time such as 2h. Raises UsageError."""
    match = re.fullmatch(r"(\d{1,6})([smhd])", text.strip().lower())
    if match is None:
        raise click.UsageError(f"--lease {text!r}: a time such as 30m, 2h or 1d is expected.")
    return int(match[1]) * {"s": 1, "m": 60, "h": 3600, "d": 86400}[match[2]]


def _move(call: Call, server: Server, fixed: dict[str, int]) -> Answer:
    """Moves ports, or says what would move."""
    from rhizon.app.tune.move_ports import move_ports

    done = move_ports(call.host, server.folder, fixed, call.reporter, stop_first=call.stop_first, dry_run=call.dry_run)
    call.close()
    if done.ports:
        text = "plan for the move" if done.planned else "ports moved"
    elif done.diffs:
        text = f"every port is free; {'would be ' if done.planned else ''}stored again where it belongs"
    else:
        text = "every port is free, nothing to move"
    steps = (
        Step(("rhizon", "run", server.label), "start it"),
        Step(("rhizon", "ports", server.label, "--rules", "table"), "what the router has to forward now"),
        Step(("rhizon", "undo", server.label), "take it back"),
    )
    return Answer(done, f"{done.name}: {text}", lambda to: _moved(to, done), done.findings, steps if done.ports else ())


def _moved(to: "Console", done: "PortsMoved") -> None:
    from rhizon.cli.changes import show_diffs, value_text

    for one in done.ports:
        say(to, value_text(one))
    show_diffs(to, done.diffs)


def _body(to: "Console", found: "Ports", roles: "list[list[PortLine]]", call: Call) -> None:
    columns = ("server", "role", "number", "protocol", "listening", "reached from", "stored in")
    names = Counter(name for name, _ in {(one.server, one.folder) for one in found.ports})
    rows = [_row(lines, names[lines[0].server] > 1) for lines in roles]
    call.table(to, columns, rows, right=("number",))
    to.print()
    say(to, f"on this machine: {found.here}; in the local network: {', '.join(found.near) or 'no address'}")
    say(to, f"from the internet: {found.far or 'your router knows its address; forward the ports to this machine'}")
    say(to, f"numbers are taken from: {found.pool}")


def _next(found: "Ports", server: Server | None) -> list[Step]:
    named = (server.label,) if server is not None else ()
    taken = next((one.folder for one in found.ports if one.taken), None)
    steps = []
    if taken is not None:
        move = ("rhizon", "ports", server.label if server is not None else taken, "--move")
        steps.append(Step(move, "move what another program uses to free numbers"))
    steps.append(Step(("rhizon", "ports", *named, "--rules", "table"), "what the router has to forward"))
    steps.append(Step(("rhizon", "ports", *named, "--rules", "nftables"), "what the firewall has to let in"))
    return steps


def _row(lines: "list[PortLine]", several: bool) -> tuple[str, ...]:
    """A role on all its protocols, with the folder where ``several`` servers have the name."""
    first = lines[0]
    up = [one.protocol.upper() for one in lines if one.listening]
    only = "+".join(up)
    listening = "no" if not up else "yes" if len(up) == len(lines) else f"only {only}"
    if any(one.taken for one in lines):
        listening = "another program" if len(up) == len(lines) else f"another program, {only}"
    return (
        f"{first.server} ({first.folder})" if several else first.server,
        first.role,
        str(first.first) if first.first == first.last else f"{first.first}-{first.last}",
        "+".join(one.protocol.upper() for one in lines),
        listening,
        first.reached_from,
        ", ".join(first.stored),
    )
