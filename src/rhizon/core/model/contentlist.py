"""The content list (``*.list.toml``): what a person wants, open ranges allowed."""

from typing import Literal

import msgspec

from rhizon.core.model.base import Id, Line, Mib, Port, SettingValue, Strict, any_range
from rhizon.core.version import VersionRange, parse_range

__all__ = ["CHANNELS", "STABLE", "Channel", "ContentList", "TargetWish", "Wish"]

Channel = Literal["stable", "preview", "draft"]
# From the most to the least settled; a channel admits those before it.
CHANNELS: tuple[Channel, ...] = ("stable", "preview", "draft")
STABLE = "stable"  # the branch of server files that is taken where no other is asked for


class TargetWish(Strict, frozen=True, kw_only=True):
    """The parts of the target that the person fixes; what is left out is chosen. ``branch`` is of the game's own server
    files."""

    branch: Id = STABLE
    game_version: VersionRange = any_range()
    loader: Id | None = None
    loader_build: VersionRange = any_range()
    runtime: VersionRange = any_range()


class Wish(Strict, frozen=True, kw_only=True):
    """One wished content item; in the file either a range alone or a table."""

    range: VersionRange = any_range()
    channel: Channel | None = None
    optional: bool = False


class ContentList(Strict, frozen=True, kw_only=True):
    """The whole list. ``catalogs`` are addresses (http, https) or folders beside the list; ``archives`` are archives
    that no catalog need know, or folders of them, beside the list: they go before every catalog."""

    format: Literal["rhizon-list/1"]
    name: Id
    title: Line = ""
    game: Id
    catalogs: tuple[Line, ...] = ()
    archives: tuple[Line, ...] = ()
    target: TargetWish = msgspec.field(default_factory=TargetWish)
    channel: Channel = "stable"
    content: dict[Id, Line | Wish]
    exclude: tuple[Id, ...] = ()
    settings: dict[Id, SettingValue] = {}
    ports: dict[Id, Port] = {}
    memory_mib: Mib | None = None

    def __post_init__(self) -> None:
        for one in self.exclude:
            if one in self.content:
                raise ValueError(f"exclude: {one!r} is wished for in content")
        for name, wish in self.content.items():
            if isinstance(wish, str):
                try:
                    parse_range(wish)
                except ValueError as wrong:
                    raise ValueError(f"content.{name}: {wrong}") from None

    def wishes(self) -> dict[str, Wish]:
        """The wishes in the order of the list."""
        return {
            name: wish if isinstance(wish, Wish) else Wish(range=parse_range(wish))
            for name, wish in self.content.items()
        }
