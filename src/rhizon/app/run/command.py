"""The command and the variables that a server is started with, by its lock and its record."""

import os
from typing import NamedTuple

from rhizon.adapters.instances import InstanceFolder
from rhizon.app.instance.native_files import started_with
from rhizon.core.content_paths import content_paths
from rhizon.core.launch import Launch, start_command, start_environment
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance
from rhizon.core.model.lock import Lock

__all__ = ["StartCommand", "command_of"]


class StartCommand(NamedTuple):
    """What is executed in the server's folder."""

    words: tuple[str, ...]
    environment: dict[str, str]


def command_of(
    home: InstanceFolder, game: GameDefinition, lock: Lock, instance: Instance, measured: str | None = None
) -> StartCommand:
    """``measured`` is the folder in the server's own for the runtime's logs of its memory; None for no such logs."""
    launch = Launch(
        lock.target.loader,
        instance.runtime,
        instance.heap_mib,
        path_separator=os.pathsep,
        content=content_paths(game, lock),
        arguments=started_with(home, game),
        measured=measured,
    )
    return StartCommand(start_command(game, launch), start_environment(game, instance.runtime, instance.heap_mib))
