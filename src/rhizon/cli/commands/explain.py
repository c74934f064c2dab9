"""``rhizon explain``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.options import catalog_options
from rhizon.cli.output import Output, common, say, show_pairs, show_table, verdict

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.choose.explain import Explanation

__all__ = ["command"]


@click.command("explain")
@click.argument("source", metavar="LIST", type=click.Path(path_type=Path))
@click.argument("item", metavar="ID")
@catalog_options
@common
def command(source: Path, item: str, catalogs: tuple[str, ...], offline: bool, out: Output) -> None:
    """Why ID is part of the solution of LIST: who wants it, why this release, what would change if it went."""
    from rhizon.app.choose.explain import explain_item
    from rhizon.app.host import this_host
    from rhizon.cli.progress import ConsoleReporter

    reporter = ConsoleReporter(out, results=False)
    try:
        told = explain_item(this_host(offline=offline), source, item, catalogs, reporter)
    finally:
        reporter.close()
    out.result(told, lambda to: _render(to, told))


def _render(to: "Console", told: "Explanation") -> None:
    release, why = told.release, told.explained
    sides = [word for word, there in (("server", release.on_server), ("players", release.for_players)) if there]
    verdict(to, f"{release.id} {release.version} is here for {' → '.join(why.path)}")
    rows = [("for", " and ".join(sides)), *(("wanted by", f"{one.by}: {one.range}") for one in why.wanted_by)]
    rows += [("needs", need) for need in why.needs]
    show_pairs(to, rows)
    if why.newer:
        show_table(to, ("newer release", "not taken because it"), [(one.version, one.reason) for one in why.newer])
    else:
        say(to, "it is the newest release")
    if why.cannot_go:
        say(to, f"it cannot go: {why.cannot_go}")
    elif why.without:
        say(to, "if it went:")
        changes = [(one.id, one.before, one.after or "not needed any more") for one in why.without]
        show_table(to, ("item", "now", "then"), changes)
    else:
        say(to, "if it went, nothing else would change")
