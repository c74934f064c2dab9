"""How fast something grows, told from measurements of which some are odd."""

import math
import statistics
from collections import Counter
from collections.abc import Iterable, Sequence

__all__ = ["trend"]

LEAST_POINTS = 8
CONFIDENCE = 0.95


def trend(points: Sequence[tuple[float, float]]) -> tuple[float, float, float] | None:
    """The slope of points (seconds, MiB) in MiB an hour, and the ends of its 95 % interval; None for fewer than eight
    points, or where all are of one time.

    The median of the slopes between any two points, which a few odd ones do not move (H. Theil, "A rank-invariant
    method of linear and polynomial regression analysis", 1950). The interval is that of P. K. Sen, "Estimates of the
    regression coefficient based on Kendall's tau", Journal of the American Statistical Association 63 (1968), equation
    2.6: ranks of the sorted slopes, with ties counted in both directions. Takes time and memory with the square of the
    points.
    """
    if len(points) < LEAST_POINTS:
        return None
    ordered = sorted(points)
    slopes = sorted(
        (value - before) / (at - since)
        for number, (at, value) in enumerate(ordered)
        for since, before in ordered[:number]
        if at > since
    )
    if not slopes:
        return None
    count = len(points)
    spread = _pairs(count) - _ties(at for at, _ in points) - _ties(value for _, value in points)
    half = statistics.NormalDist().inv_cdf((1 + CONFIDENCE) / 2) * math.sqrt(max(spread, 0) / 18)
    low = max(round((len(slopes) - half) / 2) - 1, 0)
    high = min(round((len(slopes) + half) / 2), len(slopes) - 1)
    return statistics.median(slopes) * 3600, slopes[low] * 3600, slopes[high] * 3600


def _pairs(count: int) -> int:
    return count * (count - 1) * (2 * count + 5)


def _ties(values: Iterable[float]) -> int:
    return sum(_pairs(count) for count in Counter(values).values())
