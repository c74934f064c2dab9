"""How native settings files are written. A new dialect is one new file and one line in ``DIALECTS``."""

from typing import Protocol

from rhizon.core.settings.dialects import properties

__all__ = ["DIALECTS", "Dialect"]


class Dialect(Protocol):
    """Reads and edits one kind of file; what an edit does not name keeps every byte."""

    def read(self, data: bytes) -> dict[str, str]:
        """Keys to values. Raises ValueError with the line that is wrong."""

    def edit(self, data: bytes, changes: dict[str, str]) -> bytes:
        """``data`` with the keys set; keys that are not there are added at the end."""


DIALECTS: dict[str, Dialect] = {"properties": properties.Properties()}
