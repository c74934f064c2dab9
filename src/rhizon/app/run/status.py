"""How servers are: their state, what they use, what happened last; and waiting for a state."""

import time
from collections.abc import Callable
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.keepers import life_of
from rhizon.adapters.processes import usage_of
from rhizon.app.host import Host
from rhizon.app.instance.server_state import ServerState, State, state_of
from rhizon.app.run.crashes import last_crash
from rhizon.app.run.schedule import TaskLine, task_lines
from rhizon.core.errors import CancelledError, NotReadyError, StateError
from rhizon.core.words import command_line

__all__ = ["ServerStatus", "WaitResult", "status", "wait_for"]

POLL_SECONDS = 0.1


class ServerStatus(msgspec.Struct, frozen=True, kw_only=True):
    """One server: ``memory_mib`` of its processes now, ``processor`` the share of one that they used since they began,
    None where none runs; ``granted_mib`` what it may use; ``crash`` what is known of the last crash; ``schedule`` what
    is done regularly, and how that ended last."""

    folder: str
    name: str
    game: str
    now: ServerState
    memory_mib: float | None
    granted_mib: int
    processor: float | None
    ports: dict[str, int]
    restart: str
    crash: str
    schedule: tuple[TaskLine, ...] = ()


class WaitResult(msgspec.Struct, frozen=True, kw_only=True):
    """How long it took until the server was in that state."""

    folder: str
    name: str
    state: State
    seconds: float


def status(host: Host, folder: Path) -> ServerStatus:
    """Raises :class:`StateError` where there is no server."""
    home = host.home(folder).required()
    instance = home.instance()
    now = state_of(host, home)
    usage = usage_of(now.pid) if now.pid is not None else None
    game = host.game_of(instance)
    crash = last_crash(home)
    return ServerStatus(
        folder=str(home.folder),
        name=instance.name,
        game=instance.game,
        now=now,
        memory_mib=usage.memory_mib if usage is not None else None,
        granted_mib=instance.heap_mib + game.memory.outside_heap_mib,
        processor=usage.processor if usage is not None else None,
        ports=instance.ports,
        restart=instance.life.restart,
        crash=f"{crash.when}: {crash.what}" if crash is not None and now.state in ("crashed", "crash-loop") else "",
        schedule=task_lines(home, instance),
    )


def wait_for(
    host: Host, folder: Path, wanted: Literal["ready", "stopped"], seconds: float, stop_asked: Callable[[], bool]
) -> WaitResult:
    """Returns when the server is in the state that is waited for. Raises NotReadyError where it ends instead of
    becoming ready, :class:`StateError` where the time is up, CancelledError."""
    home = host.home(folder).required()
    name, begun = home.instance().name, time.monotonic()
    while True:
        now = _look(host, home)
        waited = time.monotonic() - begun
        if now.state == wanted or (wanted == "stopped" and now.pid is None and now.next_start is None):
            return WaitResult(folder=str(home.folder), name=name, state=now.state, seconds=round(waited, 1))
        if wanted == "ready" and now.pid is None and now.next_start is None:
            crash = last_crash(home)
            raise NotReadyError(
                "start-ended",
                f"the server {name} is {now.state}" + (f": {crash.what}" if crash is not None else ""),
                hint=f"Start it: {command_line('rhizon', 'start', home.folder)}",
            )
        if waited > seconds:
            raise StateError(
                "wait-timeout",
                f"the server {name} is still {now.state} after {waited:.0f} s",
                hint=f"See what it does: {command_line('rhizon', 'log', home.folder)}",
            )
        if stop_asked():
            raise CancelledError("wait-cancelled", "the wait was cancelled", hint="The server keeps running.")
        time.sleep(POLL_SECONDS)


def _look(host: Host, home: InstanceFolder) -> ServerState:
    """The state now; processes are only listed anew where no keeper tells."""
    life = life_of(home)
    if life is None or not life.kept:
        vars(host).pop("processes", None)
    return state_of(host, home)
