"""Metadata in XML, asked with ElementTree paths; ``@name`` is an attribute of the root or the element."""

import xml.etree.ElementTree as ET

from rhizon.core.archives.metadata.fields import Fields, MetadataError
from rhizon.core.archives.metadata.split import split_pairs
from rhizon.core.model.metadata import FieldRule, MetadataRule
from rhizon.core.text_limits import bounded

__all__ = ["from_xml"]


def _value(element: ET.Element, expression: str) -> str:
    return next(iter(_values(element, expression)), "")


def _values(element: ET.Element, expression: str) -> list[str]:
    path, at, attribute = expression.partition("@")
    try:
        found = element.findall(path.rstrip("/")) if path.rstrip("/") else [element]
    except (SyntaxError, KeyError) as wrong:
        raise MetadataError(f"{expression!r} is not an ElementTree path: {wrong}") from None
    values = (one.get(attribute, "") if at else (one.text or "").strip() for one in found)
    return [value for value in values if value]


class _Document:
    """Fields of XML, by ElementTree path."""

    def __init__(self, root: ET.Element) -> None:
        self._root = root

    def texts(self, expression: str) -> list[str]:
        """The texts of the elements or attributes that a path selects."""
        return _values(self._root, expression)

    def pairs(self, rule: str | FieldRule, split: MetadataRule) -> list[tuple[str, str]]:
        """Ids with ranges, from the elements that the rule names. Raises MetadataError."""
        if isinstance(rule, str):
            return [pair for text in _values(self._root, rule) for pair in split_pairs(text, split)]
        try:
            found = self._root.findall(rule.each)
        except (SyntaxError, KeyError) as wrong:
            raise MetadataError(f"{rule.each!r} is not an ElementTree path: {wrong}") from None
        pairs = ((_value(one, rule.id), _value(one, rule.range)) for one in found)
        return [(name, wanted) for name, wanted in pairs if name]


def from_xml(data: bytes) -> Fields:
    """Raises :class:`MetadataError`; a document type (the way in for entity bombs) is refused."""
    if b"<!DOCTYPE" in data or b"<!ENTITY" in data:
        raise MetadataError("an XML document type is not read")
    try:
        text = data.decode("utf-16" if data[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8", "replace")
        bounded(text, "xml")
        return _Document(ET.fromstring(data))
    except (ET.ParseError, ValueError, RecursionError) as broken:
        raise MetadataError(f"not XML: {broken}") from None
