"""``rhizon solve``."""

from pathlib import Path
from typing import TYPE_CHECKING, Literal

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.completion import complete_games
from rhizon.cli.folder_files import show_folder_files
from rhizon.cli.options import catalog_options, output_option
from rhizon.cli.output import Step, say
from rhizon.cli.terminal import stop_signals
from rhizon.core.units import size_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.choose.solve import SolveResult

__all__ = ["solve"]


@command(
    "solve",
    examples=(
        ("rhizon solve tarnholt.list.toml --dry-run", "show one target and one release of everything that fit"),
        ("rhizon solve tarnholt.list.toml -o marsh.lock.json", "write the lock"),
        ("rhizon solve tarnholt.list.toml --close-to marsh.lock.json", "change as few releases as possible"),
    ),
    tables=True,
    results=False,
    dry_run="Show the solution and write no lock.",
)
@click.argument("source", metavar="LIST", type=click.Path(path_type=Path))
@catalog_options
@output_option("Write the lock to FILE; by default NAME.lock.json beside the list.")
@click.option(
    "--close-to",
    type=click.Path(path_type=Path),
    metavar="LOCK",
    help="Stay as close as possible to the releases of this lock.",
)
@click.option(
    "--prefer",
    type=click.Choice(["list", "current"]),
    default="list",
    show_default=True,
    help="Newest in the order of the list, or fewest releases behind in total.",
)
@click.option(
    "--wait",
    type=click.FloatRange(1, 86400),
    default=30,
    show_default=True,
    metavar="SECONDS",
    help="Longest time; then the best answer so far is given, marked as not proved.",
)
@click.option(
    "--game",
    metavar="ID",
    shell_complete=complete_games,
    help="Game the archives of a folder are for, if it cannot be inferred.",
)
def solve(
    call: Call,
    source: Path,
    catalogs: tuple[str, ...],
    output: Path | None,
    close_to: Path | None,
    prefer: Literal["list", "current"],
    wait: float,
    game: str | None,
) -> Answer:
    """Choose one target and one release of everything on LIST (a content list, a pack, a folder of archives).

    Writes the lock beside the list or to --output. The same list and catalogs give the same bytes. Exit code 3 when
    nothing fits, with what conflicts and what would help. Ctrl-C ends it with the best answer so far.
    """
    from rhizon.app.choose.solve import SolveWishes, solve_to_lock

    wishes = SolveWishes(
        catalogs=catalogs,
        lock_file=output,
        write=not call.dry_run,
        close_to=close_to,
        prefer=prefer,
        game=game,
        wait=wait,
        stopping=stop_signals,
    )
    solved = solve_to_lock(call.host, source, wishes, call.reporter)
    call.close()
    where = solved.target.words_for(solved.game_title)
    if solved.target.runtime_major:
        where += f", {solved.target.runtime.capitalize()} {solved.target.runtime_major}"
    verb = "release fits" if len(solved.releases) == 1 else "releases fit together"
    named = tuple(word for address in catalogs for word in ("--catalog", address))
    make = Step(("rhizon", "provision", str(source), f"./{solved.name}", *named), "make the server")
    return Answer(
        solved,
        f"{len(solved.releases)} {verb} on {where}",
        lambda to: _body(to, solved, call),
        solved.findings,
        (make,) if solved.lock_file else (),
    )


def _body(to: "Console", solved: "SolveResult", call: Call) -> None:
    """The table of releases."""
    rows = [
        (
            one.id,
            one.version.text,
            one.placement,
            "both" if one.on_server and one.for_players else "server" if one.on_server else "players",
            size_text(one.size),
            ", ".join(one.because),
            one.held_back_by.reason if one.held_back_by else "",
        )
        for one in solved.releases
    ]
    columns = ("item", "release", "placement", "on", "size", "because", "held back")
    call.table(to, columns, rows, right=("size",), prose=("because", "held back"))
    show_folder_files(to, solved.folder_files, call)
    for gone in solved.dropped if not solved.folder_files else ():
        say(to, f"dropped: {gone.id} is optional; {gone.reason}")
    players = f"{size_text(solved.player_bytes)} for each player"
    say(to, f"to download: {size_text(solved.server_bytes)} for the server and its content, {players}")
    if solved.lock_file:
        say(to, f"lock: {solved.lock_file}")
