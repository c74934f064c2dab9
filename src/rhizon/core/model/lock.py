"""The lock: the solved choice. It holds no times, no addresses and no secrets: same inputs, same bytes."""

from typing import Literal

from rhizon.core.model.base import Id, Line, Mib, Sha256, Size, Strict, any_range
from rhizon.core.model.catalog import ExtraPort
from rhizon.core.model.contentlist import STABLE
from rhizon.core.model.game import OWN_LOADER
from rhizon.core.model.metadata import ContentKind, Placement
from rhizon.core.model.pack import PackMemory
from rhizon.core.model.setting import SettingDefinition
from rhizon.core.names import RelPath
from rhizon.core.version import Version, VersionRange

__all__ = ["Dropped", "HeldBack", "LaidFile", "Lock", "LockedFile", "LockedLoader", "LockedRelease", "Target"]


class Target(Strict, frozen=True, kw_only=True):
    """What everything must agree on. ``runtime_major`` is 0 for a native server."""

    game: Id
    game_version: Line
    loader: Id
    loader_build: Version
    runtime: Line
    runtime_major: int

    @property
    def words(self) -> str:
        """For a person to read; a loader that is the server itself goes without saying."""
        return self.words_for(self.game)

    def words_for(self, title: str) -> str:
        """The same under the game's title."""
        loader = "" if self.loader == OWN_LOADER else f", {self.loader} {self.loader_build}"
        return f"{title} {self.game_version}{loader}"

    @property
    def label(self) -> str:
        """The same without the game, for a table."""
        loader = "" if self.loader == OWN_LOADER else f" {self.loader} {self.loader_build}"
        return f"{self.game_version}{loader}"


class LockedFile(Strict, frozen=True, kw_only=True):
    """An artefact with its origin: a catalog's name and the path in it."""

    catalog: Id
    path: RelPath
    sha256: Sha256
    size: Size


class LockedLoader(Strict, frozen=True, kw_only=True):
    """The loader build's archive and how it is put in place."""

    install: Literal["unpack", "installer"]
    file: LockedFile


class HeldBack(Strict, frozen=True, kw_only=True):
    """Why a release is not the newest of its item."""

    newest: Version
    reason: Line


class LockedRelease(Strict, frozen=True, kw_only=True):
    """One chosen release. ``because`` names who asked: ``list`` or ids; ``after`` is what is loaded
    before it though it does not need it; ``runtime`` are the majors that it takes.
    ``summary`` says what it does; where ``hand_on`` is false, players fetch it themselves, from ``page``."""

    id: Id
    version: Version
    kind: ContentKind
    title: Line
    placement: Placement
    on_server: bool
    for_players: bool
    because: tuple[Line, ...]
    after: tuple[Id, ...] = ()
    held_back_by: HeldBack | None = None
    runtime: VersionRange = any_range()
    ports: tuple[ExtraPort, ...] = ()
    settings: dict[Id, SettingDefinition] = {}
    memory_mib: Mib | None = None
    summary: Line = ""
    hand_on: bool = True
    page: Line = ""
    file: LockedFile


class Dropped(Strict, frozen=True, kw_only=True):
    """An optional wish that could not be met, and why."""

    id: Id
    reason: Line


class LaidFile(Strict, frozen=True, kw_only=True):
    """A file that a pack lays over, by its path in the instance; the pack or the store has the bytes."""

    path: RelPath
    sha256: Sha256
    size: Size


class Lock(Strict, frozen=True, kw_only=True):
    """``lock.json``: everything that another server of the same kind is made from.

    ``settings`` and memory are those of the list or pack. With ``server_tree`` the server's files are in that folder of
    the catalog, and ``server`` is the document that lists them; ``branch`` is the one that they were taken from.
    ``loader`` is None where the server itself takes content. ``order`` are ids in the order of loading, where the game
    has one. ``player_overlay`` are files that a pack lays over in players' folders.
    """

    format: Literal["rhizon-lock/1"]
    name: Id
    title: Line = ""
    target: Target
    server: LockedFile
    server_tree: RelPath | None = None
    branch: Id = STABLE
    loader: LockedLoader | None = None
    releases: tuple[LockedRelease, ...]
    order: tuple[Id, ...] = ()
    dropped: tuple[Dropped, ...] = ()
    overlay: tuple[LaidFile, ...] = ()
    player_overlay: tuple[LaidFile, ...] = ()
    settings: dict[Id, str | int | bool] = {}
    memory_mib: Mib | None = None
    pack_memory: PackMemory | None = None

    def on_server(self) -> tuple[LockedRelease, ...]:
        """The releases that go into the server folder."""
        return tuple(one for one in self.releases if one.on_server)

    def in_order(self) -> tuple[LockedRelease, ...]:
        """The same in the order in which they are loaded."""
        place = {name: number for number, name in enumerate(self.order)}
        return tuple(sorted(self.on_server(), key=lambda one: place.get(one.id, len(place))))

    def for_players(self) -> tuple[LockedRelease, ...]:
        """The releases that players install."""
        return tuple(one for one in self.releases if one.for_players)
