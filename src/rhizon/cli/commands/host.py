"""``rhizon host``."""

from typing import TYPE_CHECKING

import click

from rhizon.cli.output import Output, common, show_findings, show_pairs, show_table, verdict
from rhizon.core.units import counted, mib_text, size_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.host_state import HostState

__all__ = ["command"]


@click.command("host")
@common
def command(out: Output) -> None:
    """This machine: memory, cores, disk, the limits that host.toml sets, and what its servers were granted."""
    from rhizon.app.context import this_host
    from rhizon.app.host_state import host_state

    found = host_state(this_host())
    out.result(found, lambda to: _render(to, found), found.findings)


def _render(to: "Console", found: "HostState") -> None:
    verdict(
        to,
        f"{mib_text(found.free_mib)} of memory can still be granted; {counted(len(found.instances), 'server')} "
        f"may take {mib_text(found.granted_mib)}",
    )
    limits = found.limits
    less = found.memory_mib < found.machine_mib
    bound = f" (its control group's limit; the machine has {mib_text(found.machine_mib)})" if less else ""
    passing = f"{found.passing[0]}-{found.passing[1]}" if found.passing else ""
    show_pairs(
        to,
        [
            ("system", f"{found.system}, {counted(found.cores, 'core')}"),
            ("memory", f"{mib_text(found.memory_mib)}{bound}, {mib_text(found.reserve_mib)} of it left to the machine"),
            ("limit", mib_text(limits.memory_mib) if limits.memory_mib is not None else ""),
            ("disk", f"{size_text(found.disk_free_bytes)} of {size_text(found.disk_bytes)} free"),
            ("state", found.state_folder),
            ("port pool", ", ".join(limits.ports)),
            ("used in passing", passing),
            ("address", limits.address),
        ],
    )
    if found.instances:
        to.print()
        rows = [(one.name, one.game, one.state, mib_text(one.memory_mib), one.folder) for one in found.instances]
        show_table(to, ("server", "game", "state", "memory", "folder"), rows, right=("memory",))
    show_findings(to, found.findings)
