"""Judging a start from what the server prints.

``BootJudge`` is fed line by line. It knows nothing of processes: the one who runs the server tells it at the
end how the process ended, and gets a verdict with the content at fault. A stack trace is one event. The deciding event
is the last one that the server did not get over: content that is ready after its exception, and a server that goes on
after one, show that it was harmless. So does a good run of the same server that printed the same line.
"""

import re
from collections.abc import Collection
from typing import Literal

import msgspec

from rhizon.core.log_lines import fingerprint
from rhizon.core.model.game import FailurePattern, GameDefinition, LogLevel
from rhizon.core.names import printable
from rhizon.core.runtimes import FailureSign, family_of
from rhizon.core.stack_trace import StackTrace, TraceReader
from rhizon.core.system_failures import SYSTEM_FAILURES

__all__ = ["BootEvent", "BootFailure", "BootJudge"]


MOST_TROUBLES = 1000
MOST_EVENTS = 1000
MOST_EVENT_LINES = 20


class BootEvent(msgspec.Struct, frozen=True, kw_only=True):
    """Something worth telling: ``percent`` only for progress, ``text`` for a person."""

    kind: Literal["ready", "closed", "content", "progress", "failure"]
    text: str
    percent: int | None = None


class BootFailure(msgspec.Struct, frozen=True, kw_only=True):
    """Why a start failed: a stable code, what, what to do, the content at fault, the line that said so (of a stack
    trace the exception or its last cause), and the classes of its frames."""

    code: str
    what: str
    hint: str
    culprit: str | None
    line: str
    frames: tuple[str, ...] = ()


class _Event:
    """Something that looks like a failure; ``survived`` once the server went on after it. Without a sign it is an
    exception, or a line of level error, that nothing is known of."""

    def __init__(
        self, line: str, failure: BootFailure | None, trace: StackTrace | None, culprit: str | None, level: LogLevel
    ) -> None:
        self.failure = failure
        self.trace = trace
        self.culprit = culprit
        self.level = level
        self.survived = False
        self._line = line

    @property
    def line(self) -> str:
        """What is quoted of it: of a stack trace the exception or its last cause."""
        return self.trace.line if self.trace is not None else self._line

    @property
    def fingerprint(self) -> str:
        """The same in another run; of a stack trace with the class in which it happened."""
        where = self.trace.classes[:1] if self.trace is not None else []
        return fingerprint(" ".join([self.line, *where]))


class _Source:
    """One place that the server logs to: its stack traces, and the lines of the event that is being read."""

    def __init__(self) -> None:
        self.traces = TraceReader()
        self.lines: list[str] = []
        self.event: _Event | None = None


class BootJudge:
    """Follows one start.

    ``ready`` turns true once and stays so; ``troubles`` are content that failed alone. ``seen_in_good_runs`` are
    fingerprints of what looked like a failure in starts that went well.
    """

    def __init__(self, game: GameDefinition, seen_in_good_runs: Collection[str] = ()) -> None:
        log = game.log
        self.ready = False
        self.closed = False
        self.started: list[str] = []
        self.current: str | None = None
        self._events: list[_Event] = []
        self._sources: dict[str, _Source] = {}
        self._good = seen_in_good_runs
        self.troubles: list[BootFailure] = []
        self._ready = re.compile(game.ready_pattern)
        self._closed = re.compile(log.closed) if log.closed else None
        self._event = re.compile(log.event) if log.event else None
        self._level = re.compile(log.level) if log.level else None
        self._levels = log.levels
        self._harmless = [re.compile(one) for one in log.harmless]
        self._begin = re.compile(log.content_begin) if log.content_begin else None
        self._done = re.compile(log.content_done) if log.content_done else None
        self._progress = [(one.label, re.compile(one.pattern)) for one in log.progress]
        family = family_of(game.runtime)
        self._signs = [*map(_sign, log.failures), *(family.failures if family else ()), *SYSTEM_FAILURES]
        self._alone = {one.code for one in log.failures if not one.fatal}
        self._namespaces = game.client_only.namespaces
        self._last = ""

    def feed(self, line: str, source: str = "") -> BootEvent | None:
        """One line of the log, without its line end; ``source`` is the file that it is from."""
        place = self._sources.setdefault(source, _Source())
        goes_on = place.traces.feed(line)
        if self._event is not None and not goes_on:
            goes_on = bool(place.lines) and self._event.search(line) is None
        if not goes_on:
            place.lines, place.event = [], None
        if len(place.lines) < MOST_EVENT_LINES:
            place.lines.append(line)
        if line.strip() and not goes_on:
            self._last = line
        if not self.ready and self._ready.search(line):
            self.ready = True
            self.current = None
            return BootEvent(kind="ready", text=printable(line))
        if self._closed and self._closed.search(line):
            self.closed = True
            return BootEvent(kind="closed", text=printable(line))
        if self._begin and (match := self._begin.search(line)):
            self._went_on()
            self.current = printable(match["id"], 64)
            return BootEvent(kind="content", text=f"starting {self.current}")
        if self._done and (match := self._done.search(line)):
            self.started.append(printable(match["id"], 64))
            self._went_on()
            self.current = None
            return None
        for label, pattern in self._progress:
            if match := pattern.search(line):
                self._went_on()
                percent = int(match["percent"]) if match["percent"].isdecimal() else 0
                return BootEvent(kind="progress", text=label, percent=max(0, min(percent, 100)))
        return self._failed(line, place, goes_on=goes_on)

    def _went_on(self) -> None:
        """The server got over all that there was so far."""
        for event in self._events:
            event.survived = True

    @property
    def failure(self) -> BootFailure | None:
        """The deciding failure so far; None where nothing is known that the server did not get over."""
        deciding = self._deciding()
        return self._whole(deciding) if deciding is not None and deciding.failure is not None else None

    @property
    def got_over(self) -> list[str]:
        """Fingerprints of what looked like a failure; of a server that is ready, it is known to be harmless."""
        return list(dict.fromkeys(one.fingerprint for one in self._events if not _out_of_memory(one)))

    def _deciding(self) -> _Event | None:
        """The last event that the server did not get over. Where memory ran out, everything after it may be a
        consequence. A known sign decides before what is only an exception or an error, and that before a warning; last
        is what good runs printed too, and of that only what has a sign."""
        ranked: dict[int, _Event] = {}
        for event in self._events:
            rank = self._rank(event)
            if rank is not None:
                ranked[rank] = event
        return ranked[min(ranked)] if ranked else None

    def _rank(self, event: _Event) -> int | None:
        """How much an event decides: 0 the most, None not at all."""
        if event.survived:
            return None
        if _out_of_memory(event):
            return 0
        if event.fingerprint in self._good:
            return None if event.failure is None else 4
        if event.failure is None:
            return 2
        return 3 if event.level == "warning" else 1

    @staticmethod
    def _whole(event: _Event) -> BootFailure:
        """The failure with what of its stack trace came after its first line."""
        assert event.failure is not None
        if event.trace is None:
            return event.failure
        return msgspec.structs.replace(
            event.failure, line=printable(event.trace.line, 300), frames=tuple(event.trace.classes)
        )

    def _failed(self, line: str, place: _Source, *, goes_on: bool) -> BootEvent | None:
        """The failure that a line is a sign of, if it is one; an exception or an error without a sign is kept as
        one."""
        if (self.ready and not self._alone) or len(self.troubles) >= MOST_TROUBLES:
            return None
        if any(one.search(line) for one in self._harmless):
            return None
        seen = self._known(line)
        if seen is None and goes_on and place.traces.current is None:
            seen = self._known("\n".join(place.lines))
            if seen is not None:
                seen = msgspec.structs.replace(seen, line=printable(" ".join(one.strip() for one in place.lines), 300))
        if seen is not None and seen.code in self._alone:
            self.troubles.append(seen)
            return BootEvent(kind="failure", text=seen.what)
        if self.ready:
            return None
        if goes_on and place.event is not None:
            if seen is not None:  # a cause says more than what it caused
                place.event.failure = seen
            if place.event.trace is None:
                place.event.trace = place.traces.current
        elif seen is not None or place.traces.current is not None or self._level_of(line) == "error":
            level = self._level_of(place.lines[0])
            whole = " ".join(one.strip() for one in place.lines)
            place.event = _Event(whole, seen, place.traces.current, self.current, level)
            self._events.append(place.event)
            del self._events[:-MOST_EVENTS]
        return BootEvent(kind="failure", text=seen.what) if seen is not None else None

    def _level_of(self, line: str) -> LogLevel:
        """The level that a line says; "info" where it says none."""
        match = self._level.search(line) if self._level is not None else None
        return self._levels.get(match["level"], "info") if match is not None else "info"

    def _known(self, line: str) -> BootFailure | None:
        for sign in self._signs:
            match = sign.pattern.search(line)
            if match is None or (self.ready and sign.code not in self._alone):
                continue
            words = {name: printable(value or "", 200) for name, value in match.groupdict().items()}
            culprit = words.get("id") or self.current
            words["culprit"] = culprit or "some content"
            if sign.code == "class-missing" and self._client_only(words["class"]):
                sign = _CLIENT_ONLY
            return BootFailure(
                code=sign.code,
                what=_fill(sign.what, words),
                hint=_fill(sign.hint, words),
                culprit=culprit,
                line=printable(line, 300),
            )
        return None

    def _client_only(self, name: str) -> bool:
        dotted = name.replace("/", ".")
        return any(dotted == space or dotted.startswith(space + ".") for space in self._namespaces)

    def verdict(self, exit_code: int | None, seconds: float) -> BootFailure:
        """Why it is not ready: ``exit_code`` None means that it was still running after ``seconds``."""
        deciding = self._deciding()
        if deciding is not None and deciding.failure is not None:
            return self._whole(deciding)
        trace = deciding.trace if deciding is not None else None
        culprit = deciding.culprit if deciding is not None else self.current
        line = printable(deciding.line if deciding is not None else self._last, 300)
        frames = tuple(trace.classes) if trace is not None else ()
        if exit_code is None:
            busy = f", busy with {culprit}" if culprit else ""
            return BootFailure(
                code="start-timeout",
                what=f"the server was not ready after {seconds:.0f} s{busy}",
                hint="If it is only slow, allow more time with --wait; otherwise read its log above.",
                culprit=culprit,
                line=line,
                frames=frames,
            )
        code, what, hint = _ended_by(exit_code)
        at = f", while it started {culprit}" if culprit else ""
        because = f": {printable(deciding.line, 200)}" if deciding is not None else ""
        return BootFailure(
            code=code,
            what=f"{what} before it was ready{at}{because}",
            hint=hint,
            culprit=culprit,
            line=line,
            frames=frames,
        )


def _out_of_memory(event: _Event) -> bool:
    return event.failure is not None and event.failure.code == "out-of-memory"


def _ended_by(exit_code: int) -> tuple[str, str, str]:
    """Code, words and hint for the way a process ended; signals as shells and as Python tell them."""
    signal = exit_code - 128 if 128 < exit_code < 160 else -exit_code if exit_code < 0 else 0
    if signal == 9:
        hint = "The system kills programs when memory runs out: see its log (dmesg), and: rhizon memory {server}"
        return "start-killed", "the server was killed (signal 9)", hint
    if signal in (4, 6, 7, 8, 11):
        hint = "A native library or the runtime crashed: update it, or remove content with native code."
        return "start-crashed", f"the server crashed (signal {signal})", hint
    if exit_code in (126, 127):
        hint = "Its program cannot be executed: rhizon repair {server}"
        return "start-ended", f"the server ended with exit code {exit_code}", hint
    hint = "See what a check says of it: rhizon check {server}"
    return "start-ended", f"the server ended with exit code {exit_code}", hint


_CLIENT_ONLY = FailureSign(
    "client-only",
    re.compile(""),
    "{culprit} is client-only: it needs {class}, which only the client has",
    "Remove {culprit} from the list, or exclude it there.",
)


def _sign(pattern: FailurePattern) -> FailureSign:
    return FailureSign(pattern.code, re.compile(pattern.pattern), pattern.what, pattern.hint)


def _fill(text: str, words: dict[str, str]) -> str:
    return re.sub(r"\{(\w+)\}", lambda match: words.get(match[1], match[0]), text)
