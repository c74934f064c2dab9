"""What goes around a dialect: the encoding that a file has, and elements of a list that are named by a field.

A file's dialect may be given with its encoding: ``ini@latin-1``. In the dialects of nested values, an element of a list
of objects may be named by one of its fields: ``doors/[name=front]/width`` is the width in the first element whose
``name`` is ``front``.
"""

import codecs
import re
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from rhizon.core.settings.dialects.spans import NotWritableError, Scalar, SpanDialect

__all__ = ["ByField", "Encoded", "Selected", "resolved"]

_CHOSEN = re.compile(r"\[(?P<field>[^\[\]=/]+)=(?P<value>[^\[\]/]*)\]")


class Selected(dict[str, str]):
    """Values by key, where a key may name an element by a field. Iteration has the numbered keys only."""

    def __missing__(self, key: str) -> str:
        real = resolved(key, self)
        if real == key or not dict.__contains__(self, real):
            raise KeyError(key)
        return dict.__getitem__(self, real)

    def __contains__(self, key: object) -> bool:
        return dict.__contains__(self, key) or (
            isinstance(key, str) and "=" in key and dict.__contains__(self, resolved(key, self))
        )

    def get(self, key: str, default: Any = None) -> Any:
        """The value of a key, or the default."""
        try:
            return self[key]
        except KeyError:
            return default


def resolved(key: str, values: Mapping[str, str]) -> str:
    """The key with numbers in place of fields; the key itself where no element is so, or it names none."""
    while (match := _CHOSEN.search(key)) is not None:
        head, tail = key[: match.start()], key[match.end() :]
        ending = f"/{match['field']}"
        number = next(
            (
                one[len(head) : -len(ending)]
                for one, value in values.items()
                if one.startswith(head)
                and one.endswith(ending)
                and one[len(head) : -len(ending)].isdecimal()
                and value == match["value"]
            ),
            None,
        )
        if number is None:
            return key
        key = f"{head}{number}{tail}"
    return key


class ByField:
    """A dialect of nested values whose keys may name an element of a list by a field."""

    def __init__(self, inner: Any) -> None:
        self._inner = inner
        self.spell: Callable[[Scalar], str] = inner.spell

    def read(self, data: bytes) -> dict[str, str]:
        """Keys to values. Raises ValueError with the line that is wrong."""
        return Selected(self._inner.read(data))

    def edit(self, data: bytes, changes: Mapping[str, Scalar | None]) -> bytes:
        """The file with the changes. Raises NotWritableError, ValueError."""
        return bytes(self._inner.edit(data, self._numbered(data, changes)))

    def permuted(self, data: bytes, keys: Sequence[str]) -> bytes:
        """The file with elements in another order. Raises NotWritableError, ValueError."""
        if not isinstance(self._inner, SpanDialect):
            raise NotWritableError("the order of this file's elements is not changed")
        return self._inner.permuted(data, keys)

    def find(self, text: str) -> Any:
        """As the dialect itself."""
        return self._inner.find(text)

    def _numbered(self, data: bytes, changes: Mapping[str, Scalar | None]) -> Mapping[str, Scalar | None]:
        if not any("=" in key and _CHOSEN.search(key) for key in changes):
            return changes
        values = self._inner.read(data)
        made: dict[str, Scalar | None] = {}
        for key, value in changes.items():
            real = resolved(key, values)
            match = _CHOSEN.search(real)
            if match is not None and value is not None:
                raise NotWritableError(f"{key}: no element there has {match['field']} = {match['value']}")
            if match is None:
                made[real] = value
        return made


class Encoded:
    """A dialect in another encoding than UTF-8."""

    def __init__(self, inner: Any, encoding: str) -> None:
        self._inner = inner
        self._encoding = codecs.lookup(encoding).name
        self.spell: Callable[[Scalar], str] = inner.spell

    def read(self, data: bytes) -> dict[str, str]:
        """Keys to values. Raises ValueError, also for bytes that the encoding does not have."""
        found: dict[str, str] = self._inner.read(self._as_utf8(data))
        return found

    def edit(self, data: bytes, changes: Mapping[str, Scalar | None]) -> bytes:
        """The file with the changes. Raises NotWritableError for a letter that the encoding does not have."""
        return self._written(self._inner.edit(self._as_utf8(data), changes))

    def permuted(self, data: bytes, keys: Sequence[str]) -> bytes:
        """The file with elements in another order. Raises NotWritableError, ValueError."""
        return self._written(self._inner.permuted(self._as_utf8(data), keys))

    def _as_utf8(self, data: bytes) -> bytes:
        return data.decode(self._encoding).encode("utf-8")

    def _written(self, data: bytes) -> bytes:
        try:
            return data.decode("utf-8").encode(self._encoding)
        except UnicodeEncodeError as wrong:
            letters = wrong.object[wrong.start : wrong.end]
            raise NotWritableError(f"{self._encoding} has no {letters!r}") from None
