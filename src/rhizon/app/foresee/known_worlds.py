"""Worlds that a server has run with, by name: a start that would create one of these anew has lost it."""

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.app.foresee.remembered import remembered

__all__ = ["known_worlds", "remember_world"]

FILE = "worlds.json"  # in .rhizon/: names, the newest last
MOST = 100


def known_worlds(home: InstanceFolder) -> list[str]:
    """Their names; none where nothing was remembered, or it cannot be read."""
    return remembered(home, FILE)


def remember_world(home: InstanceFolder, name: str) -> None:
    """Notes a world that the server is ready with."""
    known = [one for one in known_worlds(home) if one != name]
    home.write_own(FILE, msgspec.json.encode([*known, name][-MOST:]))
