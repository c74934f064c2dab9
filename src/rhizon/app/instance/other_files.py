"""Files in a server's folder that no backup has: neither placed by Rhizon, nor settings, world or log."""

from pathlib import PurePosixPath

from rhizon.adapters.transact import RHIZON
from rhizon.app.instance.edited_files import files_below, settings_paths
from rhizon.app.instance.state import InstanceState
from rhizon.core.names import RelPath

__all__ = ["other_files"]


def other_files(state: InstanceState) -> list[RelPath]:
    """Ordinary files that a person put there, or the server wrote for itself, in order."""
    game = state.game
    known = {*state.inventory.files, *settings_paths(state)}
    logs = [one.path for one in game.log.files]
    with state.home.inside() as inside:
        found = [path for name in inside.names("") if name != RHIZON for path in files_below(inside, name)]
        return sorted(
            path
            for path in found
            if path not in known
            and not game.world.covers(path)
            and not any(PurePosixPath(path).match(pattern) for pattern in logs)
            and inside.is_file(path)
        )
