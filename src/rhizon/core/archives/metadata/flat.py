"""Metadata as names with values: the main attributes of a JAR manifest, and properties files."""

import io

from rhizon.core.archives.metadata.fields import Fields, MetadataError
from rhizon.core.archives.metadata.split import split_pairs
from rhizon.core.model.metadata import FieldRule, MetadataRule
from rhizon.core.text_limits import bounded

__all__ = ["FlatFields", "from_manifest", "from_properties", "main_attributes", "manifest_sections"]


def manifest_sections(data: bytes) -> list[dict[str, str]]:
    """The main section, then one for each entry (JAR File Specification, "JAR Manifest"); names in small letters,
    continuation lines joined. Raises :class:`MetadataError`."""
    sections: list[dict[str, str]] = [{}]
    lines: list[bytes] = []
    for line in (*data.replace(b"\r\n", b"\n").replace(b"\r", b"\n").split(b"\n"), b""):
        if line.startswith(b" ") and lines:
            lines[-1] += line[1:]
        elif line:
            lines.append(line)
        elif lines:
            sections[-1] = dict(map(_attribute, lines))
            sections.append({})
            lines = []
    return sections if len(sections) == 1 else sections[:-1]


def _attribute(line: bytes) -> tuple[str, str]:
    name, colon, value = line.decode("utf-8", "replace").partition(": ")
    if not colon:
        raise MetadataError(f"not a manifest: the line {line[:40]!r} has no ': '")
    return name.lower(), value


def main_attributes(data: bytes) -> dict[str, str]:
    """Names in small letters to values. Raises :class:`MetadataError`."""
    return manifest_sections(data)[0]


class FlatFields:
    """Names with one value each."""

    def __init__(self, values: dict[str, str]) -> None:
        self._values = values

    def texts(self, expression: str) -> list[str]:
        """The value of a key, as a list of one."""
        value = self._values.get(expression, "")
        return [value] if value else []

    def pairs(self, rule: str | FieldRule, split: MetadataRule) -> list[tuple[str, str]]:
        """Ids with ranges."""
        found = self.texts(rule if isinstance(rule, str) else rule.each)
        return split_pairs(found[0], split) if found else []


class _Manifest(FlatFields):
    """Attribute names are the same in capital and small letters."""

    def texts(self, expression: str) -> list[str]:
        """The value of a key, as a list of one."""
        return super().texts(expression.lower())


def from_manifest(data: bytes) -> Fields:
    """Raises :class:`MetadataError`."""
    return _Manifest(main_attributes(data))


def from_properties(data: bytes) -> Fields:
    """A Java properties file, in UTF-8 where it can be. Raises :class:`MetadataError`."""
    import javaproperties  # slow to import, and few archives have such a file

    try:
        text = data.decode("utf-8")
    except UnicodeDecodeError:
        text = data.decode("iso-8859-1")
    try:
        bounded(text, "properties")
        return FlatFields(dict(javaproperties.load(io.StringIO(text))))
    except (javaproperties.InvalidUEscapeError, ValueError) as broken:
        raise MetadataError(f"not a properties file: {broken}") from None
