"""Run an instance in the foreground: boot, console, clean stop."""

import os
from collections.abc import Callable
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.adapters.console import ConsolePort
from rhizon.adapters.host import socket_in_use
from rhizon.adapters.instances import InstanceFolder, RunMark
from rhizon.adapters.measured import MEASURED, Samples, make_room
from rhizon.adapters.processes import holder_of
from rhizon.adapters.transact import RHIZON
from rhizon.app.context import Host
from rhizon.app.entering import entered, stopped
from rhizon.app.ports import every_number, protocols_of
from rhizon.app.reporter import Reporter
from rhizon.app.starting import RunningServer
from rhizon.core.errors import StateError
from rhizon.core.launch import start_command
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance

__all__ = ["Ran", "run"]

Moment = Literal["go on", "stop"]


class Ran(msgspec.Struct, frozen=True, kw_only=True):
    """How a run went: seconds until ready, what was started, the exit code and the seconds it was up."""

    folder: str
    name: str
    ready_seconds: float
    content: tuple[str, ...]
    exit_code: int
    up_seconds: float
    log: str


def run(
    host: Host,
    folder: Path,
    reporter: Reporter,
    stop_asked: Callable[[], bool],
    tick: Callable[[RunningServer], Moment] = lambda _server: "go on",
    *,
    wait: float | None = None,
) -> Ran:
    """Starts the server with its content and keeps it until it ends, or until it is asked to stop.

    ``tick`` is called between lines once the server is ready, at least five times a second.
    Raises NotReadyError, CancelledError, :class:`StateError` (cannot start; ended by itself).
    """
    home = InstanceFolder(folder).required()
    with entered(home, reporter):
        stopped(host, home, reporter, stop_first=False)
        instance = home.instance()
        game = host.game_of(instance)
        _can_start(home, game, instance)
        lock = home.lock()
        make_room(home.own)
        command = start_command(
            game,
            lock.target.loader,
            instance.runtime,
            instance.heap_mib,
            path_separator=os.pathsep,
            measured=f"{RHIZON}/{MEASURED}",
        )
        reporter.step(f"starting {instance.name}")
        server = RunningServer(command, home.folder, game, reporter)
        way_in = None
        try:
            way_in = ConsolePort(server.process.send, game.console.hold)
            server.listeners.append(way_in.heard)
            home.mark_running(RunMark(server.process.pid, server.process.since, way_in.port, way_in.token))
        except BaseException:
            server.close()  # a server that nobody could find again is not left running
            if way_in is not None:
                way_in.close()
            raise
    try:
        with server:
            ready = server.until_ready(wait, stop_asked)
            reporter.done(f"ready after {ready:.1f} s")
            samples = Samples(home.own, server.process.pid)
            while not server.process.over:
                samples.tick()
                if stop_asked() or tick(server) == "stop":
                    reporter.step("stopping")
                    code = server.stop()
                    reporter.done("stopped" if code == 0 else f"ended with exit code {code}")
                    break
                server.pump()
            else:
                code = _ended(server)
    finally:
        way_in.close()
        home.mark_running(None)
    return Ran(
        folder=str(home.folder),
        name=instance.name,
        ready_seconds=round(ready, 2),
        content=tuple(server.judge.started),
        exit_code=code,
        up_seconds=round(server.seconds, 2),
        log=str(server.log),
    )


def _ended(server: RunningServer) -> int:
    """It ended without being asked here: by a console command (code 0), or it crashed."""
    code = server.process.wait(5)
    if code == 0 or (code is not None and server.judge.closed):
        return code
    raise StateError(
        "server-ended",
        f"the server ended by itself with exit code {code} after {server.seconds:.0f} s",
        details=server.last_lines[-4:],
        hint=f"All that it printed is in {server.log}",
    )


def _can_start(home: InstanceFolder, game: GameDefinition, instance: Instance) -> None:
    if game.licence is not None and instance.licence is None:
        raise StateError(
            "licence-pending",
            f"the licence of {game.title} was not accepted yet",
            details=[f"its text: {home.folder / game.licence.text}"],
            hint=f"Read it; then: rhizon provision {instance.source} {home.folder} --accept-licence",
        )
    if not instance.first_start_done:
        raise StateError(
            "first-start-pending",
            "the first start has not been done yet",
            hint=f"Run: rhizon provision {instance.source} {home.folder}",
        )
    if instance.runtime is not None and not Path(instance.runtime.program).is_file():
        raise StateError(
            "runtime-gone",
            f"the runtime is gone: {instance.runtime.program}",
            hint=f"Install {instance.runtime.family} {instance.runtime.major} again, then provision again.",
        )
    protocols = protocols_of(game, home.lock())
    for role, number in every_number(game, instance.ports).items():
        for protocol in protocols.get(role.partition("+")[0], ()):
            if socket_in_use(number, protocol):
                raise StateError(
                    "port-taken",
                    f"the {role} port {number} ({protocol}) is held by {holder_of(number)}",
                    hint=f"Stop that program, or move the server: rhizon provision {instance.source} {home.folder} "
                    "(it takes the next free port)",
                )
