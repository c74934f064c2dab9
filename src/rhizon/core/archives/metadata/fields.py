"""What every metadata format can be asked."""

from typing import Protocol

from rhizon.core.model.game import FieldRule

__all__ = ["LARGEST", "Fields", "MetadataError"]

LARGEST = 1 << 20  # bytes of a metadata file that are read


class MetadataError(ValueError):
    """Metadata that is there and cannot be read; the text says why."""


class Fields(Protocol):
    """Parsed metadata; an expression that finds nothing gives an empty answer."""

    def text(self, expression: str) -> str:
        """One value as text."""

    def pairs(self, rule: str | FieldRule) -> list[tuple[str, str]]:
        """Ids with the ranges that go with them."""
