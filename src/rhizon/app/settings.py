"""Every setting of an instance: what it is, what it means, where it is stored, and who set it."""

from pathlib import Path
from typing import Literal

import msgspec

from rhizon.adapters.files import read_bytes
from rhizon.adapters.instances import InstanceFolder
from rhizon.app.changing import needed_whole
from rhizon.app.context import Host
from rhizon.app.native import understood
from rhizon.core.model.documents import decode
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.house import HouseStandard
from rhizon.core.settings.apply import from_native
from rhizon.core.settings.dialects import DIALECTS

__all__ = ["SettingLine", "Settings", "house_settings", "list_settings"]

SetBy = Literal["game", "pack", "you"]


class SettingLine(msgspec.Struct, frozen=True, kw_only=True):
    """One setting. ``value`` is what the server's own file says now (None where it says nothing yet, or where it is a
    secret that nobody asked to see); ``set_by`` is "you" where a person chose it or edited it there."""

    name: str
    value: str | int | bool | None
    default: str | int | bool
    allowed: str
    meaning: str
    file: str
    key: str
    set_by: SetBy
    secret: bool
    is_set: bool


class Settings(msgspec.Struct, frozen=True, kw_only=True):
    """All of an instance, in the definition's order."""

    folder: str
    name: str
    game: str
    settings: tuple[SettingLine, ...]


def list_settings(host: Host, folder: Path, *, reveal: bool = False) -> Settings:
    """Raises :class:`StateError` (no instance, a native file that cannot be understood)."""
    home = InstanceFolder(folder).required()
    instance = needed_whole(home).instance
    game = host.game_of(instance)
    native = _native(home, game)
    lines = []
    for name, one in game.settings.items():
        there = native[one.store.file].get(one.store.key)
        value = None if there is None else from_native(one, DIALECTS[one.store.dialect], there)
        recorded = instance.settings.get(name)
        by: SetBy = "game"
        if name in instance.chosen:
            by = "you"
        elif name in instance.settings:
            by = "pack"
        expected = recorded if recorded is not None else one.default
        if value is not None and value != expected:
            by = "you"
        lines.append(
            SettingLine(
                name=name,
                value=None if one.secret and not reveal else value,
                default="" if one.secret else one.default,
                allowed=one.allowed,
                meaning=one.meaning,
                file=one.store.file,
                key=one.store.key,
                set_by=by,
                secret=one.secret,
                is_set=value not in (None, ""),
            )
        )
    return Settings(folder=str(home.folder), name=instance.name, game=game.title, settings=tuple(lines))


def _native(home: InstanceFolder, game: GameDefinition) -> dict[str, dict[str, str]]:
    found: dict[str, dict[str, str]] = {}
    for one in game.settings.values():
        store = one.store
        if store.file in found:
            continue
        path = home.folder / store.file
        data = read_bytes(path, "settings file") if path.is_file() else b""
        with understood(path):
            found[store.file] = DIALECTS[store.dialect].read(data) if data else {}
    return found


def house_settings(game: GameDefinition, file: Path) -> tuple[dict[str, str | int | bool], tuple[str, ...]]:
    """Of a house standard the settings that the game has, and the names of those that it has not."""
    house = decode(HouseStandard, read_bytes(file, "house standard", 1 << 20), str(file))
    known = {name: value for name, value in house.settings.items() if name in game.settings}
    return known, tuple(sorted(house.settings.keys() - known.keys()))
