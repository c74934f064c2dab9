"""Ranges in other notations, as ours."""

import re

from rhizon.core.archives.spelling import read_version, with_read_versions
from rhizon.core.model.metadata import RangeNotation
from rhizon.core.version import VersionRange, parse_range

__all__ = ["read_range"]

_INTERVAL = re.compile(r"([\[(])\s*([^,\[\]()]*?)\s*(?:(,)\s*([^,\[\]()]*?)\s*)?([\])])")


def read_range(text: str, notation: RangeNotation) -> VersionRange:
    """A range as an author wrote it. "interval" is the mathematical one (``[1.2,2)``, a bare version is an exact one);
    "minimum" is a version that is the least; "wildcard" ends in ``.x`` or ``.*`` where anything will do.

    Raises ValueError with what would be right.
    """
    text = text.strip()
    if not text or text == "*":
        return parse_range("*")
    match notation:
        case "interval":
            return with_read_versions(_interval(text))
        case "minimum":
            return parse_range(f">={read_version(text)}")
        case "wildcard":
            return with_read_versions(_wildcard(text))
        case _:
            return with_read_versions(text)


def _interval(text: str) -> str:
    """A range in interval notation, such as ``[1.2,2)``, as comparators. Raises ValueError."""
    if text[0] not in "[(":
        return text
    match = _INTERVAL.fullmatch(text)
    if match is None:
        raise ValueError(f"a range in interval notation is like '[1.2,2)', not {text!r}")
    opening, low, comma, high, closing = match.groups()
    if not comma:
        return low
    bounds = [f"{'>=' if opening == '[' else '>'}{low}"] if low else []
    bounds += [f"{'<=' if closing == ']' else '<'}{high}"] if high else []
    return ", ".join(bounds) or "*"


def _wildcard(text: str) -> str:
    head, dot, tail = text.rpartition(".")
    if tail not in ("x", "*") or not dot:
        return text
    *front, last = head.split(".")
    if not last.isdecimal():
        raise ValueError(f"a range with a wildcard is like '1.2.x', not {text!r}")
    return f">={head}, <{'.'.join((*front, str(int(last) + 1)))}"
