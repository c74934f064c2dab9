"""``rhizon list``."""

from typing import TYPE_CHECKING

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import is_narrow
from rhizon.core.units import counted, mib_text

if TYPE_CHECKING:
    from collections.abc import Mapping

    from rich.console import Console

    from rhizon.app.machine.list_instances import Listing

__all__ = ["list_"]


@command(
    "list",
    examples=(
        ("rhizon list", "name, game, state, memory, ports and folder of each"),
        ("rhizon list --json", "the same for a script"),
    ),
    verbose="the process of each running server",
    tables=True,
)
def list_(call: Call) -> Answer:
    """List the servers of this machine: name, game, running or not, memory, ports, your note, folder."""
    from rhizon.app.machine.list_instances import list_instances

    found = list_instances(call.host)
    up = sum(one.process is not None for one in found.instances)
    total = mib_text(sum(one.memory_mib for one in found.instances))
    headline = f"{counted(len(found.instances), 'server')}, {up} running, {total} of memory granted"
    return Answer(
        found,
        headline if found.instances else "no servers on this machine yet",
        lambda to: _body(to, found, call),
        found.findings,
    )


def _body(to: "Console", found: "Listing", call: Call) -> None:
    """The table of servers."""
    from rhizon.core.allocate.port_roles import numbers_text

    if not found.instances:
        return

    def ports(held: "Mapping[str, int]") -> str:
        if not is_narrow(to) or call.out.wide or len(held) < 2:
            return numbers_text(held)
        return f"{min(held.values())} +{len(held) - 1}"

    columns = ["name", "game", "state", "memory", "ports"]
    rows = [[one.name, one.game, one.state, mib_text(one.memory_mib), ports(one.ports)] for one in found.instances]
    more = [("note", [one.note for one in found.instances])]
    if call.out.verbose:
        more.append(("process", [str(one.process or "") for one in found.instances]))
    more.append(("folder", [one.folder for one in found.instances]))
    for name, cells in more:
        if any(cells):
            columns.append(name)
            for row, cell in zip(rows, cells, strict=True):
                row.append(cell)
    call.table(to, columns, rows, right=("memory", "process"))
