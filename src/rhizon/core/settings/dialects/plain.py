"""Files of plain lines, with ``#`` comments: one name a line, or one argument of a command line a line."""

import re
from collections.abc import Mapping

from rhizon.core.settings.dialects.spans import Found, NotWritableError, Scalar, SpanDialect, line_end

__all__ = ["Arguments", "Lines", "argument_list"]

_REMARK = re.compile(r"(?<=\s)#")
_JOINED = re.compile(r"(?P<key>[-+/]\S*?=)(?P<value>.*)")
_APART = re.compile(r"(?P<key>[-+/]\S*)(?:[ \t]+(?P<value>.*))?")


class Lines(SpanDialect):
    """A key is a whole line, but for a remark behind it (`` #``): it is there, or it is not."""

    def find(self, text: str) -> dict[str, Found]:
        """Every line, or argument, with its place."""
        found: dict[str, Found] = {}
        for begin, end, line in _lines(text):
            name = _REMARK.split(line, maxsplit=1)[0].rstrip()
            found.setdefault(name, Found(self.spell(True), begin, begin, (begin, end)))
        return found

    def write(self, value: Scalar, old: str | None) -> str:  # noqa: ARG002 - the line says it already
        """The line as it is written. Raises NotWritableError for a value that a line cannot have."""
        raise NotWritableError("a line exists or not; it has no value")

    def add(self, text: str, key: str, value: Scalar) -> str:
        """A new line at the end. Raises NotWritableError."""
        if (
            value is not True
            or key.startswith("#")
            or not key.strip()
            or len(key.splitlines()) > 1
            or _REMARK.search(key)
        ):
            raise NotWritableError(f"{key!r} cannot be a line of this file")
        return _with_line(text, key)


class Arguments(SpanDialect):
    """One argument a line. ``--name=`` as a key is an argument that holds its value, ``--name`` one that has it as the
    next (on the same line here), or one that only is there or not. The server gets them in the order of the file."""

    def find(self, text: str) -> dict[str, Found]:
        """Every line, or argument, with its place."""
        found: dict[str, Found] = {}
        for begin, end, line in _lines(text):
            match = _JOINED.fullmatch(line) or _APART.fullmatch(line)
            if match is None:
                continue  # an argument without a name: it stays where it is
            at = text.index(line, begin)
            value = self.spell(True) if match["value"] is None else match["value"]
            found.setdefault(match["key"], Found(value, at, at + len(line), (begin, end)))
        return found

    def write(self, value: Scalar, old: str | None) -> str:
        """The line as it is written. Raises NotWritableError for a value that a line cannot have."""
        text = self.spell(value)
        if len(text.splitlines()) > 1:
            raise NotWritableError("an argument is one line")
        if old is None:
            return text
        match = _JOINED.fullmatch(old)
        if match is not None:
            return match["key"] + text
        match = _APART.fullmatch(old)
        assert match is not None
        return (old[: match.start("value")] if match["value"] else f"{match['key']} ") + text

    def add(self, text: str, key: str, value: Scalar) -> str:
        """A new line at the end. Raises NotWritableError."""
        if key.endswith("="):
            return _with_line(text, key + self.write(value, None))
        return _with_line(text, key if value is True else f"{key} {self.write(value, None)}")

    def edit(self, data: bytes, changes: Mapping[str, Scalar | None]) -> bytes:
        """The file with the changes. Raises NotWritableError."""
        # of a name apart from its value neither no nor an empty text can be said but by its absence
        gone = {key: None for key, value in changes.items() if value in (False, "") and not key.endswith("=")}
        return super().edit(data, {**changes, **gone})


def argument_list(data: bytes) -> tuple[str, ...]:
    """The arguments that such a file stands for, in its order."""
    made: list[str] = []
    for _, _, line in _lines(data.decode("utf-8", "surrogateescape")):
        match = None if _JOINED.fullmatch(line) else _APART.fullmatch(line)
        made += [line] if match is None or match["value"] is None else [match["key"], match["value"]]
    return tuple(made)


def _lines(text: str) -> list[tuple[int, int, str]]:
    """Where each line begins and ends, and what it says, comments and empty ones left out."""
    found = []
    at = 0
    for line in text.splitlines(keepends=True):
        said = line.strip()
        if said and not said.startswith("#"):
            found.append((at, at + len(line), said))
        at += len(line)
    return found


def _with_line(text: str, line: str) -> str:
    end = line_end(text)
    return f"{text}{'' if not text or text.endswith(chr(10)) else end}{line}{end}"
