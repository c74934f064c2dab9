"""What a game definition says of the server's log, and of how it becomes ready."""

from typing import Annotated, Literal

import msgspec

from rhizon.core.model.base import Id, Line, Strict
from rhizon.core.model.patterns import check_encoding, check_pattern
from rhizon.core.model.setting import Protocol
from rhizon.core.names import RelPath, safe_path

__all__ = [
    "FailurePattern",
    "LauncherRule",
    "LogFile",
    "LogLevel",
    "LogRules",
    "ProgressPattern",
    "ReadyRule",
]


class ProgressPattern(Strict, frozen=True, kw_only=True):
    """A line that says how far something is; the pattern has a group ``percent``."""

    label: Line
    pattern: Line

    def __post_init__(self) -> None:
        check_pattern(self.pattern, "pattern", ("percent",))


class FailurePattern(Strict, frozen=True, kw_only=True):
    """A line that says why a start fails, or with ``fatal`` false that one piece of content failed alone. ``{name}`` in
    the texts is filled from the pattern's groups."""

    code: Id
    pattern: Line
    what: Line
    hint: Line
    fatal: bool = True

    def __post_init__(self) -> None:
        check_pattern(self.pattern, "pattern")


class LogFile(Strict, frozen=True, kw_only=True):
    """A log file in the server's folder, in addition to its output. ``*`` in its name matches a date or number that
    differs between runs: the newest matching file is followed."""

    path: Line
    encoding: Line = "utf-8"

    def __post_init__(self) -> None:
        folder, _, name = self.path.rpartition("/")
        if "*" in folder or not name:
            raise ValueError(f"path: {self.path!r}: only the file's name may have a *")
        safe_path(self.path.replace("*", "x"))
        check_encoding(self.encoding, "encoding")


LogLevel = Literal["error", "warning", "info"]


class LogRules(Strict, frozen=True, kw_only=True):
    """How to read the server's log. What it prints is read in ``encoding``; ``files`` are read too. A line that
    ``event`` does not match belongs to the one before. ``level`` has a group ``level``, whose words are explained by
    ``levels``; lines of level error are signs of a failure that no pattern knows. What ``harmless`` matches is none.
    """

    ready: Line = ""
    closed: Line = ""
    ready_seconds: Annotated[int, msgspec.Meta(ge=1, le=86400)] = 180
    content_begin: Line = ""
    content_done: Line = ""
    progress: tuple[ProgressPattern, ...] = ()
    failures: tuple[FailurePattern, ...] = ()
    encoding: Line = "utf-8"
    files: tuple[LogFile, ...] = ()
    event: Line = ""
    level: Line = ""
    levels: dict[Line, LogLevel] = {}
    harmless: tuple[Line, ...] = ()

    def __post_init__(self) -> None:
        check_pattern(self.ready, "ready")
        check_pattern(self.closed, "closed")
        check_pattern(self.content_begin, "content_begin", ("id",) if self.content_begin else ())
        check_pattern(self.content_done, "content_done", ("id",) if self.content_done else ())
        check_pattern(self.event, "event")
        check_pattern(self.level, "level", ("level",) if self.level else ())
        for pattern in self.harmless:
            check_pattern(pattern, "harmless")
        if bool(self.level) != bool(self.levels):
            raise ValueError("`level` needs `levels`, which say what its words mean, and the other way round")
        check_encoding(self.encoding, "encoding")


class ReadyRule(Strict, frozen=True, kw_only=True):
    """How else than by its log a server shows that it is ready: the port of a role that answers (over ``protocol``; to
    the text ``send``, in which ``\\n`` and ``\\xff`` are escapes, with what the pattern ``answer`` matches), a
    ``file`` that appears or is written anew. What is given has to hold, and so has ``log.ready`` where there is one."""

    port: Id | None = None
    protocol: Protocol = "tcp"
    send: Line = ""
    answer: Line = ""
    file: RelPath | None = None

    def __post_init__(self) -> None:
        if self.port is None and self.file is None:
            raise ValueError("`port` or `file` is required")
        if self.port is None and (self.send or self.answer):
            raise ValueError("send, answer: they need a `port`")
        check_pattern(self.answer, "answer")
        if self.answer and not self.send and self.protocol == "udp":
            raise ValueError("answer: over udp nothing answers without a `send`")
        try:
            self.sent()
        except ValueError:
            raise ValueError(f"send: {self.send!r} has an escape that is none; write \\n, \\t or \\xff") from None

    def sent(self) -> bytes:
        """The bytes that are sent. Raises ValueError."""
        return self.send.encode("latin-1", "backslashreplace").decode("unicode_escape").encode("latin-1")


class LauncherRule(Strict, frozen=True, kw_only=True):
    """A command that ends by itself, with exit code 0, and leaves the server running: which process that is says
    ``pid_file``, else it is the one that the launcher started. With ``ready`` its end says that the server is ready."""

    pid_file: RelPath | None = None
    ready: bool = False
