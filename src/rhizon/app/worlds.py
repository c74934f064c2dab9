"""The world of an instance: where it lies, and what it says that it holds of content."""

import re
from pathlib import Path

from rhizon.adapters.files import read_bytes
from rhizon.adapters.instances import InstanceFolder
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance

__all__ = ["things_in_world", "world_folder"]


def world_folder(home: InstanceFolder, game: GameDefinition, instance: Instance) -> Path:
    """Where the world in use lies, or will lie."""
    name = instance.settings.get(game.world.name_setting, game.settings[game.world.name_setting].default)
    return home.folder / game.world.folder / str(name)


def things_in_world(world: Path, game: GameDefinition) -> dict[str, dict[str, int]]:
    """What the world says that it holds of content: content id to thing to count."""
    rule = game.world.things
    if rule is None:
        return {}
    path = world / rule.file
    if not path.is_file():
        return {}
    pattern = re.compile(rule.pattern)
    found: dict[str, dict[str, int]] = {}
    for line in read_bytes(path, "file of the world").decode("utf-8", "replace").splitlines():
        match = pattern.search(line)
        if match is not None:
            count = match.groupdict().get("count") or "1"
            things = found.setdefault(match["id"], {})
            things[match["thing"]] = things.get(match["thing"], 0) + (int(count) if count.isdecimal() else 1)
    return found
