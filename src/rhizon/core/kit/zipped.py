"""How a kit is in a zip: its documents at the root, and below ``game/`` what goes into the game's folder."""

from collections.abc import Collection

from rhizon.core.kit.manifest import kit_list
from rhizon.core.model.decode import encode_json
from rhizon.core.model.encode import content_list_toml
from rhizon.core.model.kit import KitFile, KitManifest

__all__ = ["GAME", "LIST_FILE", "MANIFEST_FILE", "README_FILE", "kit_documents", "packed_files"]

MANIFEST_FILE, LIST_FILE, README_FILE, GAME = "rhizon-kit.json", "rhizon-kit.list.toml", "README.txt", "game/"


def kit_documents(manifest: KitManifest, readme: str) -> dict[str, bytes]:
    """What is at the root, in the order of the zip: for people first."""
    wanted = content_list_toml(kit_list(manifest), ["The server's content for players; rhizon solve reads it."])
    return {
        README_FILE: readme.replace("\n", "\r\n").encode(),  # also for the plainest of editors
        MANIFEST_FILE: encode_json(manifest),
        LIST_FILE: wanted.encode(),
    }


def packed_files(manifest: KitManifest, only: Collection[str] | None = None) -> list[KitFile]:
    """The files below ``game/``, by their paths: those of packed content, of the loader and of the overlay. ``only``
    these pieces ("loader" for the loader; overlay left out)."""
    found = [
        file for piece in manifest.pieces if piece.packed and (only is None or piece.id in only) for file in piece.files
    ]
    if manifest.loader is not None and (only is None or "loader" in only):
        found += manifest.loader.files
    if only is None:
        found += manifest.overlay
    return sorted({one.path: one for one in found}.values(), key=lambda one: one.path)
