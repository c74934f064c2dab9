"""Stack traces in a log: one event of many lines, as Java and .NET runtimes print them."""

import re
from dataclasses import dataclass, field

__all__ = ["StackTrace", "TraceReader"]

_EXCEPTION = re.compile(
    r"(?:^|[\s\"\]:|])(?P<type>(?:[A-Za-z_]\w*\.)+[A-Z]\w*(?:Error|Exception|Failure|Throwable))(?::\s*(?P<message>.*))?$"
)
_FRAME = re.compile(r"^\s+at (?:[\w.@-]+/)*(?P<class>[\w.$<>]+)\.[\w$<>]+ ?\(")
_CAUSE = re.compile(r"^\s*(?:Caused by: |---> )(?P<rest>.*)$")
_MORE = re.compile(r"^\s*(?:\.\.\. \d+ (?:more|common frames omitted)|Suppressed: |--- End of )")
MOST_FRAMES = 200


@dataclass
class StackTrace:
    """``line`` is the exception, or its last cause, as it was printed; ``frames`` the classes of its frames, those of
    the last cause first."""

    line: str
    frames: list[str] = field(default_factory=list)
    _fresh: list[str] = field(default_factory=list)

    def close_part(self) -> None:
        """The frames so far belong to what the next cause explains."""
        self.frames = (self._fresh + self.frames)[:MOST_FRAMES]
        self._fresh = []

    def add_frame(self, name: str) -> None:
        """One more class of the part that is being read."""
        if len(self._fresh) < MOST_FRAMES:
            self._fresh.append(name)

    @property
    def classes(self) -> list[str]:
        """All classes, the last cause's first."""
        return [*self._fresh, *self.frames]


class TraceReader:
    """Groups lines into traces. ``current`` is the one that the last line belonged to, None for another line."""

    def __init__(self) -> None:
        self.current: StackTrace | None = None

    def feed(self, line: str) -> bool:
        """Whether the line goes on with the trace before it; then it begins no event of its own."""
        trace = self.current
        if trace is not None:
            if match := _FRAME.match(line):
                trace.add_frame(match["class"])
                return True
            if match := _CAUSE.match(line):
                trace.close_part()
                trace.line = match["rest"].strip() or trace.line
                return True
            if _MORE.match(line):
                return True
        self.current = StackTrace(line.strip()) if _EXCEPTION.search(line) else None
        return False
