"""What a backup repository holds beside its chunks: one manifest for each backup."""

from typing import Literal

import msgspec

from rhizon.core.model.base import Id, Line, Sha256, Size, Strict
from rhizon.core.model.kept import KeptState
from rhizon.core.names import RelPath, UnsafeNameError, safe_path

__all__ = ["Backup", "BackupLinks", "SavedFile", "SealedHead"]

# How consistent the world is: no one wrote while it was read, the server paused saving, it had saved and nothing
# changed meanwhile, or something may have changed. The documents call it "calm".
Consistency = Literal["stopped", "held", "saved", "unsure"]


class SavedFile(Strict, frozen=True, kw_only=True):
    """A file as its chunks in order; times in nanoseconds since 1970."""

    size: Size
    mode: int
    mtime_ns: int
    ctime_ns: int
    chunks: tuple[Sha256, ...]


class Backup(Strict, frozen=True, kw_only=True):
    """One backup: when (UTC), of what, and every file of the worlds' folder and of the settings by its path in the
    instance, and the folders of worlds that hold nothing. ``state`` is all else that makes the instance what it was.
    An ``automatic`` one was made by a change, for its own undoing. ``secrets`` are the secret settings whose values are
    in the saved files. With ``whole`` every other file of the server is saved too, and the game's ``definitions`` where
    they do not ship with Rhizon: then nothing else is needed to make it again."""

    format: Literal["rhizon-backup/1"]
    id: Id
    when: Line
    why: Line
    name: Id
    folder: Line
    consistency: Consistency = msgspec.field(name="calm")
    automatic: bool = False
    secrets: tuple[Id, ...] = ()
    state: KeptState
    world: dict[str, SavedFile]
    empty: tuple[RelPath, ...] = ()
    settings: dict[str, SavedFile]
    whole: dict[str, SavedFile] = {}
    definitions: dict[Id, str] = {}

    def __post_init__(self) -> None:
        for part in self.parts:
            for path in part:
                try:
                    safe_path(path)
                except UnsafeNameError as why:
                    raise ValueError(f"{path!r}: {why}") from None

    @property
    def by_hand(self) -> bool:
        """Whether a person asked for it. Older ones say so only in words."""
        return not self.automatic and not self.why.startswith("before: ")

    @property
    def size(self) -> int:
        """Bytes that a restore would write."""
        return sum(one.size for part in self.parts for one in part.values())

    @property
    def parts(self) -> tuple[dict[str, SavedFile], ...]:
        """All files that are saved."""
        return self.world, self.settings, self.whole


class SealedHead(Strict, frozen=True, kw_only=True):
    """What can be read of an encrypted backup without its key: when it was made, how much it is, which pieces it needs
    by their names, and which lane (key) they are in. All else is in the encrypted manifest beside it."""

    format: Literal["rhizon-sealed/1"]
    id: Id
    when: Line
    lane: Line
    recipients: tuple[Line, ...]
    automatic: bool = False
    consistency: Consistency = msgspec.field(name="calm")
    files: int
    size: Size
    pieces: tuple[Sha256, ...]


class BackupLinks(Strict, frozen=True, kw_only=True):
    """``.rhizon/backups.json``: under which id the backups of this instance are, and in which other folders."""

    format: Literal["rhizon-backups/1"]
    id: Id
    places: tuple[Line, ...] = ()
