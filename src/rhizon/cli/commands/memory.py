"""``rhizon memory``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.options import MIB_OR_NONE, catalog_options
from rhizon.cli.output import Step, say, show_pairs
from rhizon.cli.servers import SERVER, Server
from rhizon.core.units import counted, mib_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.tune.memory import MemoryAdvice

__all__ = ["memory"]


@command(
    "memory",
    examples=(
        ("rhizon memory marsh", "the parts of its memory, and whether this machine has them"),
        ("rhizon memory tarnholt.list.toml --players 40", "for a server that does not exist yet"),
        ("rhizon memory marsh --measured --output heap.png", "from its past runs, with a picture"),
    ),
    tables=True,
    results=False,
    dry_run="With --output: draw nothing.",
)
@click.argument("server", metavar="SERVER|LIST", type=SERVER)
@click.option("--players", type=click.IntRange(0, 100_000), metavar="N", help="Assume N players.")
@click.option("--reserve", type=MIB_OR_NONE, metavar="MIB", help="Memory to leave to the machine, in MiB (or 1G).")
@click.option("--measured", is_flag=True, help="Use what past runs of the server have shown.")
@click.option(
    "-o",
    "--output",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Draw the measured heap into FILE (PNG, SVG or PDF, by its ending).",
)
@catalog_options
def memory(
    call: Call,
    server: Server,
    players: int | None,
    reserve: int | None,
    measured: bool,
    output: Path | None,
    catalogs: tuple[str, ...],
) -> Answer:
    """Estimate how much memory a server needs (or one from a list or pack), and whether this machine has it.

    Every part of the sum is shown: the game, its content, players, world, what the runtime takes beside its heap, what
    is left to the machine, what other servers were granted. With --measured the logs of past runs are read: what stays
    alive after collections, whether it grows, how long collections paused the server.
    """
    from rhizon.app.tune.memory import MemoryQuestion, memory_advice

    question = MemoryQuestion(
        players=players,
        catalogs=catalogs,
        measured=measured or output is not None,
        plot=output if not call.dry_run else None,
        reserve_mib=reserve,
    )
    found = memory_advice(call.host, server.folder, call.reporter, question)
    call.close()
    good = found.fit != "does not fit"
    what = "of heap" if found.bounded else "estimated, not enforced"
    change = ("rhizon", "provision", found.source, server.label, "--memory", str(found.recommended_mib))
    grant = found.granted_mib not in (None, found.recommended_mib)
    return Answer(
        found,
        f"{found.name} ({found.game_title}): {mib_text(found.recommended_mib)} {what}; {_FIT[found.fit]}",
        lambda to: _body(to, found, call, reserve),
        next=(Step(change, "grant what is recommended"),) if grant else (),
        exit_code=0 if good else 1,
    )


def _body(to: "Console", found: "MemoryAdvice", call: Call, reserve: int | None) -> None:
    """The parts of the sum, the machine, what was measured, and the flags."""
    if found.instead:
        say(to, found.instead)
    budget = found.budget
    parts = (
        ("the game itself", budget.base_mib),
        ("content on the server", budget.content_mib),
        (counted(found.players, "player"), budget.players_mib),
        ("world and view", budget.settings_mib),
    )
    rows = [(what, str(mib)) for what, mib in parts]
    rows.append((f"{'heap' if found.bounded else 'total'}, estimated: {budget.because}", str(budget.heap_mib)))
    if budget.outside_heap_mib:
        rows.append(("runtime, beside the heap", str(budget.outside_heap_mib)))
    call.table(to, ("part", "MiB"), rows, right=("MiB",))
    to.print()
    bounds = f"lowest {found.lowest_mib}, recommended {found.recommended_mib}, highest that helps {found.highest_mib}"
    machine = f"{found.total_mib} MiB; {found.reserve_mib} left to it, {found.others_mib} granted to other servers"
    pairs = [
        ("heap" if found.bounded else "memory", f"{bounds} MiB"),
        ("granted", f"{found.granted_mib} MiB" if found.granted_mib is not None else ""),
        ("this machine", f"{machine}, {found.free_mib} free to grant"),
    ]
    few = "" if found.enough else "; too little to rely on, so the estimate counts: play for an evening first"
    seen, process = found.measured, found.process
    if process is not None and seen is None:
        pairs += [
            ("measured", f"{counted(process.samples, 'sample')} in {process.seconds / 60:.1f} minutes{few}"),
            ("growth", _growth(found.growth)),
        ]
    if seen is not None:
        pauses = f"median {seen.median_pause_ms:.1f} ms, longest {seen.longest_pause_ms:.1f} ms"
        pauses += f", {seen.share:.2%} of the time"
        pairs += [
            ("measured", f"{counted(seen.events, 'collection')} in {seen.seconds / 60:.1f} minutes{few}"),
            ("alive", f"{seen.live_mib:.0f} MiB; before a collection at most {seen.peak_mib:.0f} MiB"),
            ("pauses", pauses),
            ("growth", _growth(found.growth)),
        ]
    if process is not None:
        pairs.append(("process", f"usually {process.usual_mib:.0f} MiB in total, at most {process.peak_mib:.0f}"))
    show_pairs(to, pairs)
    if found.flags:
        to.print()
        call.table(to, ("flag", "reason"), found.flags, prose=("reason",))
    if found.plot is not None:
        say(to, f"picture: {found.plot}")
    if reserve is not None:
        say(to, f"To leave this much to the machine always: reserve_mib = {reserve} in {found.limits_file}")


_FIT = {"fits": "fits this machine", "tight": "tight on this machine", "does not fit": "does not fit this machine"}


def _growth(growth: tuple[float, float, float] | None) -> str:
    if growth is None:
        return "too little data"
    slope, low, high = growth
    kind = "it grows: a leak, or a world that is being explored" if low > 1 else "no sign of a leak"
    return f"{slope:+.0f} MiB per hour (95 %: {low:+.0f} to {high:+.0f}): {kind}"
