"""A settings preset (``*.preset.toml``): settings that a club wants on every server, as far as its game has them."""

from typing import Literal

from rhizon.core.model.base import Id, Line, SettingValue, Strict

__all__ = ["SettingsPreset"]


class SettingsPreset(Strict, frozen=True, kw_only=True):
    """The whole file; names are ours, secrets do not belong in it. ``more`` and ``fewer`` make lists of names longer or
    shorter than each server has them."""

    format: Literal["rhizon-preset/1"]
    title: Line = ""
    settings: dict[Id, SettingValue] = {}
    more: dict[Id, tuple[Line, ...]] = {}
    fewer: dict[Id, tuple[Line, ...]] = {}

    def __post_init__(self) -> None:
        for table, names in (("more", self.more), ("fewer", self.fewer)):
            for name in names:
                if name in self.settings:
                    raise ValueError(f"{table}: {name!r} is in settings too, which sets the whole list")

    def wanted(self) -> dict[str, SettingValue]:
        """All of it by name; ``NAME+`` and ``NAME-`` are names for a list to have, or not to have."""
        longer = {f"{name}+": names for name, names in self.more.items()}
        shorter = {f"{name}-": names for name, names in self.fewer.items()}
        return {**self.settings, **longer, **shorter}
