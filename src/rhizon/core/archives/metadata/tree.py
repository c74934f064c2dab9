"""Metadata in JSON or TOML, asked with JMESPath expressions."""

import functools
import tomllib
from typing import Any

import jmespath
import jmespath.exceptions
import msgspec

from rhizon.core.archives.metadata.fields import Fields, MetadataError
from rhizon.core.model.game import FieldRule

__all__ = ["from_json", "from_toml"]


@functools.lru_cache(maxsize=512)
def _compiled(expression: str) -> Any:
    try:
        return jmespath.compile(expression)
    except jmespath.exceptions.JMESPathError as wrong:
        raise MetadataError(f"{expression!r} is not a JMESPath expression: {wrong}") from None


class _Tree:
    def __init__(self, data: Any) -> None:
        self._data = data

    def _find(self, expression: str, data: Any) -> Any:
        try:
            return _compiled(expression).search(data)
        except jmespath.exceptions.JMESPathError as wrong:
            raise MetadataError(f"{expression!r} cannot be asked here: {wrong}") from None

    def text(self, expression: str) -> str:
        value = self._find(expression, self._data)
        if isinstance(value, bool) or not isinstance(value, str | int | float):
            return ""
        return str(value)

    def pairs(self, rule: str | FieldRule) -> list[tuple[str, str]]:
        if isinstance(rule, str):
            found = self._find(rule, self._data)
            if isinstance(found, dict):
                return [(str(name), str(wanted)) for name, wanted in found.items()]
            return [(str(name), "*") for name in found] if isinstance(found, list) else []
        pairs = []
        found = self._find(rule.each, self._data)
        for one in found if isinstance(found, list) else []:
            name = self._find(rule.id, one)
            wanted = self._find(rule.range, one)
            if isinstance(name, str):
                pairs.append((name, wanted if isinstance(wanted, str) else "*"))
        return pairs


def from_json(data: bytes) -> Fields:
    """Raises :class:`MetadataError`."""
    try:
        return _Tree(msgspec.json.decode(data))
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as broken:
        raise MetadataError(f"not JSON: {broken}") from None


def from_toml(data: bytes) -> Fields:
    """Raises :class:`MetadataError`."""
    try:
        return _Tree(tomllib.loads(data.decode("utf-8")))
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, RecursionError) as broken:
        raise MetadataError(f"not TOML: {broken}") from None
