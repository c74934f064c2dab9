"""In which state a server is: by what its keeper wrote, and by whether its process and its keeper are there."""

import time
from typing import Literal

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.keepers import Life, life_of
from rhizon.app.host import Host
from rhizon.app.instance.exclusive import started_elsewhere

__all__ = ["RUNS", "ServerState", "State", "state_of"]

State = Literal["starting", "ready", "stopping", "stopped", "crashed", "crash-loop", "unknown-outside"]
RUNS: tuple[State, ...] = ("starting", "ready", "stopping", "unknown-outside")


class ServerState(msgspec.Struct, frozen=True, kw_only=True):
    """``state`` is "unknown-outside" for a server that Rhizon did not start: start.sh did, or another program. ``pid``
    is the server's process; ``kept`` whether its keeper is there. ``seconds`` is how long it is in this state, None
    where that is not known; ``next_start`` in how many seconds it is started again."""

    state: State
    pid: int | None = None
    kept: bool = False
    seconds: float | None = None
    ready_seconds: float | None = None
    exit_code: int | None = None
    restarts: int = 0
    next_start: float | None = None
    why: str = ""


def state_of(host: Host, home: InstanceFolder) -> ServerState:
    """Nothing is written, and nothing is adopted."""
    mark, life = home.running(), life_of(home)
    if mark is not None and mark.is_bare:
        return ServerState(state="starting", pid=mark.pid, why="its first start")
    if mark is not None:
        mine = life if life is not None and life.pid == mark.pid else None
        return ServerState(
            state=_running(mine),
            pid=mark.pid,
            kept=mine is not None and mine.kept,
            seconds=_since(mine),
            ready_seconds=mine.ready_seconds if mine is not None else None,
            restarts=mine.restarts if mine is not None else 0,
        )
    outside = started_elsewhere(host, home)
    if outside is not None:
        return ServerState(state="unknown-outside", pid=outside)
    if life is None:
        return ServerState(state="stopped")
    if life.state in ("stopped", "crashed", "crash-loop"):
        waits = life.next_start if life.kept else None
        return ServerState(
            state=_ended(life.state),
            kept=waits is not None,
            seconds=_since(life),
            ready_seconds=life.ready_seconds,
            exit_code=life.exit_code,
            restarts=life.restarts,
            next_start=max(0.0, round(waits - time.time(), 1)) if waits is not None else None,
            why=life.why,
        )
    return ServerState(state="crashed", seconds=None, why="it ended while no keeper was there")


def _running(life: Life | None) -> State:
    return (
        "ready"
        if life is not None and life.state == "ready"
        else ("stopping" if life is not None and life.state == "stopping" else "starting")
    )


def _ended(state: str) -> State:
    return "stopped" if state == "stopped" else "crash-loop" if state == "crash-loop" else "crashed"


def _since(life: Life | None) -> float | None:
    return round(max(0.0, time.time() - life.changed), 1) if life is not None and life.changed else None
