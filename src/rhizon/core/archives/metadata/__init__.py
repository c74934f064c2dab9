"""Metadata by declaration: one file for each format, all behind :class:`Fields`."""

from collections.abc import Callable

from rhizon.core.archives.metadata import manifest, tree, xml
from rhizon.core.archives.metadata.fields import Fields, MetadataError

__all__ = ["READERS", "Fields", "MetadataError"]

# A new format is one new file and one line here.
READERS: dict[str, Callable[[bytes], Fields]] = {
    "json": tree.from_json,
    "toml": tree.from_toml,
    "xml": xml.from_xml,
    "manifest": manifest.from_manifest,
}
