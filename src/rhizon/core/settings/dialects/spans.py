"""Editing a file by replacing just the spans of the values that change: every other byte stays.

A dialect says where values stand (``find``), how a value is written (``write``) and where a new one goes (``add``).
"""

import abc
import codecs
import functools
from collections.abc import Callable, Mapping
from typing import NamedTuple

__all__ = ["Found", "Scalar", "SpanDialect", "decoded", "line_end"]

Scalar = str | int | bool

_MARKS = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)


class Found(NamedTuple):
    """A value: what it means, where it is written (``text[start:end]``), and what goes with it when it is taken out."""

    value: str
    start: int
    end: int
    whole: tuple[int, int]


def decoded(data: bytes) -> tuple[str, Callable[[str], bytes]]:
    """The text of a file and how to write it again: by its byte order mark, else UTF-8; bytes that are not survive."""
    for mark, name in _MARKS:
        if data.startswith(mark):
            return data[len(mark) :].decode(name), functools.partial(_encoded, mark, name)
    return data.decode("utf-8", "surrogateescape"), lambda text: text.encode("utf-8", "surrogateescape")


def line_end(text: str) -> str:
    """The line end that a file uses."""
    return "\r\n" if "\r\n" in text else "\n"


def _encoded(mark: bytes, name: str, text: str) -> bytes:
    return mark + text.encode(name)


class SpanDialect(abc.ABC):
    """What the dialects of this kind share."""

    @abc.abstractmethod
    def find(self, text: str) -> dict[str, Found]:
        """Every value by its key. Raises ValueError with the line that is wrong."""

    @abc.abstractmethod
    def write(self, value: Scalar, old: str | None) -> str:
        """``value`` as it is written; ``old`` is what stands there now (None: nothing does), whose form is kept."""

    @abc.abstractmethod
    def add(self, text: str, key: str, value: Scalar) -> str:
        """``text`` with a key that is not there yet. Raises ValueError where it cannot be put."""

    def spell(self, value: Scalar) -> str:
        """``value`` as :meth:`read` gives it."""
        return {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)

    def decoded(self, data: bytes) -> tuple[str, Callable[[str], bytes]]:
        """The text of a file and how to write it again. Raises ValueError."""
        return decoded(data)

    def read(self, data: bytes) -> dict[str, str]:
        text, _ = self.decoded(data)
        return {key: one.value for key, one in self.find(text).items()}

    def edit(self, data: bytes, changes: Mapping[str, Scalar | None]) -> bytes:
        text, encode = self.decoded(data)
        found = self.find(text)
        there = {key: found[key] for key in changes if key in found}
        wanted = {
            key: value
            for key, value in changes.items()
            if (value is None and key in there)
            or (value is not None and (key not in there or there[key].value != self.spell(value)))
        }
        # from the back, so that what stands before keeps its place
        lowest = len(text)
        for key in sorted(wanted.keys() & there.keys(), key=lambda one: -there[one].start):
            one, value = there[key], wanted[key]
            if one.start > lowest:
                continue  # it has gone with another
            if value is None or one.end > lowest or one.start == lowest:
                # what goes with a value depends on what is left behind it, and one may hold others that were edited
                again = [other for other in self.find(text).values() if other.start == one.start]
                if not again:
                    continue
                one = again[0]
            put = "" if value is None else self.write(value, text[one.start : one.end])
            start, end = one.whole if value is None else (one.start, one.end)
            text = text[:start] + put + text[end:]
            lowest = start
        for key, value in wanted.items():
            if key not in there and value is not None:
                text = self.add(text, key, value)
        return encode(text) if wanted else data
