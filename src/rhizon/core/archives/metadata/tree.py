"""Metadata in JSON, TOML or YAML, asked with JMESPath expressions."""

import functools
import tomllib
from typing import Any

import jmespath
import jmespath.exceptions
import msgspec

from rhizon.core.archives.metadata.fields import Fields, MetadataError
from rhizon.core.archives.metadata.split import split_pairs
from rhizon.core.model.metadata import FieldRule, MetadataRule
from rhizon.core.text_limits import bounded
from rhizon.core.toml_reading import read_toml

__all__ = ["from_json", "from_toml", "from_yaml"]


@functools.lru_cache(maxsize=512)
def _compiled(expression: str) -> Any:
    try:
        return jmespath.compile(expression)
    except jmespath.exceptions.JMESPathError as wrong:
        raise MetadataError(f"{expression!r} is not a JMESPath expression: {wrong}") from None


def _text(value: Any) -> str:
    return str(value) if isinstance(value, str | int | float) and not isinstance(value, bool) else ""


class _Tree:
    """Fields of JSON, TOML and YAML, by JMESPath expression."""

    def __init__(self, data: Any) -> None:
        self._data = data

    def _find(self, expression: str, data: Any) -> Any:
        try:
            return _compiled(expression).search(data)
        except (jmespath.exceptions.JMESPathError, RecursionError) as wrong:
            raise MetadataError(f"{expression!r} cannot be asked here: {wrong}") from None

    def texts(self, expression: str) -> list[str]:
        """What an expression selects, as texts."""
        found = self._find(expression, self._data)
        return [text for text in map(_text, found if isinstance(found, list) else [found]) if text]

    def pairs(self, rule: str | FieldRule, split: MetadataRule) -> list[tuple[str, str]]:
        """Ids with ranges, from a table or from a list of tables. Raises MetadataError."""
        if isinstance(rule, str):
            found = self._find(rule, self._data)
            if isinstance(found, dict):
                return [(str(name), _text(wanted)) for name, wanted in found.items()]
            if isinstance(found, str):
                return split_pairs(found, split)
            return [pair for one in found for pair in split_pairs(_text(one), split)] if isinstance(found, list) else []
        found = self._find(rule.each, self._data)
        pairs = ((self._find(rule.id, one), self._find(rule.range, one)) for one in _listed(found))
        return [(name, _text(wanted)) for name, wanted in pairs if isinstance(name, str)]


def _listed(found: Any) -> list[Any]:
    return found if isinstance(found, list) else []


def from_json(data: bytes) -> Fields:
    """Raises :class:`MetadataError`."""
    try:
        data = data.removeprefix(b"\xef\xbb\xbf")
        bounded(data.decode("utf-8"), "json")
        return _Tree(msgspec.json.decode(data))
    except (msgspec.DecodeError, ValueError, RecursionError) as broken:
        raise MetadataError(f"not JSON: {broken}") from None


def from_toml(data: bytes) -> Fields:
    """Raises :class:`MetadataError`."""
    try:
        return _Tree(read_toml(data.decode("utf-8-sig")))
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as broken:
        raise MetadataError(f"not TOML: {broken}") from None


def from_yaml(data: bytes) -> Fields:
    """Every value is text, as it is written (a version 1.10 stays 1.10); aliases, the way in for alias bombs, are
    refused. Raises :class:`MetadataError`."""
    import yaml

    loader = getattr(yaml, "CBaseLoader", yaml.BaseLoader)
    try:
        text = data.decode("utf-8-sig")
        bounded(text, "yaml")
        if "*" in text and any(isinstance(event, yaml.AliasEvent) for event in yaml.parse(text, Loader=loader)):
            raise MetadataError("an alias in YAML is not read")
        return _Tree(yaml.load(text, Loader=loader))
    except (yaml.YAMLError, ValueError, TypeError, AttributeError, IndexError, RecursionError) as broken:
        if isinstance(broken, MetadataError):
            raise
        raise MetadataError(f"not YAML: {' '.join(str(broken).split())[:200]}") from None
