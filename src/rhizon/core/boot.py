"""Judging a start from what the server prints.

``BootJudge`` is fed line by line. It knows nothing of processes: the one who runs the server tells it at the
end how the process ended, and gets a verdict with the content at fault.
"""

import re
from typing import Literal

import msgspec

from rhizon.core.model.game import FailurePattern, GameDefinition
from rhizon.core.names import printable
from rhizon.core.runtimes import FAMILIES, FailureSign

__all__ = ["BootEvent", "BootFailure", "BootJudge"]


MOST_TROUBLES = 1000


class BootEvent(msgspec.Struct, frozen=True, kw_only=True):
    """Something worth telling: ``percent`` only for progress, ``text`` for a person."""

    kind: Literal["ready", "closed", "content", "progress", "failure"]
    text: str
    percent: int | None = None


class BootFailure(msgspec.Struct, frozen=True, kw_only=True):
    """Why a start failed: a stable code, what, what to do, the content at fault, and the line that said so."""

    code: str
    what: str
    hint: str
    culprit: str | None
    line: str


class BootJudge:
    """Follows one start.

    Invariants: ``ready`` turns true once and stays so; the first failure that was seen stays the verdict,
    since what follows it is most often its consequence. ``troubles`` are content that failed alone.
    """

    def __init__(self, game: GameDefinition) -> None:
        log = game.log
        self.ready = False
        self.closed = False
        self.started: list[str] = []
        self.current: str | None = None
        self.failure: BootFailure | None = None
        self.troubles: list[BootFailure] = []
        self._ready = re.compile(log.ready)
        self._closed = re.compile(log.closed) if log.closed else None
        self._begin = re.compile(log.content_begin) if log.content_begin else None
        self._done = re.compile(log.content_done) if log.content_done else None
        self._progress = [(one.label, re.compile(one.pattern)) for one in log.progress]
        family = FAMILIES.get(game.runtime.family)
        self._signs = [*map(_sign, log.failures), *(family.failures if family else ())]
        self._alone = {one.code for one in log.failures if not one.fatal}
        self._namespaces = game.client_only.namespaces
        self._last = ""

    def feed(self, line: str) -> BootEvent | None:
        """One line of the log, without its line end."""
        if line.strip():
            self._last = line
        if not self.ready and self._ready.search(line):
            self.ready = True
            self.current = None
            return BootEvent(kind="ready", text=printable(line))
        if self._closed and self._closed.search(line):
            self.closed = True
            return BootEvent(kind="closed", text=printable(line))
        if self._begin and (match := self._begin.search(line)):
            self.current = printable(match["id"], 64)
            return BootEvent(kind="content", text=f"starting {self.current}")
        if self._done and (match := self._done.search(line)):
            self.started.append(printable(match["id"], 64))
            self.current = None
            return None
        for label, pattern in self._progress:
            if match := pattern.search(line):
                percent = int(match["percent"]) if match["percent"].isdecimal() else 0
                return BootEvent(kind="progress", text=label, percent=max(0, min(percent, 100)))
        return self._failed(line)

    def _failed(self, line: str) -> BootEvent | None:
        """The failure that a line is a sign of, if it is one."""
        if self.failure is not None or (self.ready and not self._alone) or len(self.troubles) >= MOST_TROUBLES:
            return None
        for sign in self._signs:
            match = sign.pattern.search(line)
            if match is None or (self.ready and sign.code not in self._alone):
                continue
            words = {name: printable(value or "", 200) for name, value in match.groupdict().items()}
            culprit = words.get("id") or self.current
            words["culprit"] = culprit or "some content"
            if sign.code == "class-missing" and self._client_only(words["class"]):
                sign = _CLIENT_ONLY
            seen = BootFailure(
                code=sign.code,
                what=_fill(sign.what, words),
                hint=_fill(sign.hint, words),
                culprit=culprit,
                line=printable(line, 300),
            )
            if sign.code in self._alone:
                self.troubles.append(seen)
            else:
                self.failure = seen
            return BootEvent(kind="failure", text=seen.what)
        return None

    def _client_only(self, name: str) -> bool:
        dotted = name.replace("/", ".")
        return any(dotted == space or dotted.startswith(space + ".") for space in self._namespaces)

    def verdict(self, exit_code: int | None, seconds: float) -> BootFailure:
        """Why it is not ready: ``exit_code`` None means that it was still running after ``seconds``."""
        if self.failure is not None:
            return self.failure
        line = printable(self._last, 300)
        if exit_code is None:
            busy = f", busy with {self.current}" if self.current else ""
            return BootFailure(
                code="start-timeout",
                what=f"the server was not ready after {seconds:.0f} s{busy}",
                hint="If it is only slow, allow more time with --wait; otherwise read its log above.",
                culprit=self.current,
                line=line,
            )
        return BootFailure(
            code="start-ended",
            what=f"the server ended with exit code {exit_code} before it was ready"
            + (f", while it started {self.current}" if self.current else ""),
            hint="The last lines of its log say what it did last; add --verbose to see all of it.",
            culprit=self.current,
            line=line,
        )


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
