"""The table of targets for a list, and its picture."""

from pathlib import Path

import msgspec

from rhizon.adapters.plots import heat_map
from rhizon.app.choose.resolve import catalogs_for
from rhizon.app.choose.sources import read_any
from rhizon.app.host import Host, majors_to_try
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError
from rhizon.core.solve.table import Row, target_table

__all__ = ["TargetTable", "table_of_targets"]


class TargetTable(msgspec.Struct, frozen=True, kw_only=True):
    """Rows by how much of the list they carry; ``plot`` is the file of the picture, when one was asked for."""

    name: str
    items: tuple[str, ...]
    rows: tuple[Row, ...]
    plot: str | None


def table_of_targets(
    host: Host, path: Path, catalogs: tuple[str, ...], plot: Path | None, reporter: Reporter
) -> TargetTable:
    """Raises InputError, RemoteError, NoSolutionError (no target at all)."""
    source = read_any(host, path, None, reporter)
    if source.kind == "lock":
        raise InputError("already-solved", f"{path} is a lock", hint="Name the list it was solved from.")
    game = host.games(source.beside).get(source.game)
    reporter.step(f"comparing {source.label} with every target")
    request = source.request(majors_to_try(game, host.runtimes(game)))
    rows = target_table(request, game, catalogs_for(host, source, game, catalogs, reporter))
    items = tuple(request.wishes)
    if plot is not None:
        labels = [one.target.label for one in rows]
        values = [[{"fits": 2, "nearly": 1, "no": 0}[cell.fit] for cell in row.cells] for row in rows]
        heat_map(plot, f"{source.title}: which target has what", labels, items, values)
    return TargetTable(name=source.name, items=items, rows=tuple(rows), plot=str(plot) if plot else None)
