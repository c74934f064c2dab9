"""The manifest of a player kit: all that a player's folder must have, and what is known of what it may have instead.

It is the players' part of a lock: releases, hashes, sizes and the target, and nothing of the server's own.
"""

from typing import Literal

from rhizon.core.model.base import Id, Line, Port, Sha256, Size, Strict
from rhizon.core.model.game_parts import Mark, PlayerLog, System
from rhizon.core.model.metadata import ContentKind
from rhizon.core.names import RelPath
from rhizon.core.version import Version

__all__ = ["KitClash", "KitFile", "KitLoader", "KitManifest", "KitOther", "KitPiece"]


class KitFile(Strict, frozen=True, kw_only=True):
    """A file by its path in the game's folder."""

    path: RelPath
    sha256: Sha256
    size: Size


class KitPiece(Strict, frozen=True, kw_only=True):
    """One release. ``place`` is its file, or its folder where ``folder`` is true; ``files`` are all of it. One that is
    ``optional`` a player may leave out; of these, no server has what is ``client_only``. One that is not ``packed``
    players fetch themselves, from ``page``: the archive ``archive``."""

    id: Id
    version: Version
    title: Line
    summary: Line = ""
    kind: ContentKind
    optional: bool = False
    client_only: bool = False
    folder: bool = False
    place: RelPath
    files: tuple[KitFile, ...]
    packed: bool = True
    page: Line = ""
    archive: KitFile | None = None


class KitLoader(Strict, frozen=True, kw_only=True):
    """The loader build that players need. Without ``files`` no catalog has it for players, and ``how`` says where it
    is."""

    id: Id
    title: Line
    build: Version
    files: tuple[KitFile, ...] = ()
    how: Line = ""


class KitOther(Strict, frozen=True, kw_only=True):
    """The archive of another release, so that it can be told by its hash."""

    id: Id
    version: Version
    sha256: Sha256
    size: Size


class KitClash(Strict, frozen=True, kw_only=True):
    """Content that cannot be beside the piece ``beside``, in these versions. ``names`` are how its files are called,
    without their versions."""

    id: Id
    title: Line
    beside: Id
    versions: tuple[Version, ...]
    names: tuple[Line, ...] = ()


class KitManifest(Strict, frozen=True, kw_only=True):
    """``rhizon-kit.json``. ``server`` is the server's name, ``join`` what a player types to join it (empty where no
    address is known), ``steps`` how; ``content`` are the folders of the game's own that hold content, ``overlay`` files
    that a pack puts there. ``loader_mark``, ``game_mark`` and ``versions`` are as in the game's definition. A
    ``strict`` server lets in no content that is not among the pieces. Players with a game version of ``also_game`` can
    join too: it speaks the same ``protocol``."""

    format: Literal["rhizon-kit/1"]
    server: Id
    title: Line
    description: Line = ""
    contact: Line = ""
    game: Id
    game_title: Line
    game_version: Line
    protocol: Line = ""
    also_game: tuple[Line, ...] = ()
    folders: dict[System, Line] = {}
    port: Port | None = None
    join: Line = ""
    steps: tuple[Line, ...] = ()
    loader: KitLoader | None = None
    pieces: tuple[KitPiece, ...]
    overlay: tuple[KitFile, ...] = ()
    content: tuple[RelPath, ...] = ()
    others: tuple[KitOther, ...] = ()
    clashes: tuple[KitClash, ...] = ()
    loader_mark: Mark | None = None
    game_mark: Mark | None = None
    versions: dict[ContentKind, Mark] = {}
    log: PlayerLog | None = None
    strict: bool = False

    def lets_in(self, game_version: str) -> bool:
        """Whether players with that version of the game can join."""
        return game_version == self.game_version or game_version in self.also_game
