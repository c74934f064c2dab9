"""``rhizon demo``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.output import Output, common, next_steps, show_findings, show_pairs, verdict
from rhizon.core.units import mib_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.demo import DemoDone

__all__ = ["command"]


@click.command("demo")
@click.argument("folder", default="harbour-lights", type=click.Path(path_type=Path))
@click.option("--keep-running", is_flag=True, help="Leave the server up until Ctrl-C.")
@common
def command(folder: Path, keep_running: bool, out: Output) -> None:
    """The whole job on the Harbour Lights club's made-up world.

    Starts the shipped catalog over HTTP, takes the club's list for the game Tarnholt, provisions a server in
    FOLDER, starts it, lets a simulated player join, and stops it. Run it again: what is there is kept.
    """
    from rhizon.app.context import this_host
    from rhizon.app.demo import demo
    from rhizon.cli.progress import ConsoleReporter
    from rhizon.cli.terminal import Console, stop_signals

    reporter = ConsoleReporter(out, lines=out.verbose or keep_running)
    if not out.quiet:
        click.echo(
            "Tarnholt is a made-up game. Its sample licence belongs to this stand-in, and the demo accepts it for\n"
            "you; a real game's licence is never accepted by anybody but a person.",
            err=True,
        )
    typed = Console().line if keep_running else lambda: None
    try:
        done = demo(this_host(), folder, reporter, stop_signals, keep_running=keep_running, console=typed)
    finally:
        reporter.close()
    out.result(done, lambda to: _render(to, done, folder), done.provisioned.findings)


def _render(to: "Console", done: "DemoDone", folder: Path) -> None:
    made, ran = done.provisioned, done.ran
    target = made.lock.target
    runtime = f"{made.runtime.family} {made.runtime.version}" if made.runtime else "no runtime"
    verdict(to, f"{made.title}: a server that a player has joined, in {folder}")
    server_side = [one for one in made.lock.releases if one.on_server]
    rows = [
        (
            "target",
            f"{target.game} {target.game_version}, {target.loader} {target.loader_build}, {runtime}",
        ),
        ("content", f"{len(server_side)} on the server: {', '.join(f'{one.id} {one.version}' for one in server_side)}"),
        ("left out", "; ".join(f"{one.id} (for players' screens only)" for one in made.left_out)),
        ("dropped", "; ".join(f"{one.id} (optional: {one.reason})" for one in made.lock.dropped)),
        ("held back", "; ".join(f"{one.id}: {one.held_back_by.reason}" for one in server_side if one.held_back_by)),
        ("memory", f"{mib_text(made.heap_mib)} of heap, {mib_text(made.budget.outside_heap_mib)} beside it"),
        ("ports", ", ".join(f"{role} {number}" for role, number in made.ports.items())),
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
            (("rhizon", "run", str(folder)), "start it again; type list or stop, or press Ctrl-C"),
            (("rhizon", "check", str(folder)), "is everything as it should be?"),
            (("rhizon", "list"), "all servers of this machine"),
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
