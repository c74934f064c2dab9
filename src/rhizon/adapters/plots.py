"""Pictures, with Matplotlib where it is installed (the extra "plot")."""

from collections.abc import Sequence
from pathlib import Path

from rhizon.adapters.files import translated
from rhizon.core.errors import StateError

__all__ = ["heat_map"]

# Blue, sand and grey differ in lightness too, so that they are told apart without colours.
COLOURS = ("#d9d9d9", "#f2c14e", "#1f6f8b")
WORDS = ("does not fit", "nearly", "fits")


def heat_map(
    file: Path, title: str, rows: Sequence[str], columns: Sequence[str], values: Sequence[Sequence[int]]
) -> None:
    """Writes a picture of 0 (no), 1 (nearly) and 2 (fits); its size grows with what it shows."""
    try:
        import matplotlib

        matplotlib.use("Agg")
        from matplotlib import pyplot
        from matplotlib.colors import ListedColormap
        from matplotlib.patches import Patch
    except ImportError:
        raise StateError(
            "no-matplotlib", "a plot needs Matplotlib", hint="Install it: pip install 'rhizon[plot]'"
        ) from None
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
