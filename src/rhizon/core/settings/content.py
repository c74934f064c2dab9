"""What content brings beside its code: settings of its own, and its place in a loader's list of what is enabled."""

import msgspec

from rhizon.core.content_paths import enabled_name, loaded
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.lock import Lock
from rhizon.core.model.setting import NAME_WORD
from rhizon.core.settings.apply import NativeEdits

__all__ = ["put_enabled", "with_content"]


def with_content(game: GameDefinition, lock: Lock) -> GameDefinition:
    """The definition for the lock's version and loader, with the settings of the content that is on the server, each
    under ``ID.NAME``."""
    game = game.narrowed(lock.target.game_version, lock.target.loader)
    more = {
        f"{release.id}.{name}": setting for release in lock.on_server() for name, setting in release.settings.items()
    }
    return msgspec.structs.replace(game, settings={**game.settings, **more}) if more else game


def put_enabled(edits: NativeEdits, game: GameDefinition, lock: Lock) -> None:
    """Adds what the loader should load, where the game has a list of that."""
    place = game.loaders[lock.target.loader].enabled
    if place is None:
        return
    values = edits.setdefault(place.file, (place.written, {}))[1]
    for release in loaded(game, lock):
        values[place.key.replace(NAME_WORD, enabled_name(game, lock, release))] = True
