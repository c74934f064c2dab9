"""Metadata in XML, asked with ElementTree paths; ``@name`` is an attribute of the root or the element."""

import xml.etree.ElementTree as ET

from rhizon.core.archives.metadata.fields import Fields, MetadataError
from rhizon.core.model.game import FieldRule

__all__ = ["from_xml"]


def _value(element: ET.Element, expression: str) -> str:
    path, at, attribute = expression.partition("@")
    try:
        found = element.find(path.rstrip("/")) if path.rstrip("/") else element
    except SyntaxError as wrong:
        raise MetadataError(f"{expression!r} is not an ElementTree path: {wrong}") from None
    if found is None:
        return ""
    return found.get(attribute, "") if at else (found.text or "").strip()


class _Document:
    def __init__(self, root: ET.Element) -> None:
        self._root = root

    def text(self, expression: str) -> str:
        return _value(self._root, expression)

    def pairs(self, rule: str | FieldRule) -> list[tuple[str, str]]:
        if isinstance(rule, str):
            rule = FieldRule(each=rule, id="@id", range="@range")
        try:
            found = self._root.findall(rule.each)
        except SyntaxError as wrong:
            raise MetadataError(f"{rule.each!r} is not an ElementTree path: {wrong}") from None
        pairs = ((_value(one, rule.id), _value(one, rule.range) or "*") for one in found)
        return [(name, wanted) for name, wanted in pairs if name]


def from_xml(data: bytes) -> Fields:
    """Raises :class:`MetadataError`; a document type (the way in for entity bombs) is refused."""
    if b"<!DOCTYPE" in data or b"<!ENTITY" in data:
        raise MetadataError("an XML document type is not read")
    try:
        return _Document(ET.fromstring(data))
    except (ET.ParseError, ValueError, RecursionError) as broken:
        raise MetadataError(f"not XML: {broken}") from None
