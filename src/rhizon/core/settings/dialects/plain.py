"""Files of plain lines, with ``#`` comments: one name a line."""

import re

from rhizon.core.settings.dialects.spans import Found, NotWritableError, Scalar, SpanDialect, line_end

__all__ = ["Lines", "said_lines", "with_line"]

_REMARK = re.compile(r"(?<=\s)#")


class Lines(SpanDialect):
    """A key is a whole line, but for a remark behind it (`` #``): it is there, or it is not."""

    def find(self, text: str) -> dict[str, Found]:
        """Every line with its place."""
        found: dict[str, Found] = {}
        for begin, end, line in said_lines(text):
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
        return with_line(text, key)


def said_lines(text: str) -> list[tuple[int, int, str]]:
    """Where each line begins and ends, and what it says, comments and empty ones left out."""
    found = []
    at = 0
    for line in text.splitlines(keepends=True):
        said = line.strip()
        if said and not said.startswith("#"):
            found.append((at, at + len(line), said))
        at += len(line)
    return found


def with_line(text: str, line: str) -> str:
    """``text`` with a line at its end."""
    end = line_end(text)
    return f"{text}{'' if not text or text.endswith(chr(10)) else end}{line}{end}"
