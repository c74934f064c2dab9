"""Run a server with a terminal attached: boot, console, clean stop."""

from collections.abc import Callable
from pathlib import Path
from typing import Literal, NamedTuple

import msgspec

from rhizon.app.host import Host
from rhizon.app.reporter import Reporter
from rhizon.app.run.launch import AskMove, launch
from rhizon.app.run.server import RunningServer
from rhizon.core.errors import StateError
from rhizon.core.finding import Finding

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
    a keeper: where this process is killed, it goes on.

    ``tick`` is called between lines once the server is ready, at least five times a second.
    Raises NotReadyError, CancelledError, :class:`StateError` (cannot start; ended by itself).
    """
    home = host.home(folder).required()
    launched = launch(host, home, reporter, restart="never", anyway=wishes.anyway, ask_move=wishes.ask_move)
    server = launched.server
    with server:
        ready = launched.until_ready(host, wishes.wait, stop_asked)
        reporter.done(f"ready after {ready:.1f} s")
        noticed = launched.noticed()
        while not server.process.over:
            if stop_asked() or tick(server) == "stop":
                reporter.step("stopping")
                code = server.stop()
                reporter.done("stopped" if code == 0 else f"ended with exit code {code}")
                break
            server.pump()
        else:
            code = _ended(server)
    return RunResult(
        folder=str(home.folder),
        name=launched.instance.name,
        ready_seconds=round(ready, 2),
        content=tuple(server.judge.started),
        exit_code=code,
        up_seconds=round(server.seconds, 2),
        log=str(server.log),
        findings=(*launched.foretold, *noticed, *launched.troubles()),
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
