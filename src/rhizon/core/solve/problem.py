"""What is asked: wishes, the parts of the target that are fixed, and where releases are found."""

from collections.abc import Mapping, Sequence
from typing import Literal, Protocol

import msgspec

from rhizon.core.model.catalog import HostFiles, Item, ItemIndex
from rhizon.core.model.contentlist import Channel, ContentList, TargetWish, Wish
from rhizon.core.model.lock import Lock
from rhizon.core.model.pack import Pack
from rhizon.core.version import VersionRange

__all__ = ["Request", "Shelf", "from_list", "from_pack"]


class Shelf(Protocol):
    """What the solver asks of a catalog. Each answer names the catalog that it came from."""

    def index(self, game: str) -> ItemIndex:
        """Every id of the game."""

    def item(self, game: str, name: str) -> tuple[str, Item] | None:
        """One item, or None when no catalog has it for this game."""

    def prefetch(self, game: str, names: Sequence[str]) -> None:
        """These items will be asked for: a slow shelf may get them all at once."""

    def host(self, game: str) -> tuple[str, HostFiles]:
        """Server files and loader builds."""

    def hidden(self, game: str, name: str) -> Sequence[tuple[str, str, tuple[str, ...]]]:
        """Releases of an item that only a later catalog has: the name of the first catalog that has the item, which
        alone is asked, that of the later one, and the versions."""

    def other_game(self, game: str, name: str) -> str | None:
        """Another game for which this id is known."""


class Request(msgspec.Struct, frozen=True, kw_only=True):
    """One question.

    ``source`` names the list in messages; ``majors`` are the runtime majors to try, the preferred first;
    ``channels`` by item override the list's; ``keep`` is a lock to stay as near to as possible;
    ``prefer`` "current" trades the order of the list for the fewest releases behind newest over all of it.
    """

    name: str
    source: str
    game: str
    target: TargetWish
    wishes: Mapping[str, Wish]
    channel: Channel
    exclude: frozenset[str]
    majors: tuple[int, ...]
    channels: Mapping[str, Channel] = {}
    keep: Lock | None = None
    prefer: Literal["list", "current"] = "list"

    def channel_of(self, name: str) -> Channel:
        """The least settled channel whose releases may be chosen for an item."""
        if name in self.channels:
            return self.channels[name]
        wish = self.wishes.get(name)
        return wish.channel if wish is not None and wish.channel is not None else self.channel


def from_list(wanted: ContentList, majors: tuple[int, ...], source: str) -> Request:
    """The question that a content list asks."""
    return Request(
        name=wanted.name,
        source=source,
        game=wanted.game,
        target=wanted.target,
        wishes=wanted.wishes(),
        channel=wanted.channel,
        exclude=frozenset(wanted.exclude),
        majors=majors,
    )


def from_pack(pack: Pack, majors: tuple[int, ...], source: str) -> Request:
    """The question that a pack asks: its author's releases and target, on any channel."""
    exact = VersionRange
    return Request(
        name=pack.name,
        source=source,
        game=pack.game,
        target=TargetWish(
            branch=pack.target.branch,
            game_version=exact(pack.target.game_version),
            loader=pack.target.loader,
            loader_build=exact(pack.target.loader_build.text if pack.target.loader_build is not None else "*"),
            runtime=exact("*" if pack.target.runtime is None else str(pack.target.runtime)),
        ),
        wishes={name: Wish(range=exact(version.text), channel="draft") for name, version in pack.content.items()},
        channel="draft",
        exclude=frozenset(),
        majors=majors,
    )
