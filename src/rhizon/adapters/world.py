"""Where the shipped world is, and its simulated player as a separate program."""

import json
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from rhizon.core.errors import NotReadyError

__all__ = ["WORLD", "lists", "player_joins"]

WORLD = Path(__file__).parents[1] / "world" / "harbour"
PLAYER_SECONDS = 30
_ENDING = ".list.toml"


def lists() -> dict[str, Path]:
    """The club's content lists by game."""
    return {file.name.removesuffix(_ENDING): file for file in sorted(WORLD.glob(f"*{_ENDING}"))}


def player_joins(game: str, port: int, name: str, content: Sequence[str], password: str = "-") -> dict[str, Any]:
    """Lets the simulated player join on this machine with ``content`` (``ID=VERSION``); what it saw.

    Raises NotReadyError when the server did not let it in.
    """
    command = [sys.executable, "-m", "rhizon.world.harbour.player", game, "127.0.0.1", str(port), name, password]
    done = subprocess.run([*command, *content], capture_output=True, timeout=PLAYER_SECONDS)
    try:
        seen: dict[str, Any] = json.loads(done.stdout)
    except ValueError:
        seen = {"joined": False, "reason": done.stderr.decode("utf-8", "replace")[-300:]}
    if not seen["joined"]:
        raise NotReadyError(
            "player-turned-away",
            f"the simulated player could not join: {seen['reason']}",
            hint="The server's log says more: .rhizon/last-run.log in the instance.",
        )
    return seen
