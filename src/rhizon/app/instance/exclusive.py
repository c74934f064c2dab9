"""One command at a time in an instance: others are kept out, what was interrupted is rolled back, no server runs."""

import contextlib
import os
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from rhizon import interrupts
from rhizon.adapters.console import ConsoleClient
from rhizon.adapters.instances import InstanceFolder, RunMark
from rhizon.app.host import Host
from rhizon.app.instance.reservations import settle
from rhizon.app.reporter import Reporter
from rhizon.core.errors import RhizonError, StateError
from rhizon.core.launch import Launch, start_command
from rhizon.core.words import command_line
from rhizon.keeper.places import LIFE

__all__ = ["console_of", "exclusive", "require_stopped", "started_elsewhere"]

STOP_PATIENCE = 3  # times the seconds that the definition gives to a stop: a busy machine is slower


@contextmanager
def exclusive(host: Host, home: InstanceFolder, reporter: Reporter) -> Iterator[None]:
    """Keeps other commands out of the instance. First a change that was interrupted is rolled back, and a folder that
    was moved is recorded; both are reported. At the end, whatever happened, the ledger says what the folder says.

    Raises :class:`StateError`: another command is at work there, or nothing can be written.
    """
    interrupts.begin()
    with home.busy() as rolled_back:
        if rolled_back:
            reporter.step("rolling back an interrupted change")
            reporter.done("an earlier change was interrupted; it was rolled back")
        arrived = ""
        with contextlib.suppress(StateError):  # where the ledger cannot be written, what needs it says so
            arrived = settle(host, home)
        if arrived:
            reporter.step("registering the server in the ledger")
            reporter.done(arrived)
        try:
            yield
        finally:
            with interrupts.held(), contextlib.suppress(StateError):  # else the next command does it
                settle(host, home)


def require_stopped(host: Host, home: InstanceFolder, reporter: Reporter, *, stop_first: bool | None) -> None:
    """No server runs in the folder when this returns: one that does is asked to stop where ``stop_first`` allows it
    (None: the command has no such option).

    Raises :class:`StateError` when one runs and may not or does not stop.
    """
    if not home.is_ours:
        return
    mark = home.running()
    if mark is not None and mark.is_bare:  # the bare one of a first start, whose command is gone
        from rhizon.adapters.processes import ended

        reporter.step("stopping the server of an interrupted first start")
        ended(mark.pid, mark.since)
        home.mark_ended(mark)
        reporter.done("the server of an interrupted first start was still running; it was stopped")
        return
    pid = mark.pid if mark is not None else started_elsewhere(host, home)
    if pid is None:
        _no_restart(home, reporter, stop_first=stop_first)
        return
    if not stop_first:
        how = "" if mark is not None else "; it was not started by Rhizon"
        add = "" if stop_first is None else "Add --stop-first. "
        raise StateError(
            "server-running",
            f"the server in {home.folder} is running (process {pid}{how})",
            hint=f"{add}{'Or stop' if add else 'Stop'} it first: {command_line('rhizon', 'stop', home.folder)}",
        )
    _stop(host, home, reporter, mark, pid)


def _no_restart(home: InstanceFolder, reporter: Reporter, *, stop_first: bool | None) -> None:
    """Ends a keeper that waits to start a server again that has crashed; None: the caller is about to start it itself.
    Raises StateError where that may not be."""
    if not (home.own / LIFE).is_file():
        return
    from rhizon.adapters.keepers import end_keeper, keeper_ended, life_of  # psutil is slow to import

    life = life_of(home)
    if life is None or not life.kept:
        return
    if life.next_start is None and keeper_ended(life):  # its server has ended, and it is putting the log away
        return
    if stop_first is False:
        raise StateError(
            "server-running",
            f"the server in {home.folder} has crashed and is about to be started again",
            hint=f"Add --stop-first. Or stop it first: {command_line('rhizon', 'stop', home.folder)}",
        )
    reporter.step("ending its keeper")
    end_keeper(life)
    reporter.done("the server is not started again")


def _stop(host: Host, home: InstanceFolder, reporter: Reporter, mark: RunMark | None, pid: int) -> None:
    """Asks a server to stop and waits for it."""
    from rhizon.adapters.keepers import keeper_ended, life_of
    from rhizon.adapters.processes import alive, began, signalled  # psutil is slow to import, and servers seldom run

    console = host.game_of(home.instance()).console
    since = mark.since if mark is not None else began(pid)
    reporter.step("stopping the server")
    how = ""
    if mark is not None:
        with console_of(home, mark) as client:
            client.stop()
    else:
        signalled(pid, since, console.stop_signal or "terminate")
        how = "; by a signal, since Rhizon did not start it"
    begun = time.monotonic()
    limit = STOP_PATIENCE * console.stop_seconds
    while alive(pid, since):
        waited = time.monotonic() - begun
        if waited > limit:
            raise StateError(
                "server-not-stopped",
                f"the server is still running after being asked to stop for {limit:.0f} s (process {pid})",
                hint="Nothing was changed. Check its output where it was started.",
            )
        if waited > 2:
            reporter.progress(f"waiting for {waited:.0f} s", waited / limit)
        time.sleep(0.05)
    if mark is not None:
        home.mark_ended(mark)
        life = life_of(home)
        if life is not None:
            keeper_ended(life)  # it is putting the log away; another start would find it there
    vars(host).pop("processes", None)  # they are looked at again
    reporter.done(f"the server has stopped{how}")


def console_of(home: InstanceFolder, mark: RunMark) -> ConsoleClient:
    """A way to the keeper of a server; one whose keeper has died gets a new one. Raises StateError."""
    try:
        return ConsoleClient(home, mark)
    except StateError:
        from rhizon.adapters.keepers import adopt, life_of

        life = life_of(home)
        if life is not None and life.kept:
            raise
        adopt(home)
        return ConsoleClient(home, home.running() or mark)


def started_elsewhere(host: Host, home: InstanceFolder) -> int | None:
    """The process id of a server that works in the folder and that no ``rhizon run`` started: start.sh or a service
    manager did. It bears no mark; it is known by its working folder, its program and its arguments, as far as the
    system lets us see."""
    here = os.path.realpath(home.folder)
    candidates = host.processes.get(here, [])
    if not candidates:
        return None
    try:
        instance, lock = home.instance(), home.lock()
        game = host.game_of(instance)
    except RhizonError:
        return None  # the one who reads it next says what is wrong with it
    command = start_command(
        game, Launch(lock.target.loader, instance.runtime, instance.heap_mib, path_separator=os.pathsep, content=())
    )
    program = os.path.realpath(instance.runtime.program) if instance.runtime is not None else ""
    words = {path for word in command if (path := Path(here, word)).is_file()} - {Path(program)}
    for one in candidates:
        if one.program and (one.program == program or one.program.startswith(f"{here}/")):
            return one.pid
        if words & {Path(here, word) for word in one.arguments[:3]}:  # a script, run by its interpreter
            return one.pid
    return None
