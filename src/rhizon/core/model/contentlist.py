"""The content list (``*.list.toml``): what a person wants, open ranges allowed."""

from typing import Literal

import msgspec

from rhizon.core.model.base import Id, Line, Mib, Port, SettingValue, Strict, any_range
from rhizon.core.version import VersionRange, numbered, parse_range

__all__ = ["CHANNELS", "STABLE", "Channel", "ContentList", "SecretSource", "TargetWish", "Wish"]

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

    def __post_init__(self) -> None:
        numbered(self.loader_build)
        numbered(self.runtime)


class SecretSource(Strict, frozen=True, kw_only=True):
    """Where a secret setting comes from, in place of its value: a ``file`` beside the list (a line end at its end is
    none of it), ``generate`` (drawn once for each server) or ``ask`` (a person types it)."""

    file: Line | None = None
    generate: bool = False
    ask: bool = False

    def __post_init__(self) -> None:
        if [self.file is not None, self.generate, self.ask].count(True) != 1:
            raise ValueError('a secret comes from one of: { file = "PATH" }, { generate = true }, { ask = true }')


class Wish(Strict, frozen=True, kw_only=True):
    """One wished content item; in the file either a range alone or a table."""

    range: VersionRange = any_range()
    channel: Channel | None = None
    optional: bool = False

    def __post_init__(self) -> None:
        numbered(self.range)


class ContentList(Strict, frozen=True, kw_only=True):
    """The whole list. ``catalogs`` are addresses (http, https) or folders beside the list; ``archives`` are archives
    that no catalog need know, or folders of them, beside the list: they go before every catalog."""

    ids_of_items = ("content", "exclude")

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
    settings: dict[Id, SettingValue | SecretSource] = {}
    ports: dict[Id, Port] = {}
    memory_mib: Mib | None = None

    def __post_init__(self) -> None:
        for one in self.exclude:
            if one in self.content:
                raise ValueError(f"exclude: {one!r} is also in content")
        for name, wish in self.content.items():
            if isinstance(wish, str):
                try:
                    numbered(parse_range(wish))
                except ValueError as wrong:
                    raise ValueError(f"content.{name}: {wrong}") from None

    def plain_settings(self) -> dict[str, SettingValue]:
        """The settings that are given by value."""
        return {name: value for name, value in self.settings.items() if not isinstance(value, SecretSource)}

    def secrets(self) -> dict[str, SecretSource]:
        """Where secret settings come from."""
        return {name: value for name, value in self.settings.items() if isinstance(value, SecretSource)}

    def wishes(self) -> dict[str, Wish]:
        """The wishes in the order of the list."""
        return {
            name: wish if isinstance(wish, Wish) else Wish(range=parse_range(wish))
            for name, wish in self.content.items()
        }
