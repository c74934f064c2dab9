"""Values of the server's own files that no one sets: they follow from the server's name, its ports and its settings."""

from collections.abc import Mapping

from rhizon.core.allocate.port_roles import every_number
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.lock import Lock
from rhizon.core.settings.apply import NativeEdits, format_value

__all__ = ["put_derived"]


def put_derived(
    edits: NativeEdits,
    game: GameDefinition,
    lock: Lock,
    name: str,
    ports: Mapping[str, int],
    settings: Mapping[str, str | int | bool],
) -> None:
    """Adds them to what is to be in the server's files. A setting that no one gave has its default."""
    if not game.derived:
        return
    words = {"name": name, "game_version": lock.target.game_version}
    words |= {f"port.{role}": str(number) for role, number in every_number(game, ports).items()}
    for ident, setting in game.settings.items():
        if not setting.secret:
            words[f"setting.{ident}"] = format_value(settings.get(ident, setting.default))
    for one in game.derived:
        edits.setdefault(one.file, (one.written, {}))[1][one.key] = one.filled(words)
