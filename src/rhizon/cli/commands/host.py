"""``rhizon host``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import say, show_pairs
from rhizon.core.units import counted, mib_text, size_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.machine.host_state import HostState, RebuildResult

__all__ = ["host"]


@command(
    "host",
    examples=(
        ("rhizon host", "memory, disk, limits and what the servers were granted"),
        ("rhizon host --rebuild /srv", "read the ledger again from the servers below /srv"),
    ),
    tables=True,
    dry_run="With --rebuild: show which servers would be added and change nothing.",
)
@click.argument("folders", nargs=-1, type=click.Path(path_type=Path), metavar="[FOLDER]...")
@click.option("--rebuild", is_flag=True, help="Read the ledger again from the servers' folders and those below FOLDER.")
def host(call: Call, folders: tuple[Path, ...], rebuild: bool) -> Answer:
    """Show this machine: memory, cores, disk, the limits in host.toml, and what its servers were granted.

    The ledger of ports and memory is an index of what the servers' folders say. --rebuild reads it again from them,
    after it was lost or for servers that came from another machine; FOLDER is searched for servers.
    """
    from rhizon.app.machine.host_state import host_state, rebuild_ledger

    if (folders or call.dry_run) and not rebuild:
        raise click.UsageError("FOLDER and --dry-run go with --rebuild.")
    if rebuild:
        done = rebuild_ledger(call.host, folders, write=not call.dry_run)
        new = f"{counted(len(done.added), 'server')} {'would be added' if done.planned else 'added'}"
        return Answer(
            done, f"the ledger has {counted(done.known, 'server')}; {new}", lambda to: _rebuilt(to, done), done.findings
        )
    found = host_state(call.host)
    granted = f"{mib_text(found.granted_mib)} granted to {counted(len(found.instances), 'server')}"
    return Answer(
        found,
        f"{mib_text(found.free_mib)} of memory free to grant; {granted}",
        lambda to: _body(to, found, call),
        found.findings,
    )


def _body(to: "Console", found: "HostState", call: Call) -> None:
    """Facts of the machine, and its servers."""
    limits = found.limits
    reserve = f", {mib_text(found.reserve_mib)} of it left to the machine"
    less = found.memory_mib < found.machine_mib
    bound = f" (limit of its control group; the machine has {mib_text(found.machine_mib)})" if less else ""
    show_pairs(
        to,
        [
            ("system", f"{found.system}, {counted(found.cores, 'core')}"),
            ("memory", f"{mib_text(found.memory_mib)}{bound}{reserve}"),
            ("for servers", mib_text(found.for_servers_mib)),
            ("disk", f"{size_text(found.disk_free_bytes)} of {size_text(found.disk_bytes)} free"),
            ("data", found.data_folder),
            ("state", found.state_folder),
            ("cache", found.cache_folder),
            ("config", found.config_folder),
            ("port pool", ", ".join(limits.ports)),
            ("ephemeral ports", "{}-{}".format(*found.ephemeral) if found.ephemeral else ""),
            ("address", limits.address),
        ],
    )
    if found.instances:
        to.print()
        rows = [(one.name, one.game, one.state, mib_text(one.memory_mib), one.folder) for one in found.instances]
        call.table(to, ("server", "game", "state", "memory", "folder"), rows, right=("memory",))


def _rebuilt(to: "Console", done: "RebuildResult") -> None:
    if done.trouble:
        say(to, done.trouble)
    for folder in done.added:
        say(to, f"{'new' if done.planned else 'added'}: {folder}")
