"""What a log shows: the line of a server that is ready, of one that stops, and those of its content."""

import re
from collections.abc import Sequence
from typing import NamedTuple

__all__ = ["LogFound", "found_in_log", "pattern_of"]

_TIME = re.compile(
    r"^(?:[\[(]?\d{4}[-/.]\d\d?[-/.]\d\d?[T _-]?|[\[(])?"
    r"(?:[\[(]?\d\d?:\d\d(?::\d\d)?(?:[.,]\d+)?Z?[\])]?)?[\])]?[\s:|-]*"
)
_READY = re.compile(
    r"\b(?:ready|listening|accepting|up and running|is open|opened|online|for players|can join|started|running|"
    r"done|lit|serving)\b",
    re.IGNORECASE,
)
_CLOSED = re.compile(
    r"\b(?:stopped|closed|shut ?down|goodbye|bye|ended|terminated|exiting|finished|saved and)\b", re.IGNORECASE
)
_LOADING = re.compile(r"\b(?:load|start|enabl|bring|mix|coupl|mount|activat|init|rais|lay)\w*ing\b", re.IGNORECASE)
_LOADED = re.compile(
    r"\b(?:loaded|started|enabled|mounted|mixed|coupled|activated|initiali[sz]ed|raised|laid|is in)\b", re.IGNORECASE
)


class LogFound(NamedTuple):
    """Patterns, "" where nothing was found, each with the line that it is from."""

    ready: str = ""
    ready_line: str = ""
    closed: str = ""
    closed_line: str = ""
    content_begin: str = ""
    content_done: str = ""


def found_in_log(lines: Sequence[str], ports: Sequence[int], content: Sequence[str]) -> LogFound:
    """The last line that says ready, best with a port in it; what comes near the end and says closed; lines with the
    names of content."""
    lines = [line for line in lines if not line.startswith("rhizon:")]
    ready = _last(lines, _READY, lambda line: sum(str(port) in line for port in ports))
    after = lines[lines.index(ready) + 1 :] if ready else lines
    closed = _last(after[-5:], _CLOSED, lambda _line: 0)
    begin = _with_content(lines, _LOADING, content)
    done = _with_content([line for line in lines if not _LOADING.search(line)], _LOADED, content)
    return LogFound(
        ready=pattern_of(ready, ports) if ready else "",
        ready_line=ready,
        closed=pattern_of(closed, ()) if closed else "",
        closed_line=closed,
        content_begin=begin,
        content_done=done,
    )


def pattern_of(line: str, ports: Sequence[int]) -> str:
    """A pattern for a line in any run: without its time, with its port as a group and other numbers as any."""
    text = line[_TIME.match(line).end() :] if _TIME.match(line) else line  # type: ignore[union-attr]
    pattern = re.escape(text.strip()).replace(r"\ ", " ").replace(r"\-", "-").replace("'", ".")
    for port in ports:
        pattern = re.sub(rf"(?<!\d){port}(?!\d)", r"(?P<port>\\d+)", pattern, count=1)
    return re.sub(r"(?<![\\\w{])\d+(?:\\\.\d+)*", lambda _match: r"[\d.]+", pattern)


def _last(lines: Sequence[str], sign: "re.Pattern[str]", rank: object) -> str:
    """The last line with a sign, of those that rank highest."""
    assert callable(rank)
    found = [line for line in lines if sign.search(line)]
    best = max((rank(line) for line in found), default=0)
    return next((line for line in reversed(found) if rank(line) == best), "")


def _with_content(lines: Sequence[str], sign: "re.Pattern[str]", content: Sequence[str]) -> str:
    """A pattern for lines with a sign and the id of a piece of content; "" where there are none."""
    for name in content:
        for line in lines:
            if sign.search(line) and re.search(rf"(?<![\w-]){re.escape(name)}(?![\w-])", line):
                head, _, tail = pattern_of(line, ()).partition(re.escape(name).replace(r"\-", "-"))
                return f"{head}(?P<id>[\\w.-]+){tail}"
    return ""
