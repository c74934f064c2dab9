"""Stop the server of an instance from another terminal."""

from pathlib import Path

import msgspec

from rhizon.app.host import Host
from rhizon.app.instance.exclusive import exclusive, require_stopped
from rhizon.app.instance.server_state import state_of
from rhizon.app.reporter import Reporter

__all__ = ["StopResult", "stop"]


class StopResult(msgspec.Struct, frozen=True, kw_only=True):
    """Whether a server ran; none does now."""

    folder: str
    name: str
    was_running: bool


def stop(host: Host, folder: Path, reporter: Reporter) -> StopResult:
    """Asks a server to stop cleanly and waits for it; one that crashed and waits to be started again stays down. Raises
    :class:`~rhizon.core.errors.StateError` (it does not stop)."""
    home = host.home(folder).required()
    with exclusive(host, home, reporter):
        was_running = state_of(host, home).pid is not None
        require_stopped(host, home, reporter, stop_first=True)
    return StopResult(folder=str(home.folder), name=home.instance().name, was_running=was_running)
