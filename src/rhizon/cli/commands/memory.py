"""``rhizon memory``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.options import MIB_OR_NONE, catalog_options
from rhizon.cli.output import Output, common, next_steps, say, show_pairs, show_table, verdict
from rhizon.core.units import mib_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.tune.memory import MemoryAdvice

__all__ = ["command"]


@click.command("memory")
@click.argument("path", metavar="FOLDER_OR_LIST", type=click.Path(path_type=Path))
@click.option("--players", type=click.IntRange(0, 100_000), metavar="N", help="For so many players.")
@click.option("--reserve", type=MIB_OR_NONE, metavar="MIB", help="Leave so much to the machine.")
@click.option("--measured", is_flag=True, help="From what past runs have shown.")
@click.option("--plot", type=click.Path(path_type=Path), metavar="FILE", help="Draw the measured heap (PNG, SVG, PDF).")
@catalog_options
@common
def command(
    path: Path,
    players: int | None,
    reserve: int | None,
    measured: bool,
    plot: Path | None,
    catalogs: tuple[str, ...],
    offline: bool,
    out: Output,
) -> int:
    """How much memory the server in FOLDER (or one from a list or pack) needs, and whether this machine has it.

    Every part of the sum is shown: the game, its content, players, world, what the runtime takes beside its heap, what
    is left to the machine, what other servers were granted. With --measured the runs of this server are read: what
    stays alive after collections, whether it grows, how long everything stood still.
    """
    from rhizon.app.host import this_host
    from rhizon.app.tune.memory import memory_advice
    from rhizon.cli.progress import ConsoleReporter

    reporter = ConsoleReporter(out, results=False)
    try:
        found = memory_advice(
            this_host(offline=offline),
            path,
            reporter,
            players=players,
            catalogs=catalogs,
            measured=measured or plot is not None,
            plot=plot,
            reserve_mib=reserve,
        )
    finally:
        reporter.close()
    out.result(found, lambda to: _render(to, found, path, reserve))
    return 1 if found.fit == "does not fit" else 0


def _render(to: "Console", found: "MemoryAdvice", path: Path, reserve: int | None) -> None:
    good = found.fit != "does not fit"
    what = "of heap" if found.bounded else "for a server that nothing bounds"
    text = f"{mib_text(found.recommended_mib)} {what}, and it {_FIT[found.fit]}"
    verdict(to, f"{found.name} ({found.game}): {text}", good=good)
    if found.instead:
        say(to, found.instead)
    budget = found.budget
    parts = (
        ("the game itself", budget.base_mib),
        ("content on the server", budget.content_mib),
        (f"{found.players} players", budget.players_mib),
        ("world and view", budget.settings_mib),
    )
    rows = [(what, str(mib)) for what, mib in parts]
    rows.append((f"{'heap' if found.bounded else 'in all'}, guessed: {budget.because}", str(budget.heap_mib)))
    if budget.outside_heap_mib:
        rows.append(("beside the heap, for the runtime", str(budget.outside_heap_mib)))
    show_table(to, ("part", "MiB"), rows, right=("MiB",))
    to.print()
    bounds = f"lowest {found.lowest_mib}, recommended {found.recommended_mib}, highest that helps {found.highest_mib}"
    machine = f"{found.total_mib} MiB, {found.reserve_mib} left to it, {found.others_mib} granted to other servers"
    pairs = [
        ("heap" if found.bounded else "memory", bounds),
        ("granted", f"{found.granted_mib} MiB" if found.granted_mib is not None else ""),
        ("this machine", f"{machine}: {found.free_mib} can be given"),
    ]
    few = "" if found.enough else ": too little to go by, so the guess stands; let people play an evening"
    seen, process = found.measured, found.process
    if process is not None and seen is None:
        pairs += [
            ("measured", f"{process.samples} samples in {process.seconds / 60:.1f} minutes{few}"),
            ("growth", _growth(found.growth)),
        ]
    if seen is not None:
        pauses = f"median {seen.median_pause_ms:.1f} ms, longest {seen.longest_pause_ms:.1f} ms"
        pauses += f", {seen.share:.2%} of the time"
        pairs += [
            ("measured", f"{seen.events} collections in {seen.seconds / 60:.1f} minutes{few}"),
            ("alive", f"{seen.live_mib:.0f} MiB; before a collection at most {seen.peak_mib:.0f} MiB"),
            ("pauses", pauses),
            ("growth", _growth(found.growth)),
        ]
    if process is not None:
        pairs.append(("process", f"usually {process.usual_mib:.0f} MiB in all, at most {process.peak_mib:.0f}"))
    show_pairs(to, pairs)
    if found.flags:
        to.print()
        show_table(to, ("flag", "why"), found.flags)
    if found.plot is not None:
        say(to, f"drawn into {found.plot}")
    if reserve is not None:
        say(to, f"To leave so much always: reserve_mib = {reserve} in {found.limits_file}")
    if found.granted_mib is None or found.granted_mib == found.recommended_mib:
        return
    change = ("rhizon", "provision", found.source, str(path), "--memory", str(found.recommended_mib))
    next_steps(to, [(change, "grant what is recommended")])


_FIT = {"fits": "fits this machine", "tight": "is tight on this machine", "does not fit": "does not fit this machine"}


def _growth(growth: tuple[float, float, float] | None) -> str:
    if growth is None:
        return "too little to tell"
    slope, low, high = growth
    kind = "it grows: a leak, or a world that is being explored" if low > 1 else "no sign of a leak"
    return f"{slope:+.0f} MiB an hour (95 %: {low:+.0f} to {high:+.0f}): {kind}"
