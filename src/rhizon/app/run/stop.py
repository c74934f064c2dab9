"""Stop the server of an instance from another terminal."""

from pathlib import Path

import msgspec

from rhizon.app.host import Host
from rhizon.app.instance.exclusive import exclusive, require_stopped, started_elsewhere
from rhizon.app.reporter import Reporter

__all__ = ["StopResult", "stop"]


class StopResult(msgspec.Struct, frozen=True, kw_only=True):
    """Whether a server ran; none does now."""

    folder: str
    name: str
    was_running: bool


def stop(host: Host, folder: Path, reporter: Reporter) -> StopResult:
    """Asks a server that ``rhizon run`` started to stop cleanly and waits for it, also where that command is gone.
    Raises :class:`~rhizon.core.errors.StateError` (it does not stop; another program started it)."""
    home = host.home(folder).required()
    with exclusive(host, home, reporter):
        was_running = home.running() is not None or started_elsewhere(host, home) is not None
        require_stopped(host, home, reporter, stop_first=True)
    return StopResult(folder=str(home.folder), name=home.instance().name, was_running=was_running)
