"""Run an instance in the foreground: boot, console, clean stop."""

from collections.abc import Callable
from pathlib import Path
from typing import Literal, NamedTuple

import msgspec

from rhizon.adapters.console import ConsolePort
from rhizon.adapters.instances import InstanceFolder, RunMark
from rhizon.adapters.measured import MEASURED, Samples, make_room
from rhizon.adapters.transact import RHIZON
from rhizon.app.foresee.foresee import foresee
from rhizon.app.foresee.good_runs import remember_good_run, seen_in_good_runs
from rhizon.app.foresee.known_worlds import remember_world
from rhizon.app.foresee.records import broken_files
from rhizon.app.host import Host
from rhizon.app.instance.exclusive import exclusive, require_stopped
from rhizon.app.instance.reservations import entry_of, require_free
from rhizon.app.instance.state import require_instance_state
from rhizon.app.instance.worlds import lay_world, remove_left_mark, world_named_in_file
from rhizon.app.reporter import Reporter
from rhizon.app.run.blame import suspect_of
from rhizon.app.run.command import command_of
from rhizon.app.run.explain import explained
from rhizon.app.run.noticed import BeforeStart, not_loaded
from rhizon.app.run.server import RunningServer
from rhizon.app.tune.move_ports import move_now, taken_ports
from rhizon.core.errors import NotReadyError, StateError
from rhizon.core.finding import Finding
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance
from rhizon.core.model.lock import Lock
from rhizon.core.words import command_line

__all__ = ["Moment", "RunResult", "RunWishes", "run"]

Moment = Literal["go on", "stop"]
AskMove = Callable[[str], bool]


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
    """Starts the server with its content and keeps it until it ends, or until it is asked to stop.

    ``tick`` is called between lines once the server is ready, at least five times a second.
    Raises NotReadyError, CancelledError, :class:`StateError` (cannot start; ended by itself).
    """
    home = host.home(folder).required()
    with exclusive(host, home, reporter):
        require_stopped(host, home, reporter, stop_first=None)
        instance = home.instance()
        lock = home.lock()
        game = host.game_of(instance, lock)
        _can_start(home, game, instance)
        foretold = _foretold(host, home, reporter, anyway=wishes.anyway)
        require_free(host, home, entry_of(game, home, instance))
        instance = _with_world(home, game, lock, instance, reporter)
        if _free_ports(host, home, game, lock, instance, wishes.ask_move, reporter):
            instance = home.instance()
        remove_left_mark(home, game, world_named_in_file(home, game, instance), reporter)
        make_room(home.folder)
        command = command_of(home, game, lock, instance, f"{RHIZON}/{MEASURED}")
        before = BeforeStart(home, game, lock, instance)
        reporter.step(f"starting {instance.name}")
        server = RunningServer(command.words, command.environment, home.folder, game, reporter, seen_in_good_runs(home))
        console_port = None
        try:
            console_port = ConsolePort(server.process.send, game.console.hold, home.folder)
            server.listeners.append(console_port.heard)
            mark = RunMark(server.process.pid, server.process.since, console_port.port, console_port.token)
            home.mark_running(mark)
        except BaseException:
            server.close()  # a server that no one could find again is not left running
            if console_port is not None:
                console_port.close()
            raise
    try:
        with server:
            try:
                ready = server.until_ready(wishes.wait, stop_asked)
            except NotReadyError as wrong:
                raise _blamed(host, home, wrong) from None
            reporter.done(f"ready after {ready:.1f} s")
            noticed = before.changed()
            remember_world(home, before.world.name)
            remember_good_run(home, server.judge.got_over)
            samples = Samples(home.folder, server.process.pid)
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
        console_port.close()
        home.mark_ended(mark)
    return RunResult(
        folder=str(home.folder),
        name=instance.name,
        ready_seconds=round(ready, 2),
        content=tuple(server.judge.started),
        exit_code=code,
        up_seconds=round(server.seconds, 2),
        log=str(server.log),
        findings=(
            *foretold,
            *noticed,
            *not_loaded(home, game, lock, server.judge),
            *(
                Finding(
                    code=one.code, severity="warning", subject=one.culprit or "content", what=one.what, remedy=one.hint
                )
                for one in server.judge.troubles
            ),
        ),
    )


def _foretold(host: Host, home: InstanceFolder, reporter: Reporter, *, anyway: bool) -> list[Finding]:
    """What the rules find before the start; warnings are told. Raises StateError for errors, unless they are to be
    overridden."""
    state = require_instance_state(host, home)
    found = [*broken_files(state), *foresee(host, state, None, ask_runtime=False)]
    later = {"runtime-gone"}  # the start itself tells of it
    if taken_ports(state.game, state.lock, state.instance):
        later.add("port-taken")  # the next step offers free ones; a number that only a file has is refused here
    wrong = [one for one in found if one.severity == "error" and one.code not in later]
    if wrong and not anyway:
        first = wrong[0]
        more = [f"{one.subject}: {one.what}" for one in wrong[1:6]]
        raise StateError(
            "start-refused",
            f"the server would not start well: {first.subject}: {first.what}",
            details=[*more, f"to start it all the same: {command_line('rhizon', 'run', home.folder, '--anyway')}"],
            hint=first.remedy if len(wrong) == 1 else f"See what to do: {command_line('rhizon', 'check', home.folder)}",
        )
    told = [one for one in found if one.severity == "warning" or one in wrong]
    for one in told:
        reporter.warning(f"{one.severity}: {one.subject}: {one.what}")
    return told


def _blamed(host: Host, home: InstanceFolder, wrong: NotReadyError) -> NotReadyError:
    """The same with the content whose code it was, where the log named none."""
    if wrong.culprit is None and wrong.frames:
        suspect = suspect_of(host, require_instance_state(host, home), wrong.frames)
        if suspect is not None:
            named = NotReadyError(
                wrong.code,
                f"{wrong.message}; it was in {suspect.id}",
                details=[*wrong.details, suspect.why],
                hint=wrong.hint,
            )
            named.culprit, named.frames = suspect.id, wrong.frames
            wrong = named
    return explained(host, home, wrong)


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


def _with_world(
    home: InstanceFolder, game: GameDefinition, lock: Lock, instance: Instance, reporter: Reporter
) -> Instance:
    """A world that a person named since the last start, copied from its template; the game makes all others itself."""
    words = lay_world(home, game, lock, instance, None, reporter)
    if words:
        instance = msgspec.structs.replace(instance, world_from=words)
        home.write_instance(instance)
    return instance


def _free_ports(
    host: Host,
    home: InstanceFolder,
    game: GameDefinition,
    lock: Lock,
    instance: Instance,
    ask: AskMove | None,
    reporter: Reporter,
) -> bool:
    """Sees that no one else listens on the server's ports; True when the server moved to others since a person said
    so. Raises :class:`StateError` with the numbers that it could have."""
    taken = taken_ports(game, lock, instance)
    if not taken:
        return False
    first = taken[0]
    said = f"the {first.role} port {first.number} ({first.protocol}) is used by {first.holder}"
    offer = move_now(host, home, {}, write=False)
    free = ", ".join(f"{one.name} {one.after}" for one in offer.ports)
    if ask is not None and ask(f"{said}; free: {free}"):
        reporter.step("moving the server to free ports")
        move_now(host, home, {}, write=True)
        reporter.done(f"moved to {free}")
        return True
    raise StateError(
        "port-taken",
        said,
        details=[f"free ports: {free}"],
        hint=f"Stop that program, or take the free ones: {command_line('rhizon', 'ports', home.folder, '--move')}",
    )


def _can_start(home: InstanceFolder, game: GameDefinition, instance: Instance) -> None:
    """Raises StateError where the licence, the first start or the runtime is missing."""
    if game.licence is not None and instance.licence is None:
        raise StateError(
            "licence-pending",
            f"the licence of {game.title} has not been accepted",
            details=[f"text of the licence: {home.folder / game.licence.text}"],
            hint="Read it; then: "
            + command_line("rhizon", "provision", instance.source, home.folder, "--accept-licence"),
        )
    if not instance.first_start_done:
        raise StateError(
            "first-start-pending",
            "the first start is not done yet",
            hint=f"Run: {command_line('rhizon', 'provision', instance.source, home.folder)}",
        )
    if instance.runtime is not None and not Path(instance.runtime.program).is_file():
        raise StateError(
            "runtime-gone",
            f"the runtime was not found: {instance.runtime.program}",
            hint=f"Install {instance.runtime.family} {instance.runtime.major} again, then provision again.",
        )
