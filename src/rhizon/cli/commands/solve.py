"""``rhizon solve``."""

from pathlib import Path
from typing import TYPE_CHECKING, Literal

import click

from rhizon.cli.options import catalog_options
from rhizon.cli.output import Output, common, next_steps, say, show_findings, show_table, verdict
from rhizon.core.units import size_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.choose.solve import SolveResult

__all__ = ["command"]


@click.command("solve")
@click.argument("source", metavar="LIST", type=click.Path(path_type=Path))
@catalog_options
@click.option("--lock", "lock", type=click.Path(path_type=Path), metavar="FILE", help="Where to write the lock.")
@click.option(
    "--keep", type=click.Path(path_type=Path), metavar="LOCK", help="Change as few of its releases as can be."
)
@click.option(
    "--prefer",
    type=click.Choice(["list", "current"]),
    default="list",
    show_default=True,
    help="Newest in the order of the list, or fewest releases behind over all of it.",
)
@click.option("--game", metavar="ID", help="The game of a folder of archives, where it is not plain from them.")
@click.option("--dry-run", is_flag=True, help="Show the answer and write no lock.")
@common
def command(
    source: Path,
    catalogs: tuple[str, ...],
    offline: bool,
    lock: Path | None,
    keep: Path | None,
    prefer: Literal["list", "current"],
    game: str | None,
    dry_run: bool,
    out: Output,
) -> None:
    """Choose one target and one release of everything on the LIST (a content list, a pack, a folder of archives).

    Writes the lock beside the list (NAME.lock.json) or to --lock. The same list and catalogs give the same
    bytes. Exit code 3 when nothing fits, with what clashes.
    """
    from rhizon.app.choose.solve import solve_to_lock
    from rhizon.app.host import this_host
    from rhizon.cli.progress import ConsoleReporter

    reporter = ConsoleReporter(out, results=False)
    try:
        solved = solve_to_lock(
            this_host(offline=offline),
            source,
            catalogs,
            lock,
            reporter,
            write=not dry_run,
            keep=keep,
            prefer=prefer,
            game_id=game,
        )
    finally:
        reporter.close()
    out.result(solved.answer, lambda to: _render(to, solved, catalogs), solved.findings)


def _render(to: "Console", solved: "SolveResult", catalogs: tuple[str, ...]) -> None:
    answer = solved.answer
    target = answer.target
    where = target.words
    if target.runtime_major:
        where += f", {target.runtime.capitalize()} {target.runtime_major}"
    verdict(to, f"{len(answer.releases)} releases fit together on {where}")
    show_table(
        to,
        ("item", "release", "placement", "on", "size", "because", "held back"),
        [
            (
                one.id,
                one.version.text,
                one.placement,
                "both" if one.on_server and one.for_players else "server" if one.on_server else "players",
                size_text(one.size),
                ", ".join(one.because),
                one.held_back_by.reason if one.held_back_by else "",
            )
            for one in answer.releases
        ],
        right=("size",),
    )
    for gone in answer.dropped:
        say(to, f"dropped: {gone.id} is optional, and {gone.reason}")
    say(
        to,
        f"to fetch: {size_text(answer.server_bytes)} for the server and its content, "
        f"{size_text(answer.player_bytes)} for each player",
    )
    show_findings(to, solved.findings)
    if answer.lock_file:
        say(to, f"lock: {answer.lock_file}")
        named = [word for address in catalogs for word in ("--catalog", address)]
        next_steps(to, [(("rhizon", "provision", solved.source, "FOLDER", *named), "make the server")])
