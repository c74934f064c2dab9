"""``rhizon ports``."""

from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.options import port_numbers
from rhizon.cli.output import Output, common, console, next_steps, say, show_findings, show_table, verdict
from rhizon.core.allocate.rules import KINDS

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.tune.list_ports import PortLine, Ports
    from rhizon.app.tune.move_ports import PortsMoved

__all__ = ["command"]


@click.command("ports")
@click.argument("folder", type=click.Path(path_type=Path), required=False)
@click.option("--rules", "kind", type=click.Choice(list(KINDS)), help="Rules for a firewall or a router.")
@click.option("--move", is_flag=True, help="Take free numbers where another program listens on the server's own.")
@click.option("--port", "ports", multiple=True, metavar="ROLE=N", help="With --move: this number for a role.")
@click.option("--stop-first", is_flag=True, help="With --move: stop the server if it runs.")
@click.option("--dry-run", is_flag=True, help="With --move: show what would change, and change nothing.")
@common
def command(
    folder: Path | None,
    kind: str | None,
    move: bool,
    ports: tuple[str, ...],
    stop_first: bool,
    dry_run: bool,
    out: Output,
) -> None:
    """The ports of the server in FOLDER, or of all servers of this machine.

    Which number for what, where it is written, whether somebody listens now, and the addresses to hand out. --rules
    prints what a firewall has to let in (nftables, ufw, firewalld) or what a router has to forward (table); nothing is
    opened by itself. --move gives the server other numbers, in every place that needs them.
    """
    from rhizon.app.host import this_host
    from rhizon.app.tune.list_ports import list_ports

    if (ports or stop_first or dry_run) and not move:
        raise click.UsageError("--port, --stop-first and --dry-run go with --move.")
    if move:
        if folder is None or kind is not None:
            raise click.UsageError("--move takes the FOLDER of one server, and no --rules.")
        _move(folder, port_numbers(ports), stop_first, dry_run, out)
        return

    found = list_ports(this_host(), folder, kind)
    if kind is not None and not out.json and not out.quiet:
        click.echo(found.rules, nl=False)
        show_findings(console(stderr=True), found.findings)  # the rules may go into a file
        return
    out.result(found, lambda to: _render(to, found, folder), found.findings)


def _move(folder: Path, fixed: dict[str, int], stop_first: bool, dry_run: bool, out: Output) -> None:
    from rhizon.app.host import this_host
    from rhizon.app.tune.move_ports import move_ports
    from rhizon.cli.progress import ConsoleReporter

    reporter = ConsoleReporter(out)
    try:
        done = move_ports(this_host(), folder, fixed, reporter, stop_first=stop_first, dry_run=dry_run)
    finally:
        reporter.close()
    out.result(done, lambda to: _render_moved(to, done, folder))


def _render_moved(to: "Console", done: "PortsMoved", folder: Path) -> None:
    from rhizon.cli.changes import show_diffs, value_text

    if not done.ports:
        again = "it would be written again" if done.planned else "written again"
        written = f"; {again} where it belongs" if done.diffs else ""
        verdict(to, f"{done.name}: every port is free, and stays{written}")
        show_diffs(to, done.diffs)
        return
    verdict(to, f"{done.name}: {'these would move' if done.planned else 'moved'}")
    for one in done.ports:
        say(to, value_text(one))
    show_diffs(to, done.diffs)
    if done.planned:
        say(to, "Nothing was changed. The same command without --dry-run does it.")
    else:
        next_steps(
            to,
            [
                (("rhizon", "run", str(folder)), "start it"),
                (("rhizon", "ports", str(folder), "--rules", "table"), "what the router has to forward now"),
                (("rhizon", "undo", str(folder)), "take it back"),
            ],
        )


def _render(to: "Console", found: "Ports", folder: Path | None) -> None:
    if not found.ports:
        if found.findings:
            show_findings(to, found.findings)
        else:
            verdict(to, "no server of this machine has a port yet")
        return
    servers = len({one.folder for one in found.ports})
    roles: dict[tuple[str, str], list[PortLine]] = {}
    for one in found.ports:
        roles.setdefault((one.folder, one.role), []).append(one)
    verdict(to, f"{len(roles)} port{'s' if len(roles) != 1 else ''} of {servers} server{'s' if servers != 1 else ''}")
    columns = ("server", "role", "number", "protocol", "listening", "reached from", "written in")
    names = Counter(name for name, _ in {(one.server, one.folder) for one in found.ports})
    show_table(to, columns, [_row(lines, names[lines[0].server] > 1) for lines in roles.values()], right=("number",))
    to.print()
    if found.findings:
        show_findings(to, found.findings)
        to.print()
    say(to, f"on this machine: {found.here}; in the local network: {', '.join(found.near) or 'no address'}")
    say(to, f"from the internet: {found.far or 'your router knows its address; forward the ports to this machine'}")
    say(to, f"numbers are taken from: {found.pool}")
    named = (str(folder),) if folder is not None else ()
    taken = next((one.folder for one in found.ports if one.taken), None)
    moving = [(("rhizon", "ports", str(folder or taken), "--move"), "free numbers for what another program has")]
    next_steps(
        to,
        [
            *(moving if taken is not None else ()),
            (("rhizon", "ports", *named, "--rules", "table"), "what the router has to forward"),
            (("rhizon", "ports", *named, "--rules", "nftables"), "what the firewall has to let in"),
        ],
    )


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
