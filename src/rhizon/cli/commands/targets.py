"""``rhizon targets``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.options import catalog_options
from rhizon.cli.output import Output, common, say, show_table, verdict

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.choose.targets import TargetTable

__all__ = ["command"]

MOST_NAMED = 5  # missing items of a target that are named; --verbose names all


@click.command("targets")
@click.argument("source", metavar="LIST", type=click.Path(path_type=Path))
@catalog_options
@click.option("--plot", type=click.Path(path_type=Path), metavar="FILE", help="Draw it as a picture (PNG, SVG, PDF).")
@common
def command(source: Path, catalogs: tuple[str, ...], offline: bool, plot: Path | None, out: Output) -> None:
    """Every candidate target against every item of LIST, sorted by how much of it each carries.

    Items are looked at one by one; whether they fit together is what rhizon solve says.
    """
    from rhizon.app.choose.targets import table_of_targets
    from rhizon.app.host import this_host
    from rhizon.cli.progress import ConsoleReporter

    reporter = ConsoleReporter(out, results=False)
    try:
        table = table_of_targets(this_host(offline=offline), source, catalogs, plot, reporter)
    finally:
        reporter.close()
    out.result(table, lambda to: _render(to, table, out))


def _render(to: "Console", table: "TargetTable", out: Output) -> None:
    best = table.rows[0]
    target = best.target
    where = target.words
    verdict(to, f"{where} carries most: {best.fitting} of {len(table.items)} items")
    rows = []
    for row in table.rows:
        lacking = [
            f"{cell.id} ({cell.version} nearly: it {cell.reason})" if cell.fit == "nearly" else cell.id
            for cell in row.cells
            if cell.fit != "fits"
        ]
        one = row.target
        name = one.label
        mark = "" if row.wanted else "not asked for"
        shown = lacking if out.verbose or len(lacking) <= MOST_NAMED + 1 else lacking[:MOST_NAMED]
        rest = f" and {len(lacking) - len(shown)} more" if len(shown) < len(lacking) else ""
        rows.append((name, f"{row.fitting}/{len(table.items)}", mark, ", ".join(shown) + rest))
    show_table(to, ("target", "fit", "", "missing"), rows, right=("fit",))
    if table.plot:
        say(to, f"picture: {table.plot}")
