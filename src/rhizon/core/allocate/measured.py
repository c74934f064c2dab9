"""What past runs say of the memory that a server needs.

The Java log is that of unified logging (JEP 158, ``-Xlog:gc``). What a young collection leaves may still be garbage;
what is really alive is what a full collection leaves. Of a collector that marks while the program runs (G1), the lowest
of all pauses from one remark to the next comes nearest: the remark itself still counts what it has just found to be
garbage, and the mixed collections after it take that away bit by bit (HotSpot Virtual Machine Garbage Collection Tuning
Guide, Garbage-First, space-reclamation phase).
"""

import itertools
import re
from collections.abc import Iterable, Sequence

import msgspec

__all__ = [
    "GcEvent",
    "HeapEvidence",
    "ProcessEvidence",
    "advice",
    "alive",
    "evidence",
    "process_advice",
    "process_evidence",
    "read_gc_log",
    "thinned",
]

_EVENT = re.compile(
    r"^\[(?P<at>[\d.,]+)s\]\[\w+\]\[gc *\] GC\(\d+\) (?P<what>Pause .+?) "
    r"(?P<before>\d+)(?P<unit>[KMG])->(?P<after>\d+)(?P=unit)\((?P<capacity>\d+)(?P=unit)\) (?P<ms>[\d.,]+)ms$"
)
_MIB = {"K": 1 / 1024, "M": 1.0, "G": 1024.0}
_THOROUGH = "Pause Full"
_MARKED = "Pause Remark"
WINDOW = 12  # pauses of which the lowest counts where nothing tells cycles apart
STEP_MIB = 32
MOST_POINTS = 600


class GcEvent(msgspec.Struct, frozen=True, kw_only=True):
    """A pause of a collector: seconds since the start, MiB of heap before and after it and in all, how long everything
    stood still in milliseconds, whether it looked at everything (``thorough``), and whether a marking ended with it
    (``marked``)."""

    at: float
    before_mib: float
    after_mib: float
    capacity_mib: float
    pause_ms: float
    thorough: bool
    marked: bool = False


class HeapEvidence(msgspec.Struct, frozen=True, kw_only=True):
    """What some runs show. ``live`` are (seconds, MiB) of what was alive in the longest of them, thinned where it is
    very long; ``live_mib`` is the most of it in the later half of any run, ``peak_mib`` the most heap before a
    collection, ``share`` the part of the time in pauses."""

    events: int
    seconds: float
    live: tuple[tuple[float, float], ...]
    live_mib: float
    peak_mib: float
    longest_pause_ms: float
    median_pause_ms: float
    share: float


class ProcessEvidence(msgspec.Struct, frozen=True, kw_only=True):
    """What the system says of a process in some runs. ``points`` are (seconds, MiB resident) of the later half of the
    longest, when it has warmed up, thinned likewise; ``peak_mib`` is the most ever, ``usual_mib`` the median of the
    later halves of all."""

    samples: int
    seconds: float
    points: tuple[tuple[float, float], ...]
    peak_mib: float
    usual_mib: float


def process_evidence(runs: Sequence[Sequence[tuple[float, float]]]) -> ProcessEvidence | None:
    """All runs together, each as (seconds, MiB); None where no sample was taken."""
    runs = [run for run in runs if run]
    if not runs:
        return None
    late = [[point for point in run if point[0] >= run[-1][0] / 2] for run in runs]
    usual = sorted(mib for run in late for _, mib in run)
    return ProcessEvidence(
        samples=sum(map(len, runs)),
        seconds=round(sum(run[-1][0] for run in runs), 1),
        points=thinned(max(late, key=lambda run: run[-1][0])),
        peak_mib=round(max(mib for run in runs for _, mib in run), 1),
        usual_mib=round(usual[len(usual) // 2], 1),
    )


def process_advice(peak_mib: float, least_mib: int) -> tuple[int, int, int]:
    """Memory in MiB to plan for for a server that has no bound: what it took at most, a quarter more, and twice
    that. A native program takes what it needs; more than its peak and some air is of use to no one."""

    def rounded(mib: float) -> int:
        return max(-int(-mib // STEP_MIB) * STEP_MIB, least_mib)

    return rounded(peak_mib), rounded(peak_mib * 1.25), rounded(peak_mib * 2)


def read_gc_log(lines: Iterable[str]) -> list[GcEvent]:
    """Every pause with its heap; other lines are passed over. The tag column is padded to a width that grows."""
    events = []
    for line in lines:
        match = _EVENT.match(line.rstrip())
        if match is None:
            continue
        scale = _MIB[match["unit"]]
        events.append(
            GcEvent(
                at=float(match["at"].replace(",", ".")),
                before_mib=int(match["before"]) * scale,
                after_mib=int(match["after"]) * scale,
                capacity_mib=int(match["capacity"]) * scale,
                pause_ms=float(match["ms"].replace(",", ".")),
                thorough=match["what"].startswith(_THOROUGH),
                marked=match["what"].startswith(_MARKED),
            )
        )
    return events


def evidence(runs: Sequence[Sequence[GcEvent]]) -> HeapEvidence | None:
    """All runs together; None where no collection was seen."""
    runs = [run for run in runs if run]
    if not runs:
        return None
    every = [event for run in runs for event in run]
    live = [alive(run) for run in runs]
    late = [mib for points, run in zip(live, runs, strict=True) for at, mib in points if at >= run[-1].at / 2]
    pauses = sorted(event.pause_ms for event in every)
    seconds = sum(run[-1].at for run in runs)
    return HeapEvidence(
        events=len(every),
        seconds=round(seconds, 1),
        live=thinned(max(live, key=lambda points: points[-1][0])),
        live_mib=round(max(late or [mib for points in live for _, mib in points]), 1),
        peak_mib=round(max(event.before_mib for event in every), 1),
        longest_pause_ms=pauses[-1],
        median_pause_ms=pauses[len(pauses) // 2],
        share=round(sum(pauses) / 1000 / max(seconds, 0.001), 4),
    )


def alive(run: Sequence[GcEvent]) -> list[tuple[float, float]]:
    """What was alive and when: after every thorough collection; else the lowest of each cycle of marking, or of some
    pauses in a row."""
    thorough = [(event.at, event.after_mib) for event in run if event.thorough]
    if len(thorough) >= 2:
        return thorough
    begins = [number for number, event in enumerate(run) if event.marked]
    if len(begins) < 3:  # what is before the first remark, and behind the last, is not a whole cycle
        begins = [*range(0, len(run), WINDOW), len(run)]
    blocks = [run[begin:end] for begin, end in itertools.pairwise(begins)]
    lowest = [min(block, key=lambda event: event.after_mib) for block in blocks]
    return sorted(thorough + [(event.at, event.after_mib) for event in lowest])


def thinned(points: Sequence[tuple[float, float]], most: int = MOST_POINTS) -> tuple[tuple[float, float], ...]:
    """At most so many points: of each stretch of them the middle one by its value. A slope over all pairs of a day's
    points would take gigabytes."""
    size = -(-len(points) // most)
    stretches = [sorted(points[at : at + size], key=lambda one: one[1]) for at in range(0, len(points), max(size, 1))]
    return tuple(one[len(one) // 2] for one in stretches)


def advice(live_mib: float, least_mib: int) -> tuple[int, int, int]:
    """Heap in MiB: the lowest that makes sense, the one to take, and the highest that still helps, for what is alive.

    A collector works well with two to four times what is alive and hardly better with more (C. Hunt, B. John: Java
    Performance, 2011, chapter 7); below one and a half times it collects most of the time.
    """

    def rounded(mib: float) -> int:
        return max(-int(-mib // STEP_MIB) * STEP_MIB, least_mib)

    return rounded(live_mib * 1.5), rounded(live_mib * 2.5), rounded(live_mib * 4)
