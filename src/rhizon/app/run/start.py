"""Start a server in the background, and wait until it is ready."""

from collections.abc import Callable
from pathlib import Path

import msgspec

from rhizon.adapters.host import every_address
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.keepers import keeper_command
from rhizon.app.host import Host
from rhizon.app.instance.exclusive import console_of, exclusive
from rhizon.app.instance.server_state import RUNS, state_of
from rhizon.app.reporter import Reporter
from rhizon.app.run.launch import AskMove, job_of, launch, prepare
from rhizon.core.errors import NotReadyError
from rhizon.core.finding import Finding
from rhizon.core.model.instance import Instance, Restart

__all__ = ["StartResult", "StartWishes", "in_foreground", "start"]


class StartWishes(msgspec.Struct, frozen=True, kw_only=True):
    """What a person asks for: ``wait`` seconds until it is ready (None: as the definition says; 0: not at all);
    ``restart``, ``adjust`` (more memory after that ran out) and ``tell`` (whom, of a crash) from now on (None: as it
    was); ``anyway`` also where rules say that it will fail."""

    wait: float | None = None
    restart: Restart | None = None
    adjust: bool | None = None
    tell: str | None = None
    anyway: bool = False
    ask_move: AskMove | None = None


class StartResult(msgspec.Struct, frozen=True, kw_only=True):
    """``already``: it ran before. ``ready_seconds`` is None where nobody waited for that. ``addresses`` are those of
    this machine that the server listens on, with its first port: players of the same network join there."""

    folder: str
    name: str
    already: bool
    pid: int
    ready_seconds: float | None
    content: tuple[str, ...]
    ports: dict[str, int]
    addresses: tuple[str, ...]
    log: str
    findings: tuple[Finding, ...] = ()


def start(
    host: Host, folder: Path, reporter: Reporter, stop_asked: Callable[[], bool], wishes: StartWishes = StartWishes()
) -> StartResult:
    """Starts the server with a keeper, which stays when this returns. Raises NotReadyError (with the content at fault;
    the server is ended then), CancelledError, :class:`StateError` (it cannot start)."""
    home = host.home(folder).required()
    now = state_of(host, home)
    if now.pid is not None and now.state in RUNS:
        mark = home.running()
        if mark is not None and not mark.is_bare and not now.kept:
            reporter.step("giving the server a new keeper")
            console_of(home, mark).close()
            reporter.done("the server has a new keeper; the old one had ended")
        return _result(home, pid=now.pid, already=True, ready_seconds=now.ready_seconds)
    _remember(host, home, wishes, reporter)
    waits = wishes.wait != 0
    launched = launch(
        host, home, reporter, restart=None, anyway=wishes.anyway, ask_move=wishes.ask_move, attended=waits
    )
    with launched.server as server:
        ready: float | None = None
        noticed: tuple[Finding, ...] = ()
        if waits:
            try:
                ready = launched.until_ready(host, wishes.wait, stop_asked)
            except NotReadyError:
                launched.process.give_up()
                raise
            reporter.done(f"ready after {ready:.1f} s")
            noticed = launched.noticed()
        launched.process.detach()
    return _result(
        home,
        pid=launched.process.pid,
        already=False,
        ready_seconds=round(ready, 2) if ready is not None else None,
        content=tuple(server.judge.started),
        findings=(*launched.foretold, *noticed, *launched.troubles()),
    )


def _result(
    home: InstanceFolder,
    *,
    pid: int,
    already: bool,
    ready_seconds: float | None,
    content: tuple[str, ...] = (),
    findings: tuple[Finding, ...] = (),
) -> StartResult:
    instance = home.instance()
    return StartResult(
        folder=str(home.folder),
        name=instance.name,
        already=already,
        pid=pid,
        ready_seconds=ready_seconds,
        content=content,
        ports=instance.ports,
        addresses=tuple(_addresses(instance)),
        log=str(home.own / "last-run.log"),
        findings=findings,
    )


def _addresses(instance: Instance) -> list[str]:
    """Where players reach it from this machine and its networks."""
    port = next(iter(instance.ports.values()), None)
    if port is None:
        return []
    bound = str(instance.settings.get("address", "")).strip()
    found = every_address() if bound in ("", "0.0.0.0", "::") else [bound]
    ours = [one for one in found if not one.startswith(("127.", "fe80")) and one != "::1"]
    return [f"[{one}]:{port}" if ":" in one else f"{one}:{port}" for one in ours or found]


def _remember(host: Host, home: InstanceFolder, wishes: StartWishes, reporter: Reporter) -> None:
    """Writes down what is to happen after a crash from now on."""
    asked = {"restart": wishes.restart, "adjust_memory": wishes.adjust, "tell": wishes.tell}
    changes = {name: value for name, value in asked.items() if value is not None}
    if not changes:
        return
    with exclusive(host, home, reporter):
        instance = home.instance()
        life = msgspec.structs.replace(instance.life, **changes)
        if life != instance.life:
            home.write_instance(msgspec.structs.replace(instance, life=life))


def in_foreground(host: Host, folder: Path, reporter: Reporter) -> list[str]:
    """What to execute in place of this process, so that it is the keeper of the server: a service manager watches it.
    Raises :class:`StateError` (it cannot start, or one is running)."""
    home = host.home(folder).required()
    now = state_of(host, home)
    if now.pid is not None and now.state != "unknown-outside" and not now.kept:
        return [*keeper_command(home.folder), "--adopt"]
    prepare(host, home, reporter)
    job_of(host, home).write(home.folder)
    return keeper_command(home.folder)
