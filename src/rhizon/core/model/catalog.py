"""The catalog: static JSON files that any web server or a plain folder can offer.

``catalog.json`` names the games; each game has ``items.json`` (an index of ids and titles),
``items/ID.json`` (one item with its releases) and ``host.json`` (server files and loader builds).
``shelf.toml`` and ``NAME.facts.toml`` are what a person writes for ``rhizon catalog build``.
"""

from typing import Literal

import msgspec

from rhizon.core.model.base import Id, Line, Mib, Port, Sha256, Size, Strict, any_range
from rhizon.core.model.contentlist import STABLE, Channel
from rhizon.core.model.metadata import ContentKind, Placement
from rhizon.core.model.setting import Protocol, SettingDefinition, Stored
from rhizon.core.names import RelPath
from rhizon.core.version import Version, VersionRange

__all__ = [
    "CATALOG_FILE",
    "LOCAL",
    "SHELF_FILE",
    "Artefact",
    "BuildFacts",
    "CatalogRoot",
    "ExtraPort",
    "GameShelf",
    "HostFiles",
    "Item",
    "ItemIndex",
    "ItemLine",
    "LoaderBuild",
    "Provided",
    "Relation",
    "Release",
    "ReleaseFacts",
    "Requirement",
    "ServerFiles",
    "SharedDefinition",
    "Shelf",
    "ShelfLoader",
    "ShelfServer",
]

CATALOG_FILE = "catalog.json"  # the root of a catalog
SHELF_FILE = "shelf.toml"
LOCAL = "local-archives"  # the name in locks of a catalog of archives that no catalog need know


class Artefact(Strict, frozen=True, kw_only=True):
    """One file to fetch: its path below the catalog's root, what it must hash to, its size in bytes."""

    path: RelPath
    sha256: Sha256
    size: Size


class Relation(Strict, frozen=True, kw_only=True):
    """Another item and the range of its versions that is meant."""

    id: Id
    range: VersionRange = any_range()


class Requirement(Strict, frozen=True, kw_only=True):
    """A need: one item in a range, or any one of several (``one_of``)."""

    id: Id | None = None
    range: VersionRange = any_range()
    one_of: tuple[Relation, ...] = ()

    def __post_init__(self) -> None:
        if (self.id is None) == (not self.one_of):
            raise ValueError("a requirement has either `id` or `one_of`")

    @property
    def alternatives(self) -> tuple[Relation, ...]:
        """What would meet the need."""
        return self.one_of if self.id is None else (Relation(id=self.id, range=self.range),)


class Provided(Strict, frozen=True, kw_only=True):
    """Another id for which this release stands in, at a version."""

    id: Id
    version: Version


class ExtraPort(Strict, frozen=True, kw_only=True):
    """A port that a content item opens beside the game's own."""

    role: Id
    protocols: tuple[Protocol, ...]
    default: Port
    store: tuple[Stored, ...]


class Release(Strict, frozen=True, kw_only=True):
    """One release of an item. ``loaders`` maps a loader to the range of its builds; ``settings`` are its own, under
    names that get the item's id and a dot before them. Where ``hand_on`` is false, its licence does not allow to pass
    it on: players fetch it themselves, from ``page``."""

    version: Version
    channel: Channel = "stable"
    hand_on: bool = True
    page: Line = ""
    yanked: Line = ""
    placement: Placement = "shared"
    game_versions: VersionRange = any_range()
    loaders: dict[Id, VersionRange] = {}
    runtime: VersionRange = any_range()
    requires: tuple[Requirement, ...] = ()
    optional: tuple[Relation, ...] = ()
    conflicts: tuple[Relation, ...] = ()
    provides: tuple[Provided, ...] = ()
    embeds: tuple[Provided, ...] = ()
    ports: tuple[ExtraPort, ...] = ()
    settings: dict[Id, SettingDefinition] = {}
    memory_mib: Mib | None = None
    artefact: Artefact


class Item(Strict, frozen=True, kw_only=True):
    """``items/ID.json``."""

    format: Literal["rhizon-item/1"]
    id: Id
    game: Id
    kind: ContentKind
    title: Line
    summary: Line = ""
    releases: tuple[Release, ...]


class ItemLine(Strict, frozen=True, kw_only=True):
    """One line of the index. ``provides`` are other ids that some release stands in for; ``sha256`` is of the item's
    document, so that one that is known need not be asked for."""

    title: Line
    kind: ContentKind
    provides: tuple[Id, ...] = ()
    sha256: Sha256 | None = None


class ItemIndex(Strict, frozen=True, kw_only=True):
    """``items.json``: every id of the game."""

    format: Literal["rhizon-index/1"]
    items: dict[Id, ItemLine]


class ServerFiles(Strict, frozen=True, kw_only=True):
    """The game's own server files for one game version: an archive, or, where ``tree`` names the folder in which they
    are in the catalog, a document (:class:`~rhizon.core.model.tree.FileTree`) that lists them. Publishers that let
    people try what is to come do so on another ``branch``, which a list has to ask for."""

    version: Line
    branch: Id = STABLE
    artefact: Artefact
    tree: RelPath | None = None


class BuildFacts(Strict, frozen=True, kw_only=True):
    """What is known of one build of a loader, wherever it is written down."""

    loader: Id
    build: Version
    channel: Channel = "stable"
    recommended: bool = False
    game_versions: VersionRange = any_range()
    runtime: VersionRange = any_range()
    install: Literal["unpack", "installer"] = "unpack"


class LoaderBuild(BuildFacts, frozen=True, kw_only=True):
    """One build of a loader and the archive that puts it into the server folder."""

    artefact: Artefact


class HostFiles(Strict, frozen=True, kw_only=True):
    """``host.json``. ``player_loaders`` are loader builds as the game's client takes them."""

    format: Literal["rhizon-host-files/1"]
    server: tuple[ServerFiles, ...]
    loaders: tuple[LoaderBuild, ...]
    player_loaders: tuple[LoaderBuild, ...] = ()


class GameShelf(Strict, frozen=True, kw_only=True):
    """Where one game's part of the catalog is."""

    index: RelPath
    items: RelPath
    host: RelPath


class SharedDefinition(Strict, frozen=True, kw_only=True):
    """A game definition that a catalog has to give: its file there, and its hash."""

    path: RelPath
    sha256: Sha256
    size: Size


class CatalogRoot(Strict, frozen=True, kw_only=True):
    """``catalog.json``. ``mirrors`` are other addresses that have the same artefacts, tried in order; ``definitions``
    are those of its games that it gives to others, who are asked before they use one."""

    format: Literal["rhizon-catalog/1"]
    name: Id
    title: Line = ""
    mirrors: tuple[Line, ...] = ()
    games: dict[Id, GameShelf]
    definitions: dict[Id, SharedDefinition] = {}


class ShelfServer(Strict, frozen=True, kw_only=True):
    """Server files that a person put on the shelf: an archive, or a folder with the files as they will be placed."""

    game: Id
    version: Line
    branch: Id = STABLE
    file: RelPath


class ShelfLoader(BuildFacts, frozen=True, kw_only=True):
    """A loader build that a person put on the shelf."""

    game: Id
    file: RelPath


class Shelf(Strict, frozen=True, kw_only=True):
    """``shelf.toml``: what archives alone cannot say."""

    format: Literal["rhizon-shelf/1"]
    name: Id
    title: Line = ""
    mirrors: tuple[Line, ...] = ()
    archives: RelPath = msgspec.field(default_factory=lambda: RelPath("archives"))
    server: tuple[ShelfServer, ...] = ()
    loader: tuple[ShelfLoader, ...] = ()
    player_loader: tuple[ShelfLoader, ...] = ()


class ReleaseFacts(Strict, frozen=True, kw_only=True):
    """``NAME.facts.toml`` beside an archive: what is said here counts before the archive's own word. An archive without
    metadata that can be used needs ``id`` and ``version``, and ``game`` where several games are known."""

    ids_of_items = ("id", "requires", "optional", "conflicts", "provides")

    format: Literal["rhizon-facts/1"]
    game: Id | None = None
    id: Id | None = None
    version: Version | None = None
    title: Line | None = None
    summary: Line | None = None
    hand_on: bool | None = None
    page: Line | None = None
    channel: Channel | None = None
    yanked: Line | None = None
    placement: Placement | None = None
    kind: ContentKind | None = None
    game_versions: VersionRange | None = None
    loaders: dict[Id, VersionRange] | None = None
    runtime: VersionRange | None = None
    requires: tuple[Requirement, ...] | None = None
    optional: tuple[Relation, ...] | None = None
    conflicts: tuple[Relation, ...] | None = None
    provides: tuple[Provided, ...] | None = None
    ports: tuple[ExtraPort, ...] | None = None
    settings: dict[Id, SettingDefinition] | None = None
    memory_mib: Mib | None = None
