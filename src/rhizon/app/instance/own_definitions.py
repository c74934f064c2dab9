"""The game definitions that a server needs and that do not ship with Rhizon."""

import tomllib
from pathlib import Path

from rhizon.adapters.files import read_bytes
from rhizon.adapters.games import GAMES
from rhizon.app.host import Host

__all__ = ["own_definitions"]


def own_definitions(host: Host, game: str, beside: Path) -> dict[str, str]:
    """The text of a game's definition and of those that it extends, by id, where they do not ship with Rhizon; they are
    looked for ``beside`` too. Raises StateError."""
    files = host.games(beside).files()
    texts: dict[str, str] = {}
    name: object = game
    while isinstance(name, str) and name not in texts and name in files and files[name].parent != GAMES:
        texts[name] = read_bytes(files[name], "game definition").decode("utf-8-sig")
        name = tomllib.loads(texts[name]).get("extends")
    return texts
