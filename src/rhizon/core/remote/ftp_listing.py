"""What FTP servers answer to LIST, in the forms that are in use, and times as RFC 3659 writes them."""

import re
from datetime import UTC, datetime
from typing import Literal, NamedTuple

__all__ = ["ListedEntry", "parse_list_line", "parse_time"]

# As `ls -l` prints it. Months are in any language, days before or after them, the group is sometimes left out: a date
# ends with the first clock time or year.
_UNIX = re.compile(
    r"(?P<type>[-dlbcps])\S{9,11}\s+(?:\d+\s+)?\S+\s+(?:\S+\s+)?(?P<size>\d+)\s+"
    r"(?=\S*[^\W\d]|\d{4}-|\d{1,2}[./]|\d{1,2}\s)\S.*?\s(?:\d{1,2}:\d{2}(?::\d{2})?|\d{4})\s(?P<name>.+)"
)
# As `dir` prints it.
_DOS = re.compile(r"\d{2}-\d{2}-\d{2,4}\s+\d{2}:\d{2}(?:[AP]M)?\s+(?P<size><DIR>|\d+)\s(?P<pad>\s*)(?P<name>.+)")


class ListedEntry(NamedTuple):
    """A name in a folder, what it is, its size in bytes, and its time in seconds since 1970 (0: not said)."""

    name: str
    kind: Literal["file", "folder", "other"]
    size: int
    mtime: int = 0


def parse_list_line(line: str) -> ListedEntry | None:
    """One line; None for one that is no entry. Its time is left out: it has no zone, and often no year."""
    match = _UNIX.fullmatch(line)
    if match is not None:
        kind: Literal["file", "folder", "other"] = "other"
        if match["type"] in "-d":
            kind = "folder" if match["type"] == "d" else "file"
        return ListedEntry(match["name"], kind, int(match["size"]))
    match = _DOS.fullmatch(line)
    if match is None:
        return None
    if match["size"] == "<DIR>":
        return ListedEntry(match["name"], "folder", 0)
    return ListedEntry(match["pad"] + match["name"], "file", int(match["size"]))


def parse_time(text: str) -> int:
    """A time of RFC 3659 (``20261128202700``, UTC), in seconds since 1970; 0 where it is none."""
    match = re.match(r"(\d{14})", text)
    if match is None:
        return 0
    try:
        return int(datetime.strptime(match[1], "%Y%m%d%H%M%S").replace(tzinfo=UTC).timestamp())
    except ValueError:
        return 0
