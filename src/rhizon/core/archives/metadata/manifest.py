"""Metadata in the main attributes of a JAR manifest (JAR File Specification, "JAR Manifest")."""

from rhizon.core.archives.metadata.fields import Fields, MetadataError
from rhizon.core.model.game import FieldRule

__all__ = ["from_manifest", "main_attributes"]


def main_attributes(data: bytes) -> dict[str, str]:
    """Names in small letters to values; continuation lines are joined. Raises :class:`MetadataError`."""
    lines: list[bytes] = []
    for line in data.replace(b"\r\n", b"\n").replace(b"\r", b"\n").split(b"\n"):
        if not line:
            break
        if line.startswith(b" ") and lines:
            lines[-1] += line[1:]
        else:
            lines.append(line)
    attributes = {}
    for whole in lines:
        name, colon, value = whole.decode("utf-8", "replace").partition(": ")
        if not colon:
            raise MetadataError(f"not a manifest: the line {whole[:40]!r} has no ': '")
        attributes[name.lower()] = value
    return attributes


class _Manifest:
    def __init__(self, attributes: dict[str, str]) -> None:
        self._attributes = attributes

    def text(self, expression: str) -> str:
        return self._attributes.get(expression.lower(), "")

    def pairs(self, rule: str | FieldRule) -> list[tuple[str, str]]:
        name = rule if isinstance(rule, str) else rule.each
        pairs = []
        for part in self.text(name).split(";"):
            other, _, wanted = part.strip().partition(" ")
            if other:
                pairs.append((other, wanted.strip() or "*"))
        return pairs


def from_manifest(data: bytes) -> Fields:
    """A list of relations is ``id range; id range``. Raises :class:`MetadataError`."""
    return _Manifest(main_attributes(data))
