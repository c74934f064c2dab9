"""Pictures, with Matplotlib where it is installed (the extra "plot")."""

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from rhizon.adapters.files import translated
from rhizon.core.allocate.measured import GcEvent, alive
from rhizon.core.errors import StateError

__all__ = ["draw_boot", "heap_plot", "heat_map", "process_plot", "pyplot_of"]

MOST_BARS = 30

# Blue, sand and grey differ in lightness too, so that they are told apart without colours.
COLOURS = ("#d9d9d9", "#f2c14e", "#1f6f8b")
WORDS = ("does not fit", "nearly", "fits")


def heat_map(
    file: Path, title: str, rows: Sequence[str], columns: Sequence[str], values: Sequence[Sequence[int]]
) -> None:
    """Writes a picture of 0 (no), 1 (nearly) and 2 (fits); its size grows with what it shows."""
    pyplot = pyplot_of()
    from matplotlib.colors import ListedColormap
    from matplotlib.patches import Patch

    width = min(max(7.0, 2.6 + 0.24 * len(columns)), 40)
    height = min(max(3.0, 2.2 + 0.34 * len(rows)), 40)
    figure, axes = pyplot.subplots(figsize=(width, height), layout="constrained")
    axes.pcolormesh(values, cmap=ListedColormap(COLOURS), vmin=0, vmax=2, edgecolors="white", linewidth=1.5)
    axes.invert_yaxis()
    axes.set_xticks([n + 0.5 for n in range(len(columns))], columns, rotation=60, ha="right", rotation_mode="anchor")
    axes.set_yticks([n + 0.5 for n in range(len(rows))], rows)
    axes.tick_params(length=0, labelsize=9)
    axes.set_title(title, loc="left", fontsize=11)
    for side in axes.spines.values():
        side.set_visible(False)
    figure.legend(
        handles=[Patch(color=colour, label=word) for colour, word in zip(COLOURS[::-1], WORDS[::-1], strict=True)],
        loc="outside lower left",
        ncols=3,
        frameon=False,
        fontsize=9,
    )
    with translated("write the plot", file):
        figure.savefig(file, dpi=120)
    pyplot.close(figure)


def heap_plot(file: Path, title: str, runs: Sequence[Sequence[GcEvent]], bounds: Mapping[str, int]) -> None:
    """Heap after every collection of the last run, with ``bounds`` in MiB: what was granted, what is recommended and
    what was guessed."""
    pyplot = pyplot_of()
    figure, axes = pyplot.subplots(figsize=(9.6, 5.4), layout="constrained")
    run = next(one for one in reversed(runs) if one)
    scale = _time_axis(axes, run[-1].at)
    times = [event.at / scale for event in run]
    axes.plot(times, [event.before_mib for event in run], color="#d9d9d9", linewidth=1, label="before a collection")
    axes.plot(times, [event.after_mib for event in run], color="#1f6f8b", linewidth=1.2, label="after it")
    live = alive(run)
    axes.scatter(
        [at / scale for at, _ in live], [mib for _, mib in live], color="#123c4a", s=26, zorder=3,
        label="what was alive",
    )  # fmt: skip
    _memory_axis(axes, "heap, MiB", bounds)
    axes.set_title(f"{title}: heap in its last measured run", loc="left", fontsize=11)
    _finish(file, figure, axes)


def process_plot(
    file: Path, title: str, runs: Sequence[Sequence[tuple[float, float]]], bounds: Mapping[str, int]
) -> None:
    """Memory of the process in the last run, and of those before it in grey, with ``bounds`` as above."""
    pyplot = pyplot_of()
    figure, axes = pyplot.subplots(figsize=(9.6, 5.4), layout="constrained")
    known = [run for run in runs if run]
    scale = _time_axis(axes, max(run[-1][0] for run in known))
    for number, run in enumerate(known):
        last = number == len(known) - 1
        label = "the last run" if last else "runs before" if number == 0 else None
        axes.plot(
            [at / scale for at, _ in run], [mib for _, mib in run], color="#1f6f8b" if last else "#d9d9d9",
            linewidth=1.6 if last else 1, marker="." if len(run) < 30 else None, label=label,
        )  # fmt: skip
    _memory_axis(axes, "memory of the process, MiB", bounds)
    axes.set_title(f"{title}: memory of its measured runs", loc="left", fontsize=11)
    _finish(file, figure, axes)


def draw_boot(file: Path, title: str, phases: Sequence[tuple[str, float, float]], usual: Mapping[str, float]) -> None:
    """The parts of a start as bars: name, seconds at which each begins, and how long it takes; a mark where it usually
    ends. Of many, the longest."""
    pyplot = pyplot_of()
    longest = sorted(phases, key=lambda one: -one[2])[:MOST_BARS]
    shown = [one for one in reversed(phases) if one in longest]
    figure, axes = pyplot.subplots(figsize=(9.6, max(2.4, 0.28 * len(shown) + 1.2)), layout="constrained")
    axes.barh(
        [name for name, _, _ in shown],
        [max(seconds, 0.004) for _, _, seconds in shown],
        left=[begin for _, begin, _ in shown],
        color="#1f6f8b",
    )
    marked = [(begin + usual[name], row) for row, (name, begin, _) in enumerate(shown) if name in usual]
    if marked:
        ends, rows = zip(*marked, strict=True)
        axes.plot(ends, rows, "|", markersize=11, color="#b7811a", label="usual end (median of earlier starts)")
        axes.legend(loc="lower left", fontsize=8, frameon=False)
    axes.set_xlabel("seconds since the first line of the log")
    axes.set_xlim(left=0)
    axes.set_title(f"{title}: parts of its last start", loc="left", fontsize=11)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    with translated("write the plot", file):
        figure.savefig(file, dpi=120)
    pyplot.close(figure)


def _time_axis(axes: Any, last: float) -> int:
    """Names the axis and answers how many seconds its unit has."""
    unit, scale = ("minutes", 60) if last > 300 else ("seconds", 1)
    axes.set_xlabel(f"{unit} since the start")
    return scale


def _memory_axis(axes: Any, label: str, bounds: Mapping[str, int]) -> None:
    styles = (("-", "#444444"), ("--", "#c0392b"), (":", "#b7811a"))
    names: dict[int, list[str]] = {}
    for name, mib in bounds.items():
        names.setdefault(mib, []).append(name)
    names.pop(0, None)
    for (mib, those), (style, colour) in zip(names.items(), styles, strict=False):
        axes.axhline(mib, linestyle=style, color=colour, linewidth=1.4, label=f"{', '.join(those)}: {mib} MiB")
    axes.set_ylabel(label)


def _finish(file: Path, figure: Any, axes: Any) -> None:
    axes.set_xlim(left=0)
    axes.set_ylim(bottom=0)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    figure.legend(loc="outside lower left", ncols=3, frameon=False, fontsize=9)
    with translated("write the plot", file):
        figure.savefig(file, dpi=120)
    pyplot_of().close(figure)


def pyplot_of() -> Any:
    """Matplotlib without a screen. Raises StateError where it is not installed."""
    try:
        import matplotlib

        matplotlib.use("Agg")
        from matplotlib import pyplot
    except ImportError:
        raise StateError(
            "no-matplotlib", "a plot needs Matplotlib", hint="Install it: pip install 'rhizon[plot]'"
        ) from None
    return pyplot
