"""A picture of what each machine holds."""

from collections.abc import Collection, Sequence
from pathlib import Path

from rhizon.adapters.files import translated
from rhizon.adapters.plots import pyplot_of

__all__ = ["draw_loads"]

STAYS, MOVED, FREE = "#1f6f8b", "#f2c14e", "#d9d9d9"
MOST_NAMED = 40  # machines; above it bars have no names of servers


def draw_loads(
    file: Path, title: str, rows: Sequence[tuple[str, Sequence[tuple[str, int]], int]], moved: Collection[str]
) -> None:
    """A bar a machine: its servers with their memory (MiB), those that move in another colour, and what is free."""
    pyplot = pyplot_of()
    height = min(max(2.6, 0.34 * len(rows) + 1.6), 60)
    figure, axes = pyplot.subplots(figsize=(10.6, height), layout="constrained")
    for row, (_, servers, capacity) in enumerate(rows):
        axes.barh(row, capacity / 1024, color=FREE, height=0.72)
        left = 0.0
        for name, mib in sorted(servers, key=lambda one: (one[0] in moved, -one[1])):
            width = mib / 1024
            axes.barh(
                row, width, left=left, height=0.72, color=MOVED if name in moved else STAYS, edgecolor="white",
                linewidth=0.8,
            )  # fmt: skip
            if len(rows) <= MOST_NAMED and width > 0.011 * len(name) * max(one[2] for one in rows) / 1024:
                axes.text(
                    left + width / 2, row, name, ha="center", va="center", fontsize=8,
                    color="black" if name in moved else "white",
                )  # fmt: skip
            left += width
        axes.text(capacity / 1024, row, f" {100 * left * 1024 / max(capacity, 1):.0f} %", va="center", fontsize=8)
    axes.set_yticks(range(len(rows)), [name for name, _, _ in rows])
    axes.set_ylim(len(rows) - 0.4, -0.6)
    axes.set_xlabel("memory, GiB")
    axes.set_xlim(left=0, right=max((one[2] for one in rows), default=1) / 1024 * 1.08)
    axes.set_title(title, loc="left", fontsize=11)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    from matplotlib.patches import Patch

    figure.legend(
        handles=[
            Patch(color=colour, label=label)
            for colour, label in ((STAYS, "stays or is new"), (MOVED, "moves here"), (FREE, "free"))
        ],
        loc="outside lower left", ncols=3, frameon=False, fontsize=9,
    )  # fmt: skip
    with translated("write the plot", file):
        figure.savefig(file, dpi=120)
    pyplot.close(figure)
