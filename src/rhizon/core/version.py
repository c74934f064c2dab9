"""Versions and ranges of versions.

Order: Semantic Versioning 2.0.0 section 11, extended to any number of dotted fields (missing fields are
0), with an optional word before the first field (``v3``, ``r12``, ``build 20417``), which changes no order. A date
(``2024-11-03``) and a year with a letter (``2024-b``, the second of 2024) are numbers too, not previews of the year.
The build part orders versions that are otherwise the same, so that sorting is total; a range looks at it only where
the range names one.
"""

import functools
import re
from typing import Any, NamedTuple

__all__ = ["Comparator", "Version", "VersionRange", "holds", "numbered", "parse_range", "parse_version"]

LONGEST = 64
_PREVIEWS = "alpha|beta|rc|pre|preview|dev|snapshot|nightly|draft|test"  # a version of these has no release before it
_WORD = rf"(?:(?!(?i:{_PREVIEWS})[^A-Za-z])[A-Za-z]+[ ._-]?)?"
_VERSION = re.compile(
    rf"{_WORD}(?P<release>\d+(?:\.\d+)*)"
    r"(?:-(?P<pre>[0-9A-Za-z][0-9A-Za-z.-]*)|(?P<glued>[A-Za-z][0-9A-Za-z.-]*))?"
    r"(?:\+(?P<build>[0-9A-Za-z][0-9A-Za-z.-]*))?"
)
_DATE = re.compile(_WORD + r"(?P<year>\d{4})-(?P<month>\d\d?)-(?P<day>\d\d?)(?:\+[0-9A-Za-z.-]+)?")
_SEASON = re.compile(_WORD + r"(?P<year>(?:19|20)\d\d)-(?P<letter>[A-Za-z])(?:\+[0-9A-Za-z.-]+)?")
_NAME = re.compile(r"[A-Za-z]+(?:[ _-][A-Za-z]+)?")
_COMPARATOR = re.compile(r"(?P<op>>=|<=|!=|>|<|=)?\s*(?P<version>\S+(?: \S+)?)")

# Any: numbers and words mix, and are never compared with each other
_Key = tuple[Any, ...]


def _identifiers(text: str) -> tuple[tuple[int, int, str], ...]:
    """SemVer 11.4: numbers in number order and before words, words in ASCII order."""
    return tuple((0, int(part), "") if part.isdecimal() else (1, 0, part) for part in re.split(r"[.-]", text))


@functools.total_ordering
class Version:
    """An immutable version; equal and hashed by its order, not by its spelling."""

    __slots__ = ("build", "key", "pre", "text")

    def __init__(self, text: str) -> None:
        match = _VERSION.fullmatch(text) if len(text) <= LONGEST else None
        if match is None:
            raise ValueError(f"a version is dotted numbers with an optional -preview and +build part, not {text!r}")
        words = match["pre"] or match["glued"]
        numbers = [int(field) for field in match["release"].split(".")]
        if match["pre"] is not None and (date := _DATE.fullmatch(text) or _SEASON.fullmatch(text)) is not None:
            numbers, words = _of_date(date.groupdict()), None
        while len(numbers) > 1 and numbers[-1] == 0:
            numbers.pop()
        self.text = text
        self.pre = words is not None
        self.key: _Key = (tuple(numbers), (0, _identifiers(words)) if words is not None else (1,))
        self.build = _identifiers(match["build"]) if match["build"] is not None else ()

    @property
    def order(self) -> _Key:
        """The key with the build part."""
        return (*self.key, self.build)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Version) and self.order == other.order

    def __lt__(self, other: "Version") -> bool:
        return self.order < other.order

    def __hash__(self) -> int:
        return hash(self.order)

    def __str__(self) -> str:
        return self.text

    def __repr__(self) -> str:
        return f"Version({self.text!r})"


def _of_date(said: dict[str, str]) -> list[int]:
    """The numbers of a date, or of a year with a letter (a is 1)."""
    if "letter" in said:
        return [int(said["year"]), ord(said["letter"].lower()) - ord("a") + 1]
    return [int(said["year"]), int(said["month"]), int(said["day"])]


class Comparator(NamedTuple):
    """One comparison of a range; ``op`` is one of ``>= <= > < = !=``."""

    op: str
    version: Version

    def admits(self, version: Version) -> bool:
        """Whether a version is within."""
        own, other = self.version, version
        if self.op == "<" and not own.pre and other.pre and other.key[0] == own.key[0]:
            return False  # "<2" is never meant to let 2-preview in
        left, right = (other.order, own.order) if own.build else (other.key, own.key)
        order = (left > right) - (left < right)
        return holds(self.op, order)


_NAMED = (-1,)


def _bound(text: str) -> Version:
    """The version of a comparison. A name without a number, as games have, is one too: a game's own list says where it
    stands; elsewhere it is older than every version. Raises ValueError."""
    if not _NAME.fullmatch(text):
        return parse_version(text)
    found = Version("0")
    found.text, found.key, found.pre = text, (_NAMED, (0, _identifiers(text.lower()))), True
    return found


def numbered(wanted: "VersionRange") -> "VersionRange":
    """The same range. ValueError where it names a version without a number, which only games have."""
    for one in wanted.comparators:
        if one.version.key[0] == _NAMED:
            raise ValueError(f"a range is like '>=1.2, <2', '1.4' or '*', not {wanted.text!r}")
    return wanted


def holds(op: str, order: int) -> bool:
    """Whether a comparison holds; ``order`` is negative, 0 or positive for a version that is older, equal or newer."""
    return {
        ">=": order >= 0, "<=": order <= 0, ">": order > 0, "<": order < 0, "=": order == 0, "!=": order != 0,
    }[op]  # fmt: skip


class VersionRange:
    """Comma-joined comparators that must all hold; ``*`` admits everything."""

    __slots__ = ("_hash", "comparators", "text")

    def __init__(self, text: str) -> None:
        self.text = text
        self.comparators: tuple[Comparator, ...] = ()
        self._hash = 0
        if text.strip() == "*":
            return
        found = []
        for part in text.split(","):
            match = _COMPARATOR.fullmatch(part.strip())
            if match is None:
                raise ValueError(f"a range is like '>=1.2, <2', '1.4' or '*', not {text!r}")
            found.append(Comparator(match["op"] or "=", _bound(match["version"])))
        self.comparators = tuple(found)
        self._hash = hash(self.comparators)

    def admits(self, version: Version) -> bool:
        """Whether a version is within."""
        return all(one.admits(version) for one in self.comparators)

    @property
    def open(self) -> bool:
        """True for ``*``."""
        return not self.comparators

    def __eq__(self, other: object) -> bool:
        return isinstance(other, VersionRange) and self.comparators == other.comparators

    def __hash__(self) -> int:
        return self._hash

    def __str__(self) -> str:
        return self.text

    def __repr__(self) -> str:
        return f"VersionRange({self.text!r})"


@functools.lru_cache(maxsize=65536)
def parse_version(text: str) -> Version:
    """The version that ``text`` spells; raises ValueError with what would be right."""
    return Version(text)


@functools.lru_cache(maxsize=65536)
def parse_range(text: str) -> "VersionRange":
    """The range that ``text`` spells; raises ValueError with what would be right."""
    return VersionRange(text)
