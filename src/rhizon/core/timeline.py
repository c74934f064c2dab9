"""How long the parts of a start took, by the times at which lines of its log came."""

import re
from collections.abc import Iterable

import msgspec

from rhizon.core.model.game import GameDefinition

__all__ = ["Boot", "Phase", "boot_timeline"]

MOST_PHASES = 5000


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


def boot_timeline(game: GameDefinition, began: str, lines: Iterable[tuple[float, str]]) -> Boot:
    """``lines`` with the seconds at which each came, in order."""
    log = game.log
    ready = re.compile(log.ready)
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
