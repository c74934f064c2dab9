"""``rhizon demo``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.output import Output, common, next_steps, show_findings, show_pairs, show_table, verdict
from rhizon.core.units import mib_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.demo import AllDone, DemoDone

__all__ = ["command"]

GAMES = ("tarnholt", "emberline", "gloamwick", "drovemoor")


@click.command("demo")
@click.argument("folder", required=False, type=click.Path(path_type=Path))
@click.option("--game", type=click.Choice(GAMES), help="Which of the club's games; tarnholt where none is named.")
@click.option("--all", "all_games", is_flag=True, help="All of them, up at the same time on this machine.")
@click.option("--keep-running", is_flag=True, help="Leave the server up until Ctrl-C.")
@common
def command(folder: Path | None, game: str | None, all_games: bool, keep_running: bool, out: Output) -> None:
    """The whole job on the Harbour Lights club's made-up world.

    Starts the shipped catalog over HTTP, takes the club's list for a game, provisions a server in FOLDER (one of the
    server's name where none is named), starts it, lets a simulated player join, and stops it. Run it again: what is
    there is kept. Gloamwick needs Mono; the other games need nothing that is not here.
    """
    from rhizon.app.demo import demo, demo_all
    from rhizon.app.host import this_host
    from rhizon.cli.progress import ConsoleReporter
    from rhizon.cli.terminal import Console, stop_signals

    if all_games and game is not None:
        raise click.UsageError("--all is every game; leave --game out.")
    reporter = ConsoleReporter(out, lines=(out.verbose or keep_running) and not all_games)
    if not out.quiet and (all_games or game in (None, "tarnholt")):
        click.echo(
            "Tarnholt is a made-up game. Its sample licence belongs to this stand-in, and the demo accepts it for\n"
            "you; a real game's licence is never accepted by anybody but a person.",
            err=True,
        )
    try:
        if all_games:
            every = demo_all(
                this_host(), folder or Path("harbour-all"), reporter, stop_signals, keep_running=keep_running
            )
        else:
            typed = Console().line if keep_running else lambda: None
            done = demo(
                this_host(),
                folder or Path("harbour-lights" if game in (None, "tarnholt") else f"harbour-{game}"),
                reporter,
                stop_signals,
                game=game or "tarnholt",
                keep_running=keep_running,
                console=typed,
            )
    finally:
        reporter.close()
    if all_games:
        out.result(every, lambda to: _render_all(to, every), every.findings)
    else:
        out.result(done, lambda to: _render(to, done), done.provisioned.findings)


def _render_all(to: "Console", every: "AllDone") -> None:
    count = len(every.servers)
    verdict(
        to, f"{count} servers of {count} games were up at once on this machine, and a player has joined each of them"
    )
    rows = [
        (
            one.game,
            one.provisioned.lock.target.words,
            str(len(one.seen["content"])),
            mib_text(one.provisioned.heap_mib + one.provisioned.budget.outside_heap_mib),
            ", ".join(one.provisioned.port_words),
            f"{one.ran.ready_seconds:.1f} s",
            one.folder,
        )
        for one in every.servers
    ]
    show_table(to, ("game", "target", "content", "memory", "ports", "ready after", "folder"), rows, right=("content",))
    to.print()
    show_pairs(
        to,
        [
            ("together", f"all of them for {every.together_seconds:.1f} s, then each was stopped cleanly"),
            ("memory", f"{mib_text(every.memory_mib)} of the {mib_text(every.host_mib)} of this machine"),
        ],
    )
    show_findings(to, every.findings)
    next_steps(
        to,
        [
            (("rhizon", "list"), "all servers of this machine"),
            (("rhizon", "ports"), "all their ports, and how they are reached"),
        ],
    )


def _render(to: "Console", done: "DemoDone") -> None:
    made, ran, folder = done.provisioned, done.ran, done.folder
    target = made.lock.target
    runtime = f", {made.runtime.family} {made.runtime.version}" if made.runtime else ""
    verdict(to, f"{made.title}: a server that a player has joined, in {folder}")
    server_side = [one for one in made.lock.releases if one.on_server]
    rows = [
        ("target", f"{target.words}{runtime}"),
        ("content", f"{len(server_side)} on the server: {', '.join(f'{one.id} {one.version}' for one in server_side)}"),
        ("left out", "; ".join(f"{one.id} (for players' screens only)" for one in made.left_out)),
        ("dropped", "; ".join(f"{one.id} (optional: {one.reason})" for one in made.lock.dropped)),
        ("held back", "; ".join(f"{one.id}: {one.held_back_by.reason}" for one in server_side if one.held_back_by)),
        ("memory", made.memory_words),
        ("ports", ", ".join(made.port_words)),
        (
            "player",
            f"{done.seen['server'].get('sign', '')!r} greeted the player and listed {len(done.seen['content'])} pieces",
        ),
        ("times", f"ready {ran.ready_seconds:.1f} s after its start, stopped cleanly with exit code {ran.exit_code}"),
        ("files", _files(made.count("place"), made.count("replace"), made.count("keep"))),
        ("world", made.world),
    ]
    show_pairs(to, rows)
    show_findings(to, made.findings)
    next_steps(
        to,
        [
            (("rhizon", "run", folder), "start it again; type into its console, or press Ctrl-C"),
            (("rhizon", "check", folder), "is everything as it should be?"),
            (("rhizon", "settings", folder), "its settings, by our names for them"),
            (("rhizon", "inspect", _short(done.list_file)), "the list that it was made from"),
        ],
    )


def _files(placed: int, replaced: int, kept: int) -> str:
    words = [(placed, "placed"), (replaced, "replaced"), (kept, "kept as they were")]
    return ", ".join(f"{count} {word}" for count, word in words if count)


def _short(path: str) -> str:
    try:
        return str(Path(path).relative_to(Path.cwd()))
    except ValueError:
        return path
