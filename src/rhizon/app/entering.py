"""Before a change: no other command in the folder, nothing half done in it, no server running there."""

import time
from collections.abc import Iterator
from contextlib import contextmanager

from rhizon.adapters.console import ConsoleClient
from rhizon.adapters.host import socket_in_use
from rhizon.adapters.instances import InstanceFolder, RunMark
from rhizon.app.context import Host
from rhizon.app.reporter import Reporter
from rhizon.app.whereabouts import put_right
from rhizon.core.errors import RhizonError, StateError
from rhizon.core.model.game import ConsoleRule

__all__ = ["entered", "started_elsewhere", "stopped"]


@contextmanager
def entered(home: InstanceFolder, reporter: Reporter) -> Iterator[None]:
    """Keeps other commands out; a change that was cut short is taken back first, and that is told."""
    with home.busy() as taken_back:
        if taken_back:
            reporter.step("an earlier change was cut short")
            reporter.done("an earlier change was cut short; it was taken back")
        yield


def stopped(host: Host, home: InstanceFolder, reporter: Reporter, *, stop_first: bool | None) -> None:
    """No server runs in the folder when this returns: one that does is asked to stop where ``stop_first`` allows it
    (None: the command has no such option).

    Raises :class:`StateError` when one runs and may not or does not stop.
    """
    if not home.is_ours:
        return
    moved = put_right(host, home)
    if moved is not None:
        reporter.step("looking it up in the ledger")
        reporter.done(moved.words)
    mark = home.running()
    if mark is None:
        pid = started_elsewhere(home)
        if pid is not None:
            raise StateError(
                "server-running",
                f"a server runs in {home.folder} (process {pid}), and rhizon did not start it",
                hint="Stop it the way it was started.",
            )
        return
    if mark.port == 0:  # the bare one of a first start, whose command is gone: else that would keep us out
        from rhizon.adapters.processes import ended

        reporter.step("ending what is left of a first start that was cut short")
        ended(mark.pid, mark.since)
        home.mark_ended(mark)
        reporter.done("the bare server of a first start that was cut short still ran; it was ended")
        return
    if not stop_first:
        raise StateError(
            "server-running",
            f"the server in {home.folder} is running (process {mark.pid})",
            hint=f"Stop it first: rhizon stop {home.folder}{'' if stop_first is None else ', or add --stop-first'}",
        )
    console = host.game_of(home.instance()).console
    reporter.step("stopping the server")
    how = _asked_to_stop(mark, console)
    limit = time.monotonic() + console.stop_seconds
    while home.running() is not None:
        if time.monotonic() > limit:
            raise StateError(
                "server-not-stopped",
                f"the server was asked to stop and still runs after {console.stop_seconds} s (process {mark.pid})",
                hint="See what it says where rhizon run runs; nothing was changed.",
            )
        time.sleep(0.05)
    home.mark_ended(mark)
    reporter.done(f"the server is stopped{how}")


def _asked_to_stop(mark: RunMark, console: ConsoleRule) -> str:
    """Asks a server of ours to stop, over its console or by the signal that it knows; what there is to say of how."""
    from rhizon.adapters.processes import signalled  # psutil is slow to import, and a server seldom runs

    if console.stop_signal is not None:
        signalled(mark.pid, mark.since, console.stop_signal)
        return ""
    try:
        with ConsoleClient(mark.port, mark.token) as client:
            client.send(console.stop)
        return ""
    except StateError:  # whoever held its console was killed: nobody can type into it any more
        signalled(mark.pid, mark.since, "terminate")
        return "; it was asked by a signal, since the rhizon run that held its console is gone"


def started_elsewhere(home: InstanceFolder) -> int | None:
    """The process id of a server that works in the folder and that no ``rhizon run`` started: start.sh or a service
    manager did. It bears no mark; its ports tell, as far as the system lets us see."""
    try:
        ports = set(home.instance().ports.values())
    except RhizonError:
        return None  # whoever reads it next says what is wrong with it
    if not any(socket_in_use(number, protocol) for number in ports for protocol in ("tcp", "udp")):
        return None
    from rhizon.adapters.processes import at_work_in

    return at_work_in(home.folder, ports)
