"""A house standard (``*.house.toml``): settings that a club wants on every server, as far as its game has them."""

from typing import Literal

from rhizon.core.model.base import Id, Line, SettingValue, Strict

__all__ = ["HouseStandard"]


class HouseStandard(Strict, frozen=True, kw_only=True):
    """The whole file; names are ours, secrets do not belong in it."""

    format: Literal["rhizon-house/1"]
    title: Line = ""
    settings: dict[Id, SettingValue]
