"""Starting a server with a keeper: what has to hold first, and what its keeper is told."""

import sys
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import NamedTuple

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.keepers import KeptProcess, life_of, start_keeper
from rhizon.adapters.measured import MEASURED, make_room
from rhizon.adapters.transact import RHIZON
from rhizon.app.archives.on_server import scan_content
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
from rhizon.app.run.command import StartCommand, command_of
from rhizon.app.run.explain import explained
from rhizon.app.run.noticed import BeforeStart, not_loaded
from rhizon.app.run.server import RunningServer
from rhizon.app.tune.move_ports import move_now, taken_ports
from rhizon.core.errors import NotReadyError, StateError
from rhizon.core.finding import Finding
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance, Restart
from rhizon.core.model.lock import Lock
from rhizon.core.words import command_line
from rhizon.keeper.job import Job

__all__ = ["AskMove", "Launched", "job_of", "launch", "prepare"]

AskMove = Callable[[str], bool]


class Launched(NamedTuple):
    """A server that its keeper has started. ``foretold`` is what the rules found before."""

    home: InstanceFolder
    game: GameDefinition
    lock: Lock
    instance: Instance
    server: RunningServer
    process: KeptProcess
    before: BeforeStart
    foretold: tuple[Finding, ...]

    def until_ready(self, host: Host, wait: float | None, stop_asked: Callable[[], bool]) -> float:
        """Seconds until it is ready; what is learnt from that is remembered. Raises NotReadyError with the content at
        fault and what explains it, CancelledError."""
        try:
            ready = self.server.until_ready(wait, stop_asked)
        except NotReadyError as wrong:
            raise _blamed(host, self.home, wrong) from None
        remember_good_run(self.home, self.server.judge.got_over)
        life = life_of(self.home)  # its keeper began to count before this command could
        if life is None:
            return ready
        return life.ready_seconds if life.ready_seconds is not None else max(ready, time.time() - life.began)

    def noticed(self) -> tuple[Finding, ...]:
        """What the server did by itself while it started, and what it did not do."""
        found = tuple(self.before.changed())
        remember_world(self.home, self.before.world.name)
        return (*found, *not_loaded(self.home, self.game, self.lock, self.server.judge))

    def troubles(self) -> tuple[Finding, ...]:
        """Content that failed alone."""
        return tuple(
            Finding(code=one.code, severity="warning", subject=one.culprit or "content", what=one.what, remedy=one.hint)
            for one in self.server.judge.troubles
        )


def launch(
    host: Host,
    home: InstanceFolder,
    reporter: Reporter,
    *,
    restart: Restart | None,
    anyway: bool = False,
    ask_move: AskMove | None = None,
    attended: bool = True,
) -> Launched:
    """Sees that the server can start, and starts it with a keeper. ``restart`` None: as the server's record says;
    ``attended``: the caller waits until it is ready.
    Raises :class:`StateError` (it cannot start, or one is running)."""
    with exclusive(host, home, reporter):
        ready = _prepared(host, home, reporter, anyway=anyway, ask_move=ask_move)
        reporter.step(f"starting {ready.instance.name}")
        job = _job(ready.game, ready.instance, ready.command, restart)
        life = start_keeper(home, replace(job, attended=attended))
        process = KeptProcess(home, life, ready.game.log.encoding)
        server = RunningServer(process, home.folder, ready.game, reporter, seen_in_good_runs(home))
    return Launched(home, ready.game, ready.lock, ready.instance, server, process, ready.before, tuple(ready.foretold))


def prepare(host: Host, home: InstanceFolder, reporter: Reporter) -> None:
    """Sees that the server can start, for a keeper that is started by other means. Raises :class:`StateError`."""
    with exclusive(host, home, reporter):
        _prepared(host, home, reporter, anyway=False, ask_move=None)


class _Ready(NamedTuple):
    """A server that can start now."""

    game: GameDefinition
    lock: Lock
    instance: Instance
    command: StartCommand
    before: BeforeStart
    foretold: list[Finding]


def _prepared(
    host: Host, home: InstanceFolder, reporter: Reporter, *, anyway: bool, ask_move: AskMove | None
) -> _Ready:
    """All that has to hold and to be there before a start. Raises StateError."""
    require_stopped(host, home, reporter, stop_first=None)
    instance = home.instance()
    lock = home.lock()
    game = host.game_of(instance, lock)
    _can_start(home, game, instance)
    foretold = _foretold(host, home, reporter, anyway=anyway)
    require_free(host, home, entry_of(game, home, instance))
    instance = _with_world(home, game, lock, instance, reporter)
    if _free_ports(host, home, game, lock, instance, ask_move, reporter):
        instance = home.instance()
    remove_left_mark(home, game, world_named_in_file(home, game, instance), reporter)
    make_room(home.folder)
    command = command_of(home, game, lock, instance, f"{RHIZON}/{MEASURED}")
    return _Ready(game, lock, instance, command, BeforeStart(home, game, lock, instance), foretold)


def _job(game: GameDefinition, instance: Instance, command: StartCommand, restart: Restart | None) -> Job:
    """What the keeper is told."""
    console, life = game.console, instance.life
    return Job(
        name=instance.name,
        command=list(command.words),
        environment=command.environment,
        encoding=game.log.encoding,
        files=[[one.path, one.encoding] for one in game.log.files],
        ready=game.ready_pattern,
        ready_line=game.log.ready if game.is_probed else "",
        watch=command.watch,
        launcher=command.launcher,
        console=command.console,
        closed=game.log.closed,
        stop=console.stop,
        stop_signal=console.stop_signal or "",
        stop_seconds=console.stop_seconds,
        hold=msgspec.to_builtins(console.hold) if console.hold is not None else None,
        restart=restart if restart is not None else life.restart,
        pause_seconds=life.pause_seconds,
        most_restarts=life.most_restarts,
        within_seconds=life.within_seconds,
        events=[sys.executable, "-P", "-m", "rhizon.cli.keeper_event"],
        attended=True,
        pages=list(instance.players.pages),
    )


def job_of(host: Host, home: InstanceFolder) -> Job:
    """What the keeper of a server is told, as its records are now, for a start that nobody watches. Raises
    StateError."""
    instance, lock = home.instance(), home.lock()
    game = host.game_of(instance, lock)
    command = command_of(home, game, lock, instance, f"{RHIZON}/{MEASURED}")
    return replace(_job(game, instance, command, None), attended=False)


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
            details=[*more, f"to start it all the same: {command_line('rhizon', 'start', home.folder, '--anyway')}"],
            hint=first.remedy if len(wrong) == 1 else f"See what to do: {command_line('rhizon', 'check', home.folder)}",
        )
    told = [one for one in found if one.severity == "warning" or one in wrong]
    for one in told:
        reporter.warning(f"{one.severity}: {one.subject}: {one.what}")
    return told


def _blamed(host: Host, home: InstanceFolder, wrong: NotReadyError) -> NotReadyError:
    """The same with the content whose code it was, where the log named none; and with its file, where that was put
    there by hand."""
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
    return _by_hand(host, home, explained(host, home, wrong))


def _by_hand(host: Host, home: InstanceFolder, wrong: NotReadyError) -> NotReadyError:
    """The same with what to do about content that no list has."""
    state = require_instance_state(host, home)
    if wrong.culprit is None or any(one.id == wrong.culprit for one in state.lock.releases):
        return wrong
    for one in scan_content(host, state):
        facts = one.archive.facts if one.archive is not None else None
        if facts is not None and facts.id == wrong.culprit:
            path = Path(one.path).relative_to(home.folder).as_posix()
            better = NotReadyError(
                wrong.code,
                wrong.message,
                details=[*wrong.details, f"{wrong.culprit} is {path}, which is not in the lock"],
                hint=f"Remove {path}, or get a release that fits and add it to the list.",
            )
            better.culprit, better.frames = wrong.culprit, wrong.frames
            return better
    return wrong


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
