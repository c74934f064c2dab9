"""Files with variables that a server is started with: ``NAME=value`` a line, with ``#`` comments.

A value is everything behind the ``=``, without quotes. Rhizon's start scripts read the same file.
"""

import re

from rhizon.core.argument_keys import VARIABLE
from rhizon.core.settings.dialects.plain import with_line
from rhizon.core.settings.dialects.spans import Found, NotWritableError, Scalar, SpanDialect

__all__ = ["Environment", "variables_of"]

_LINE = re.compile(rf"^(?P<name>{VARIABLE.pattern})=(?P<value>[^\r\n]*)(?:\r?\n|\r?\Z)", re.MULTILINE)


class Environment(SpanDialect):
    """A key is the name of a variable; of one that is there twice the last counts, as it does for the server."""

    def find(self, text: str) -> dict[str, Found]:
        """Every variable with its place."""
        return {
            one["name"]: Found(one["value"], one.start("value"), one.end("value"), one.span())
            for one in _LINE.finditer(text)
        }

    def write(self, value: Scalar, old: str | None) -> str:  # noqa: ARG002 - there is one form
        """The value. Raises NotWritableError for one that a line cannot have."""
        text = self.spell(value)
        if re.search(r"[\r\n\0]", text):
            raise NotWritableError("the value of a variable is one line")
        return text

    def add(self, text: str, key: str, value: Scalar) -> str:
        """A new line at the end. Raises NotWritableError."""
        if VARIABLE.fullmatch(key) is None:
            raise NotWritableError(f"{key!r} is not the name of a variable")
        return with_line(text, f"{key}={self.write(value, None)}")


def variables_of(data: bytes) -> dict[str, str]:
    """The variables of such a file. Raises ValueError."""
    return Environment().read(data)
