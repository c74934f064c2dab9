"""Editing a file by replacing just the spans of the values that change: every other byte stays.

A dialect says where values are (``find``), how a value is written (``write``) and where a new one goes (``add``).
"""

import abc
import codecs
import functools
from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

from rhizon.core.text_limits import Language, bounded

__all__ = [
    "Found",
    "NotWritableError",
    "Scalar",
    "SpanDialect",
    "decoded",
    "elements_checked",
    "line_end",
    "verify_edit",
]

Scalar = str | int | bool

LOOKED_AT = 1 << 16  # characters; a look at the result costs as much as the edit, and a larger file has to be quick
_MARKS = (
    (codecs.BOM_UTF8, "utf-8"),
    (codecs.BOM_UTF16_LE, "utf-16-le"),
    (codecs.BOM_UTF16_BE, "utf-16-be"),
)


class NotWritableError(ValueError):
    """The file is as it should be, and this edit cannot be put into it."""


class Found(NamedTuple):
    """A value: what it means, where it is written (``text[start:end]``), and what goes with it when it is taken out
    (None: it shares what it stands in, and cannot be)."""

    value: str
    start: int
    end: int
    whole: tuple[int, int] | None


def decoded(data: bytes, language: Language = "properties") -> tuple[str, Callable[[str], bytes]]:
    """The text of a file and how to write it again: by its byte order mark, else UTF-8; bytes that are not survive.
    Raises ValueError for text beyond the limits of its language (:mod:`rhizon.core.text_limits`)."""
    for mark, name in _MARKS:
        if data.startswith(mark):
            text = data[len(mark) :].decode(name)
            bounded(text, language)
            return text, functools.partial(_encoded, mark, name)
    text = data.decode("utf-8", "surrogateescape")
    bounded(text, language)
    return text, lambda text: text.encode("utf-8", "surrogateescape")


def elements_checked(changes: Mapping[str, Scalar | None]) -> None:
    """:class:`NotWritableError` for a text of a list that is given a value of its own: it is there or not."""
    for key, value in changes.items():
        if key.endswith("]") and "/[" in key and value is not None and value is not True and value != "true":
            raise NotWritableError(f"{key}: a text is in a list or not; it has no value")


def verify_edit(
    before: Mapping[str, str],
    after: Mapping[str, str],
    changes: Mapping[str, Scalar | None],
    spell: Callable[[Scalar], str],
) -> None:
    """:class:`NotWritableError` where an edited file does not say what it should: the changes, and all else as before.

    What stood below a key that was taken out goes with it, nothing may become something with keys of its own, and an
    empty text may be said by saying nothing.
    """
    gone = tuple(f"{key}/" for key, value in changes.items() if value is None)
    ways = {key[:at] for key in changes for at, sign in enumerate(key) if sign == "/"}
    for key, value in changes.items():
        if key in after if value is None else after.get(key, "") != spell(value):
            raise NotWritableError(f"{key} cannot be written into this layout")
    for key, text in before.items():
        grown = text == "" and key in ways
        if key not in changes and not key.startswith(gone) and not grown and after.get(key) != text:
            raise NotWritableError(f"{', '.join(changes)} cannot be written without changing {key}")


def line_end(text: str) -> str:
    """The line end that a file uses."""
    return "\r\n" if "\r\n" in text else "\n"


def _encoded(mark: bytes, name: str, text: str) -> bytes:
    return mark + text.encode(name)


def _span(one: Found) -> tuple[int, int]:
    """What is moved with an element: its text, or the line that it is."""
    if one.start < one.end:
        return one.start, one.end
    if one.whole is None:
        raise NotWritableError("it shares its line with something else")
    return one.whole


class SpanDialect(abc.ABC):
    """What the dialects of this kind share. With ``aliases`` several keys may lead to one place."""

    aliases = False
    language: Language = "properties"

    @abc.abstractmethod
    def find(self, text: str) -> dict[str, Found]:
        """Every value by its key. Raises ValueError with the line that is wrong."""

    @abc.abstractmethod
    def write(self, value: Scalar, old: str | None) -> str:
        """``value`` as it is written; ``old`` is what is there now (None: nothing does), whose form is kept."""

    @abc.abstractmethod
    def add(self, text: str, key: str, value: Scalar) -> str:
        """``text`` with a key that is not there yet. Raises ValueError where it cannot be put."""

    def spell(self, value: Scalar) -> str:
        """``value`` as :meth:`read` gives it."""
        return {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)

    def decoded(self, data: bytes) -> tuple[str, Callable[[str], bytes]]:
        """The text of a file and how to write it again. Raises ValueError."""
        return decoded(data, self.language)

    def read(self, data: bytes) -> dict[str, str]:
        """All values by key; of a key that is there twice the first. Raises ValueError."""
        text, _ = self.decoded(data)
        return {key: one.value for key, one in self.find(text).items()}

    def edit(self, data: bytes, changes: Mapping[str, Scalar | None]) -> bytes:
        """The file with the changes in place (None removes a key), all else byte for byte. Raises NotWritableError,
        ValueError."""
        text, encode = self.decoded(data)
        made = self._edited(text, changes)
        gone = [key for key, value in changes.items() if value is None]
        before = text
        while made != before and gone:  # what is there several times is not to come to light behind the first
            before, made = made, self._edited(made, dict.fromkeys(gone))
        if made == text:
            return data
        after = encode(made)
        if len(text) < LOOKED_AT:
            try:
                said = self.read(after)
            except ValueError as broken:
                raise NotWritableError(f"{', '.join(changes)} would break it: {broken}") from None
            verify_edit({} if self.aliases else self.read(data), said, changes, self.spell)
        return after

    def permuted(self, data: bytes, keys: Sequence[str]) -> bytes:
        """The file with some of its elements in another order: where they are, and all else, stays. Raises
        NotWritableError, ValueError."""
        text, encode = self.decoded(data)
        if text and not text.endswith("\n"):
            text += line_end(text)
        found = self.find(text)
        spans = {key: _span(found[key]) for key in keys if key in found}
        places = sorted(spans.values())
        parts, at = [], 0
        for (start, end), key in zip(places, spans, strict=True):
            own = spans[key]
            parts += [text[at:start], text[own[0] : own[1]]]
            at = end
        made = encode("".join(parts) + text[at:])
        verify_edit(self.read(data), self.read(made), {}, self.spell)
        return made

    def _edited(self, text: str, changes: Mapping[str, Scalar | None]) -> str:
        """The text with every change made in its span, from the back."""
        found = self.find(text)
        there = {key: found[key] for key in changes if key in found}
        wanted = {
            key: value
            for key, value in changes.items()
            if (value is None and key in there)
            or (value is not None and (key not in there or there[key].value != self.spell(value)))
        }
        # from the back, so that what is before keeps its place
        lowest = len(text)
        for key in sorted(wanted.keys() & there.keys(), key=lambda one: -there[one].start):
            one, value = there[key], wanted[key]
            if one.start > lowest:
                continue  # it has gone with another
            if value is None or one.end > lowest or one.start == lowest:
                # what goes with a value depends on what is left behind it, and one may hold others that were edited
                now = self.find(text)
                known = now.get(key)
                if known is None or known.start != one.start:  # it has another key now: elements are counted
                    known = next((other for other in now.values() if other.start == one.start), None)
                if known is None:
                    continue
                one = known
            put = "" if value is None else self.write(value, text[one.start : one.end])
            span = one.whole if value is None else (one.start, one.end)
            if span is None:
                raise NotWritableError(f"{key} shares its line with something else and cannot be removed alone")
            text = text[: span[0]] + put + text[span[1] :]
            lowest = span[0]
        for key, value in wanted.items():
            if key in there or value is None:
                continue
            if self.aliases and key in self.find(text):  # it has just come with another way to it
                text = self._edited(text, {key: value})
            else:
                text = self.add(text, key, value)
        return text
