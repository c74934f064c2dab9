"""The pack: releases fixed by its author, with files to lay over.

A folder, or the same as a zip ending in ``.rhz``, with ``rhizon-pack.toml`` at its root, the trees ``files/shared``,
``files/server`` and ``files/player``, and ``archives``: content that no catalog need know.
"""

from typing import Literal

from rhizon.core.model.base import Id, Line, Mib, SettingValue, Strict
from rhizon.core.model.contentlist import STABLE
from rhizon.core.model.game import OWN_LOADER
from rhizon.core.version import Version

__all__ = ["PACK_ARCHIVES", "PACK_FILE", "PACK_TREES", "Pack", "PackMemory", "PackTarget"]

PACK_FILE = "rhizon-pack.toml"
PACK_TREES = ("shared", "server", "player")
PACK_ARCHIVES = "archives"


class PackTarget(Strict, frozen=True, kw_only=True):
    """The one target that the author built the pack for."""

    branch: Id = STABLE
    game_version: Line
    loader: Id = OWN_LOADER
    loader_build: Version | None = None
    runtime: int | None = None

    def __post_init__(self) -> None:
        if (self.loader == OWN_LOADER) != (self.loader_build is None):
            raise ValueError("a loader and its build belong together")


class PackMemory(Strict, frozen=True, kw_only=True):
    """Heap that the author asks for, in MiB."""

    least_mib: Mib
    recommended_mib: Mib

    def __post_init__(self) -> None:
        if self.least_mib > self.recommended_mib:
            raise ValueError("least_mib is more than recommended_mib")


class Pack(Strict, frozen=True, kw_only=True):
    """``rhizon-pack.toml``. ``content`` gives the exact version of each item."""

    ids_of_items = ("content",)

    format: Literal["rhizon-pack/1"]
    name: Id
    version: Version
    title: Line = ""
    summary: Line = ""
    game: Id
    catalogs: tuple[Line, ...] = ()
    target: PackTarget
    content: dict[Id, Version]
    memory: PackMemory | None = None
    settings: dict[Id, SettingValue] = {}
