"""Metadata by declaration: one file for each kind of format, all behind :class:`Fields`.

That of assemblies (:mod:`~rhizon.core.archives.metadata.assembly`) is not in the table: it is not a file in an archive.
"""

from collections.abc import Callable

from rhizon.core.archives.metadata import flat, tree, xml
from rhizon.core.archives.metadata.fields import Fields, MetadataError
from rhizon.core.model.metadata import MetadataFormat

__all__ = ["READERS", "Fields", "MetadataError"]

# A new format is one new reader and one line here.
READERS: dict[MetadataFormat, Callable[[bytes], Fields]] = {
    "json": tree.from_json,
    "toml": tree.from_toml,
    "yaml": tree.from_yaml,
    "xml": xml.from_xml,
    "properties": flat.from_properties,
    "manifest": flat.from_manifest,
}
