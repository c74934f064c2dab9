"""``rhizon host``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.output import Output, common, say, show_findings, show_pairs, show_table, verdict
from rhizon.core.units import counted, mib_text, size_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.machine.host_state import HostState, RebuildResult

__all__ = ["command"]


@click.command("host")
@click.argument("folders", nargs=-1, type=click.Path(path_type=Path), metavar="[FOLDER]...")
@click.option("--rebuild", is_flag=True, help="Read the ledger again from the servers' folders and those in FOLDER.")
@common
def command(folders: tuple[Path, ...], rebuild: bool, out: Output) -> None:
    """This machine: memory, cores, disk, the limits that host.toml sets, and what its servers were granted.

    The ledger of ports and memory is an index of what the servers' folders say. --rebuild makes it so again, after it
    was lost or with servers from another machine; FOLDER is searched for servers.
    """
    from rhizon.app.host import this_host
    from rhizon.app.machine.host_state import host_state, rebuild_ledger

    if folders and not rebuild:
        raise click.UsageError("FOLDER goes with --rebuild.")
    if rebuild:
        done = rebuild_ledger(this_host(), folders)
        out.result(done, lambda to: _render_rebuilt(to, done), done.findings)
        return
    found = host_state(this_host())
    out.result(found, lambda to: _render(to, found), found.findings)


def _render(to: "Console", found: "HostState") -> None:
    verdict(
        to,
        f"{mib_text(found.free_mib)} of memory can still be granted; {counted(len(found.instances), 'server')} "
        f"may take {mib_text(found.granted_mib)}",
    )
    limits = found.limits
    reserve = f", {mib_text(found.reserve_mib)} of it left to the machine"
    less = found.memory_mib < found.machine_mib
    bound = f" (its control group's limit; the machine has {mib_text(found.machine_mib)})" if less else ""
    passing = f"{found.passing[0]}-{found.passing[1]}" if found.passing else ""
    show_pairs(
        to,
        [
            ("system", f"{found.system}, {counted(found.cores, 'core')}"),
            ("memory", f"{mib_text(found.memory_mib)}{bound}{reserve}"),
            ("for servers", mib_text(found.for_servers_mib)),
            ("disk", f"{size_text(found.disk_free_bytes)} of {size_text(found.disk_bytes)} free"),
            ("state", found.state_folder),
            ("port pool", ", ".join(limits.ports)),
            ("ephemeral ports", passing),
            ("address", limits.address),
        ],
    )
    if found.instances:
        to.print()
        rows = [(one.name, one.game, one.state, mib_text(one.memory_mib), one.folder) for one in found.instances]
        show_table(to, ("server", "game", "state", "memory", "folder"), rows, right=("memory",))
    show_findings(to, found.findings)


def _render_rebuilt(to: "Console", done: "RebuildResult") -> None:
    verdict(to, f"the ledger knows {counted(done.known, 'server')}, {len(done.added)} of them new to it")
    if done.trouble:
        say(to, done.trouble)
    for folder in done.added:
        say(to, f"added: {folder}")
    show_findings(to, done.findings)
