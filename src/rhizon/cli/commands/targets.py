"""``rhizon targets``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.options import catalog_options, output_option
from rhizon.cli.output import say

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.choose.targets import TargetTable

__all__ = ["targets"]

MOST_NAMED = 5  # missing items of a target that are named; --verbose names all


@command(
    "targets",
    examples=(
        ("rhizon targets tarnholt.list.toml", "which target fits most of the list, and what each lacks"),
        ("rhizon targets tarnholt.list.toml -o targets.png", "the same as a picture"),
    ),
    verbose="every missing item of every target",
    tables=True,
    results=False,
    dry_run="With --output: draw nothing.",
)
@click.argument("source", metavar="LIST", type=click.Path(path_type=Path))
@catalog_options
@output_option("Draw the table into FILE (PNG, SVG or PDF, by its ending).")
def targets(call: Call, source: Path, catalogs: tuple[str, ...], output: Path | None) -> Answer:
    """Compare every candidate target with every item of LIST, those that fit most items first.

    Items are compared one by one; whether they fit together is what rhizon solve says.
    """
    from rhizon.app.choose.targets import table_of_targets

    plot = output if not call.dry_run else None
    table = table_of_targets(call.host, source, catalogs, plot, call.reporter)
    call.close()
    best = table.rows[0]
    text = f"{best.target.words} fits most: {best.fitting} of {len(table.items)} items"
    return Answer(table, text, lambda to: _body(to, table, call))


def _body(to: "Console", table: "TargetTable", call: Call) -> None:
    """The table of targets."""
    rows = []
    for row in table.rows:
        lacking = [
            f"{cell.id} ({cell.version} nearly: it {cell.reason})" if cell.fit == "nearly" else cell.id
            for cell in row.cells
            if cell.fit != "fits"
        ]
        shown = lacking if call.out.verbose or len(lacking) <= MOST_NAMED + 1 else lacking[:MOST_NAMED]
        rest = f" and {len(lacking) - len(shown)} more" if len(shown) < len(lacking) else ""
        wanted = "" if row.wanted else "outside [target]"
        rows.append((row.target.label, f"{row.fitting}/{len(table.items)}", wanted, ", ".join(shown) + rest))
    call.table(to, ("target", "fit", "list", "missing"), rows, right=("fit",), prose=("missing",))
    if table.plot:
        say(to, f"picture: {table.plot}")
