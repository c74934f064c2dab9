"""``rhizon explain``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.options import catalog_options
from rhizon.cli.output import say, show_pairs

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.choose.explain import Explanation
    from rhizon.core.solve.explain import WantedBy

__all__ = ["explain"]


@command(
    "explain",
    examples=(
        ("rhizon explain tarnholt.list.toml marshlib", "why this library is installed, and what needs it"),
        ("rhizon explain tarnholt.list.toml otterden", "why not a newer release"),
    ),
    tables=True,
    results=False,
)
@click.argument("source", metavar="LIST", type=click.Path(path_type=Path))
@click.argument("item", metavar="ID")
@catalog_options
def explain(call: Call, source: Path, item: str, catalogs: tuple[str, ...]) -> Answer:
    """Explain why ID is in the solution of LIST: who needs it, why this release, what removing it would change."""
    from rhizon.app.choose.explain import explain_item

    told = explain_item(call.host, source, item.lower(), catalogs, call.reporter)
    call.close()
    release, why = told.release, told.explained
    return Answer(
        told, f"{release.id} {release.version} is required: {' → '.join(why.path)}", lambda to: _body(to, told, call)
    )


def _wanted(one: "WantedBy") -> str:
    return f"{one.by}: {one.provides} {one.range}, which this provides" if one.provides else f"{one.by}: {one.range}"


def _body(to: "Console", told: "Explanation", call: Call) -> None:
    """Who requires it, newer releases, and what would change without it."""
    release, why = told.release, told.explained
    sides = [word for word, there in (("server", release.on_server), ("players", release.for_players)) if there]
    rows = [("for", " and ".join(sides)), *(("required by", _wanted(one)) for one in why.wanted_by)]
    rows += [("requires", need) for need in why.needs]
    show_pairs(to, rows)
    if why.newer:
        reasons = [(one.version, one.reason) for one in why.newer]
        call.table(to, ("newer release", "not chosen because it"), reasons, prose=("not chosen because it",))
    else:
        say(to, "it is the newest release")
    if why.cannot_go:
        say(to, f"cannot be removed: {why.cannot_go}")
    elif why.without:
        say(to, "without it:")
        changes = [(one.id, one.before, one.after or "not needed") for one in why.without]
        call.table(to, ("item", "now", "then"), changes)
    else:
        say(to, "without it nothing else would change")
