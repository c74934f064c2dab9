"""``rhizon list``."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

import click

from rhizon.cli.output import Output, common, show_findings, show_table, verdict
from rhizon.core.units import mib_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.machine.list_instances import InstanceLine
    from rhizon.core.finding import Finding

__all__ = ["command"]


@click.command("list")
@common
def command(out: Output) -> None:
    """The servers of this machine: where, which game, running or not, memory, ports, your note."""
    from rhizon.app.host import this_host
    from rhizon.app.machine.list_instances import list_instances

    found = list_instances(this_host())
    out.result(found.instances, lambda to: _render(to, found.instances, found.findings), found.findings)


def _render(to: "Console", found: "Sequence[InstanceLine]", findings: "Sequence[Finding]") -> None:
    from rhizon.core.allocate.port_roles import spans

    if not found:
        verdict(to, "no servers on this machine yet")
        show_findings(to, findings)
        return
    up = sum(one.state == "running" for one in found)
    servers = f"{len(found)} server{'s' if len(found) != 1 else ''}"
    verdict(to, f"{servers}, {up} running, {mib_text(sum(one.memory_mib for one in found))} granted")
    noted = any(one.note for one in found)
    rows = [
        (
            one.name,
            one.game,
            one.state,
            mib_text(one.memory_mib),
            ", ".join(spans(one.ports)),
            *((one.note,) if noted else ()),
            one.folder,
        )
        for one in found
    ]
    columns = ("name", "game", "state", "memory", "ports", *(("note",) if noted else ()), "folder")
    show_table(to, columns, rows, right=("memory",))
    show_findings(to, findings)
