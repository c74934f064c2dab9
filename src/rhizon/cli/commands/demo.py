"""``rhizon demo``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.app.demo import DEMO_GAMES, FIRST
from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import Step, show_pairs
from rhizon.core.units import counted, mib_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.demo import AllDone, DemoDone

__all__ = ["demo"]


@command(
    "demo",
    examples=(
        ("rhizon demo", "one server, from a list to a player who joins"),
        ("rhizon demo --all", "servers of four games at once"),
    ),
    verbose="the server's log",
    tables=True,
)
@click.argument("folder", required=False, type=click.Path(path_type=Path))
@click.option("--game", type=click.Choice(DEMO_GAMES), help=f"Game to show; by default {FIRST}.")
@click.option("--all", "all_games", is_flag=True, help="Show all games, running at the same time.")
@click.option("--keep-running", is_flag=True, help="Keep the server running until Ctrl-C.")
def demo(call: Call, folder: Path | None, game: str | None, all_games: bool, keep_running: bool) -> Answer:
    """Do the whole job on the Harbour Lights club's made-up world.

    Starts the shipped catalog over HTTP, takes the club's list for a game, provisions a server in FOLDER, starts it,
    lets a simulated player join, and stops it. Run it again: what is there is kept. One of the games needs Mono;
    the others need nothing else.
    """
    from rhizon.app.demo import demo as show
    from rhizon.app.demo import demo_all, demo_licence
    from rhizon.cli.terminal import Console, stop_signals

    if all_games and game is not None:
        raise click.UsageError("--all is every game; leave --game out.")
    reporter = call.log_reporter(log=(call.out.verbose or keep_running) and not all_games)
    licences = [demo_licence(call.host, one) for one in (DEMO_GAMES if all_games else (game or FIRST,))]
    for title in filter(None, licences if not call.out.quiet and not call.out.events else ()):
        click.echo(
            f"{title} is a made-up game. Its sample licence belongs to this stand-in, and the demo accepts it for\n"
            "you. The licence of a real game is only ever accepted by a person.",
            err=True,
        )
    if all_games:
        every = demo_all(call.host, folder or Path("harbour-all"), reporter, stop_signals, keep_running=keep_running)
        call.close()
        count = len(every.servers)
        return Answer(
            every,
            f"{count} servers of {count} games ran at once on this machine, and a player joined each of them",
            lambda to: _body_all(to, every, call),
            every.findings,
            (
                Step(("rhizon", "list"), "all servers of this machine"),
                Step(("rhizon", "ports"), "all their ports, and how they are reached"),
            ),
        )
    typed = Console().line if keep_running else lambda: None
    done = show(
        call.host,
        folder or Path("harbour-lights" if game in (None, FIRST) else f"harbour-{game}"),
        reporter,
        stop_signals,
        game=game or FIRST,
        keep_running=keep_running,
        console=typed,
    )
    call.close()
    made = done.provisioned
    return Answer(
        done,
        f"{made.title}: a player has joined the server {made.name} in {done.folder}",
        lambda to: _body(to, done),
        made.findings,
        (
            Step(("rhizon", "run", made.name), "start it again; type into its console, or press Ctrl-C"),
            Step(("rhizon", "check", made.name), "check it"),
            Step(("rhizon", "settings", made.name), "its settings, by Rhizon's names for them"),
            Step(("rhizon", "inspect", _short(done.list_file)), "the list it was made from"),
        ),
    )


def _body_all(to: "Console", every: "AllDone", call: Call) -> None:
    """The table of all servers of the demo."""
    rows = [
        (
            one.provisioned.name,
            one.game,
            one.provisioned.lock.target.words,
            str(len(one.seen["content"])),
            mib_text(one.provisioned.heap_mib + one.provisioned.budget.outside_heap_mib),
            ", ".join(one.provisioned.port_words),
            f"{one.ran.ready_seconds:.1f} s",
        )
        for one in every.servers
    ]
    columns = ("server", "game", "target", "content", "memory", "ports", "ready after")
    call.table(to, columns, rows, right=("content",), prose=("target", "ports"))
    to.print()
    show_pairs(
        to,
        [
            ("together", f"all of them for {every.together_seconds:.1f} s, then each was stopped cleanly"),
            ("memory", f"{mib_text(every.memory_mib)} of the {mib_text(every.host_mib)} of this machine"),
            ("folder", every.folder),
        ],
    )


def _body(to: "Console", done: "DemoDone") -> None:
    """What the demo's server is made of."""
    made, ran = done.provisioned, done.ran
    target = made.lock.target
    runtime = f", {made.runtime.family} {made.runtime.version}" if made.runtime else ""
    server_side = [one for one in made.lock.releases if one.on_server]
    names = ", ".join(f"{one.id} {one.version}" for one in server_side)
    rows = [
        ("target", f"{target.words}{runtime}"),
        ("content", f"{counted(len(server_side), 'item')} on the server: {names}"),
        ("left out", "; ".join(f"{one.id} (client-only)" for one in made.left_out)),
        ("dropped", "; ".join(f"{one.id} (optional: {one.reason})" for one in made.lock.dropped)),
        ("held back", "; ".join(f"{one.id}: {one.held_back_by.reason}" for one in server_side if one.held_back_by)),
        ("memory", made.memory_words),
        ("ports", ", ".join(made.port_words)),
        (
            "player",
            f"{done.seen['server'].get('sign', '')!r} greeted the player and listed {len(done.seen['content'])} items",
        ),
        ("times", f"ready {ran.ready_seconds:.1f} s after its start, stopped cleanly with exit code {ran.exit_code}"),
        ("files", _files(made.count("place"), made.count("replace"), made.count("keep"))),
        ("world", made.world),
    ]
    show_pairs(to, rows)


def _files(placed: int, replaced: int, kept: int) -> str:
    words = [(placed, "placed"), (replaced, "replaced"), (kept, "kept")]
    return ", ".join(f"{count} {word}" for count, word in words if count)


def _short(path: str) -> str:
    try:
        return str(Path(path).relative_to(Path.cwd()))
    except ValueError:
        return path
