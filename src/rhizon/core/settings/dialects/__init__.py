"""How native settings files are written.

Every dialect reads values by key and edits them in place: comments, order and layout stay. An edit is read back, and
refused where anything else would change. A new dialect is one new file and one line in ``DIALECTS``; the contract tests
run over the whole table.
"""

import functools
from collections.abc import Mapping
from typing import Protocol

from rhizon.core.settings.dialects import (
    arguments,
    environment,
    ini,
    json,
    jsonc,
    lua,
    plain,
    properties,
    toml,
    xml,
    yaml,
)
from rhizon.core.settings.dialects.spans import Scalar
from rhizon.core.settings.dialects.written import ByField, Encoded

__all__ = ["DIALECTS", "Dialect", "Scalar", "dialect_of"]


class Dialect(Protocol):
    """Reads and edits one kind of file; what an edit does not name keeps every byte."""

    def spell(self, value: Scalar, /) -> str:
        """A value as :meth:`read` gives it."""

    def read(self, data: bytes) -> dict[str, str]:
        """Keys to values. Raises ValueError with the line that is wrong."""

    def edit(self, data: bytes, changes: Mapping[str, Scalar | None]) -> bytes:
        """``data`` with the keys set; keys that are not there are added, a key for None is taken out. A value that is
        there keeps its form (a number stays a number, quotes stay). Raises ValueError."""


class _Dialects(dict[str, Dialect]):
    """Dialects by name; ``ini@latin-1`` is one in another encoding than UTF-8."""

    def __missing__(self, name: str) -> Dialect:
        base, _, encoding = name.partition("@")
        if not encoding or base not in self:
            raise KeyError(name)
        return _encoded(base, encoding)


DIALECTS: dict[str, Dialect] = _Dialects(
    {
        "properties": properties.Properties(),
        "ini": ini.Ini(),
        "json": ByField(json.Json()),
        "jsonc": ByField(jsonc.JsonWithComments()),
        "lua": ByField(lua.LuaTables()),
        "toml": ByField(toml.Toml()),
        "yaml": ByField(yaml.Yaml()),
        "xml": xml.Xml(),
        "semicolon": ini.Semicolon(),
        "lines": plain.Lines(),
        "arguments": arguments.Arguments(),
        "environment": environment.Environment(),
    }
)
_ENDINGS = {"properties": "properties", "ini": "ini", "json": "json", "jsonc": "jsonc", "toml": "toml",
            "yaml": "yaml", "yml": "yaml", "xml": "xml"}  # fmt: skip


def dialect_of(path: str) -> Dialect | None:
    """The dialect of a file that no setting names, by its ending."""
    name = _ENDINGS.get(path.rpartition(".")[2].lower())
    return DIALECTS[name] if name is not None else None


@functools.lru_cache(maxsize=64)
def _encoded(base: str, encoding: str) -> Dialect:
    return Encoded(DIALECTS[base], encoding)
