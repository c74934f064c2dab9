"""How native settings files are written. A new dialect is one new file and one line in ``DIALECTS``."""

from collections.abc import Mapping
from typing import Protocol

from rhizon.core.settings.dialects import properties

__all__ = ["DIALECTS", "Dialect", "dialect_of"]


class Dialect(Protocol):
    """Reads and edits one kind of file; what an edit does not name keeps every byte."""

    def read(self, data: bytes) -> dict[str, str]:
        """Keys to values. Raises ValueError with the line that is wrong."""

    def edit(self, data: bytes, changes: Mapping[str, str | None]) -> bytes:
        """``data`` with the keys set; keys that are not there are added at the end, a key for None is taken out."""


DIALECTS: dict[str, Dialect] = {"properties": properties.Properties()}


def dialect_of(path: str) -> Dialect | None:
    """The dialect of a file that no setting names, by its ending."""
    return DIALECTS.get(path.rpartition(".")[2].lower())
