"""A kit for players as a file: what it says, and what is in it."""

from collections.abc import Mapping
from pathlib import Path

from rhizon.adapters.files import FileBytes, read_bytes
from rhizon.core.archives.entries import Archive
from rhizon.core.errors import InputError, RhizonError
from rhizon.core.kit.zipped import GAME, LIST_FILE, MANIFEST_FILE
from rhizon.core.model.contentlist import ContentList
from rhizon.core.model.documents import decode
from rhizon.core.model.kit import KitManifest

__all__ = ["is_kit", "kit_content_list", "read_kit"]

LARGEST_KIT = 4 << 30


def is_kit(file: Path) -> bool:
    """Whether a file is a kit."""
    try:
        with FileBytes(file) as data:
            return data.read_at(0, 4) == b"PK\x03\x04" and MANIFEST_FILE in Archive(data, file.name).names()
    except (RhizonError, OSError):
        return False


def read_kit(file: Path) -> tuple[KitManifest, Mapping[str, bytes]]:
    """A kit's manifest, and its files by their paths in the game's folder. Raises InputError for what is no kit,
    DocumentError, TrustError."""
    archive = Archive(read_bytes(file, "kit", LARGEST_KIT), file.name)
    if MANIFEST_FILE not in archive.names():
        raise InputError("not-a-kit", f"{file} is not a kit", hint="See how to make one: rhizon kit --help")
    manifest = decode(KitManifest, archive.read(MANIFEST_FILE), f"{file}/{MANIFEST_FILE}")
    return manifest, {path.removeprefix(GAME): data for path, data in archive.files() if path.startswith(GAME)}


def kit_content_list(file: Path) -> ContentList:
    """The content list in a kit: the same releases, exactly. Raises DocumentError, TrustError."""
    archive = Archive(read_bytes(file, "kit", LARGEST_KIT), file.name)
    return decode(ContentList, archive.read(LIST_FILE), f"{file}/{LIST_FILE}")
