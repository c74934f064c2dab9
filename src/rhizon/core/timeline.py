"""How long the parts of a start took, by the times at which lines of its log came."""

import re
import statistics
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence

import msgspec

from rhizon.core.model.game import GameDefinition

__all__ = ["Boot", "Phase", "Slower", "boot_timeline", "slower_parts", "usual_seconds"]

MOST_PHASES = 5000
CLEARLY_SECONDS, CLEARLY_TIMES = 0.3, 1.5  # a part that takes so much longer than usual is told


class Phase(msgspec.Struct, frozen=True, kw_only=True):
    """A part of a start: a piece of content, or what the log calls progress. Seconds since the first line."""

    name: str
    kind: str
    begin: float
    seconds: float


class Boot(msgspec.Struct, frozen=True, kw_only=True):
    """One start: its parts in their order, and the seconds to ready; None where it did not become ready."""

    began: str
    ready_seconds: float | None
    phases: tuple[Phase, ...]

    def slowest(self, most: int) -> list[Phase]:
        """The longest of them."""
        return sorted(self.phases, key=lambda one: -one.seconds)[:most]


class Slower(msgspec.Struct, frozen=True, kw_only=True):
    """A part that took clearly longer than it usually does, in seconds."""

    name: str
    seconds: float
    usual: float


def usual_seconds(earlier: Sequence[Boot]) -> dict[str, float]:
    """How long each part usually takes: the median over earlier starts that became ready."""
    taken: dict[str, list[float]] = defaultdict(list)
    for boot in earlier:
        if boot.ready_seconds is not None:
            for phase in boot.phases:
                taken[phase.name].append(phase.seconds)
    return {name: round(statistics.median(seconds), 3) for name, seconds in taken.items()}


def slower_parts(last: Boot, usual: Mapping[str, float]) -> tuple[Slower, ...]:
    """What took clearly longer than usual, the worst first."""
    found = [
        Slower(name=one.name, seconds=one.seconds, usual=usual[one.name])
        for one in last.phases
        if one.name in usual
        and one.seconds - usual[one.name] >= CLEARLY_SECONDS
        and one.seconds >= CLEARLY_TIMES * usual[one.name]
    ]
    return tuple(sorted(found, key=lambda one: one.usual - one.seconds))


def boot_timeline(game: GameDefinition, began: str, lines: Iterable[tuple[float, str]]) -> Boot:
    """``lines`` with the seconds at which each came, in order."""
    log = game.log
    ready = re.compile(game.ready_pattern)
    begin = re.compile(log.content_begin) if log.content_begin else None
    done = re.compile(log.content_done) if log.content_done else None
    progress = [(one.label, re.compile(one.pattern)) for one in log.progress]
    phases: list[Phase] = []
    open_content: tuple[str, float] | None = None
    open_progress: tuple[str, float, float] | None = None
    first: float | None = None
    until: float | None = None
    for seconds, line in lines:
        first = seconds if first is None else first
        at = seconds - first
        label = next((name for name, pattern in progress if pattern.search(line)), None)
        if label is not None:
            start = open_progress[1] if open_progress is not None and open_progress[0] == label else at
            open_progress = (label, start, at)
        begun = begin.search(line) if begin is not None else None
        if begun is not None or (done is not None and done.search(line)) or ready.search(line):
            if open_content is not None:
                name, start = open_content
                phases.append(Phase(name=name, kind="content", begin=round(start, 3), seconds=round(at - start, 3)))
            open_content = (begun["id"][:64], at) if begun is not None else None
        if ready.search(line):
            until = at
            break
        if len(phases) >= MOST_PHASES:
            break
    if open_progress is not None:
        name, start, end = open_progress
        phases.append(Phase(name=name, kind="progress", begin=round(start, 3), seconds=round(end - start, 3)))
    return Boot(began=began, ready_seconds=round(until, 3) if until is not None else None, phases=tuple(phases))
