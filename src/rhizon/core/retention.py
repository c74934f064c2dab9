"""Which of many backups to keep: so many of the newest hours, days, weeks, months and years, each its last."""

import datetime
import re
from collections.abc import Callable, Sequence

import msgspec

__all__ = ["Retention", "parse_retention", "to_keep"]

Time = datetime.datetime

_PERIODS: dict[str, Callable[[Time], object]] = {
    "h": lambda at: (at.date(), at.hour),
    "d": lambda at: at.date(),
    "w": lambda at: at.isocalendar()[:2],
    "m": lambda at: (at.year, at.month),
    "y": lambda at: at.year,
}


class Retention(msgspec.Struct, frozen=True):
    """How many of each period to keep, and how many of the newest whatever their period."""

    counts: tuple[tuple[str, int], ...]
    newest: int = 1


def parse_retention(text: str) -> Retention:
    """``7d,4w,6m``: days, weeks, months; also h, y and a bare number of the newest. ValueError says what is wrong."""
    counts = []
    newest = 1
    for part in text.replace(" ", "").split(","):
        match = re.fullmatch(r"(\d{1,4})([hdwmy]?)", part)
        if match is None:
            raise ValueError(f"{part!r} is not a number with h, d, w, m or y behind it, as in 7d,4w,6m")
        if match[2]:
            counts.append((match[2], int(match[1])))
        else:
            newest = max(int(match[1]), 1)
    return Retention(tuple(counts), newest)


def to_keep(times: Sequence[Time], rule: Retention) -> set[Time]:
    """Of each of the newest periods the last one, and always the newest of all."""
    ordered = sorted(times, reverse=True)
    kept = set(ordered[: rule.newest])
    for unit, count in rule.counts:
        seen: set[object] = set()
        for at in ordered:
            period = _PERIODS[unit](at)
            if period not in seen and len(seen) < count:
                seen.add(period)
                kept.add(at)
    return kept
