"""What every metadata format can be asked."""

from typing import Protocol

from rhizon.core.model.metadata import FieldRule, MetadataRule

__all__ = ["LARGEST", "Fields", "MetadataError"]

LARGEST = 1 << 20  # bytes of a metadata file that are read


class MetadataError(ValueError):
    """Metadata that is there and cannot be read; the text says why."""


class Fields(Protocol):
    """Parsed metadata; an expression that finds nothing gives an empty answer."""

    def texts(self, expression: str) -> list[str]:
        """The values that an expression finds, as text: mostly one."""

    def pairs(self, rule: str | FieldRule, split: MetadataRule) -> list[tuple[str, str]]:
        """Ids with the ranges that go with them ("" without one); ``split`` says how a list in one string is split."""
