"""Run a server with a terminal attached: boot, console, clean stop."""

import time
from collections.abc import Callable
from pathlib import Path
from typing import Literal, NamedTuple

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.keepers import KeptProcess, life_of
from rhizon.app.host import Host
from rhizon.app.instance.exclusive import console_of
from rhizon.app.instance.server_state import state_of
from rhizon.app.reporter import Reporter
from rhizon.app.run.launch import AskMove, launch
from rhizon.app.run.server import RunningServer
from rhizon.core.errors import StateError
from rhizon.core.finding import Finding
from rhizon.core.words import command_line

__all__ = ["Moment", "RunResult", "RunWishes", "run"]

Moment = Literal["go on", "stop"]


class RunResult(msgspec.Struct, frozen=True, kw_only=True):
    """How a run went: seconds until ready, what was started, the exit code and the seconds it was up. ``findings`` are
    what was foretold, and content that failed alone."""

    folder: str
    name: str
    ready_seconds: float
    content: tuple[str, ...]
    exit_code: int
    up_seconds: float
    log: str
    findings: tuple[Finding, ...] = ()


class RunWishes(NamedTuple):
    """What a person asks for: how many seconds the server may take to become ready (None: as the definition says), and
    a question to ask before it takes other ports where another program listens on its own. ``anyway``: start it
    also where rules say that this will fail."""

    wait: float | None = None
    ask_move: AskMove | None = None
    anyway: bool = False


def run(
    host: Host,
    folder: Path,
    reporter: Reporter,
    stop_asked: Callable[[], bool],
    tick: Callable[[RunningServer], Moment] = lambda _server: "go on",
    wishes: RunWishes = RunWishes(),
) -> RunResult:
    """Starts the server with its content and stays attached until it ends, or until it is asked to stop. The server has
    a keeper: where this process is killed, it keeps running. One that runs and has lost its keeper gets another one,
    and is attached to.

    ``tick`` is called between lines once the server is ready, at least five times a second.
    Raises NotReadyError, CancelledError, :class:`StateError` (cannot start, has a keeper already, ended by itself).
    """
    home = host.home(folder).required()
    server = _taken_over(host, home, reporter)
    if server is not None:
        with server:
            return _attached(home, server, wishes, reporter, stop_asked, tick)
    launched = launch(host, home, reporter, restart="never", anyway=wishes.anyway, ask_move=wishes.ask_move)
    with launched.server:
        ready = launched.until_ready(host, wishes.wait, stop_asked)
        reporter.done(f"ready after {ready:.1f} s")
        noticed = launched.noticed()
        code = _until_end(launched.server, reporter, stop_asked, tick)
    findings = (*launched.foretold, *noticed, *launched.troubles())
    return _result(home, launched.server, ready, code, findings)


def _taken_over(host: Host, home: InstanceFolder, reporter: Reporter) -> RunningServer | None:
    """A server that runs without a keeper, with a new one; None where there is no such server. Raises StateError where
    its keeper is there."""
    mark, now = home.running(), state_of(host, home)
    if mark is None or mark.is_bare:
        return None
    if now.kept:
        raise StateError(
            "server-running",
            f"the server in {home.folder} is running in the background (process {mark.pid})",
            hint=f"Attach to it: {command_line('rhizon', 'console', home.folder)}",
        )
    reporter.step("giving the server a new keeper")
    console_of(home, mark).close()
    life = life_of(home)
    if life is None:
        return None
    reporter.done("the server has a new keeper; the old one had ended")
    game = host.game_of(home.instance())
    process = KeptProcess(home, life, game.log.encoding, whole=life.state != "ready")
    return RunningServer(process, home.folder, game, reporter)


def _attached(
    home: InstanceFolder,
    server: RunningServer,
    wishes: RunWishes,
    reporter: Reporter,
    stop_asked: Callable[[], bool],
    tick: Callable[[RunningServer], Moment],
) -> RunResult:
    """The run of a server that was taken over."""
    life = life_of(home)
    ready = life.ready_seconds if life is not None and life.state == "ready" else None
    if ready is None:
        ready = server.until_ready(wishes.wait, stop_asked)
    return _result(home, server, ready, _until_end(server, reporter, stop_asked, tick), ())


def _until_end(
    server: RunningServer, reporter: Reporter, stop_asked: Callable[[], bool], tick: Callable[[RunningServer], Moment]
) -> int:
    """The exit code, once it has ended or was stopped. Raises StateError where it crashed."""
    while not server.process.over:
        if stop_asked() or tick(server) == "stop":
            reporter.step("stopping")
            code = server.stop()
            reporter.done("stopped" if code == 0 else f"ended with exit code {code}")
            return code
        server.pump()
    return _ended(server)


def _result(
    home: InstanceFolder, server: RunningServer, ready: float, code: int, findings: tuple[Finding, ...]
) -> RunResult:
    life = life_of(home)  # a server that was taken over has been up longer than this command
    return RunResult(
        folder=str(home.folder),
        name=home.instance().name,
        ready_seconds=round(ready, 2),
        content=tuple(server.judge.started),
        exit_code=code,
        up_seconds=round(time.time() - life.began if life is not None else server.seconds, 2),
        log=str(server.log),
        findings=findings,
    )


def _ended(server: RunningServer) -> int:
    """It ended without being asked here: by a console command (code 0), or it crashed."""
    code = server.meant_exit_code(server.process.wait(5))
    if code == 0 or (code > 0 and server.judge.closed):
        return code
    raise StateError(
        "server-ended",
        f"the server ended by itself with exit code {code} after {server.seconds:.0f} s",
        details=server.last_lines[-4:],
        hint=f"Its output is in {server.log}",
    )
