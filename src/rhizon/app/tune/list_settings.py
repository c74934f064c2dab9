"""Every setting of an instance: what it is, what it means, where it is stored, and who set it."""

from pathlib import Path
from typing import Literal

import msgspec

from rhizon.adapters.files import read_bytes
from rhizon.app.host import Host
from rhizon.app.instance.native_files import native_values
from rhizon.app.instance.state import require_instance_state
from rhizon.core.model.base import SettingValue
from rhizon.core.model.documents import decode
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance
from rhizon.core.model.preset import SettingsPreset
from rhizon.core.model.setting import SettingDefinition
from rhizon.core.settings.apply import in_file
from rhizon.core.settings.dialects import DIALECTS

__all__ = ["SettingLine", "Settings", "list_settings", "preset_settings"]

SetBy = Literal["game", "pack", "list", "lock", "rhizon", "you"]


class SettingLine(msgspec.Struct, frozen=True, kw_only=True):
    """One setting. ``value`` is what the server's own file says now (None where it says nothing yet, or where it is a
    secret that no one asked to see); ``set_by`` is "you" where a person chose it or edited it there, "rhizon" where it
    was drawn since no one chose. ``file`` is empty where the game has no place for it."""

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
    game_title: str
    settings: tuple[SettingLine, ...]


def list_settings(host: Host, folder: Path, *, reveal: bool = False) -> Settings:
    """Raises :class:`StateError` (no instance, a native file that cannot be understood)."""
    state = require_instance_state(host, host.home(folder))
    home, game, instance = state.home, state.game, state.instance
    files: dict[str, dict[str, str]] = {}
    lines = []
    for name, one in game.settings.items():
        store = one.store
        if store is None:
            value: str | int | bool | None = instance.settings.get(name, one.default)
            key = ""
        else:
            if store.file not in files:
                files[store.file] = native_values(home, store)
            value, key = in_file(one, DIALECTS[store.written], files[store.file])
        lines.append(
            SettingLine(
                name=name,
                value=None if one.secret and not reveal else value,
                default="" if one.secret else one.default,
                allowed=one.allowed,
                meaning=one.meaning,
                file=store.file if store is not None else "",
                key=key,
                set_by=_set_by(name, one, instance, value),
                secret=one.secret,
                is_set=value not in (None, ""),
            )
        )
    return Settings(
        folder=str(home.folder), name=instance.name, game=game.id, game_title=game.title, settings=tuple(lines)
    )


def _set_by(name: str, one: SettingDefinition, instance: Instance, value: str | int | bool | None) -> SetBy:
    recorded = instance.settings.get(name)
    if value is not None and value != (recorded if recorded is not None else one.default):
        return "you"
    if name in instance.drawn:
        return "rhizon"
    if name in instance.chosen:
        return "you"
    return _kind(instance.source) if name in instance.settings else "game"


def _kind(source: str) -> Literal["pack", "list", "lock"]:
    """What the server was made from, by its ending."""
    kinds: dict[str, Literal["list", "lock"]] = {".toml": "list", ".json": "lock"}
    return kinds.get(Path(source).suffix, "pack")


def preset_settings(game: GameDefinition, file: Path) -> tuple[dict[str, SettingValue], tuple[str, ...]]:
    """The part of a settings preset that the game has settings for, as ``SettingsPreset.wanted`` gives it, and the
    names of the other part. Raises DocumentError."""
    wanted = decode(SettingsPreset, read_bytes(file, "settings preset", 1 << 20), str(file)).wanted()
    known = {name: value for name, value in wanted.items() if name.rstrip("+-") in game.settings}
    return known, tuple(sorted({name.rstrip("+-") for name in wanted if name not in known}))
