"""Stop a server and start it again, with word to its players before."""

import time
from collections.abc import Callable
from pathlib import Path

from rhizon.app.host import Host
from rhizon.app.instance.server_state import state_of
from rhizon.app.reporter import Reporter
from rhizon.app.run.console import attach
from rhizon.app.run.start import StartResult, StartWishes, start
from rhizon.app.run.stop import stop
from rhizon.core.errors import CancelledError, StateError

__all__ = ["count_down", "restart"]

# Seconds before a restart at which players are told.
WARN_AT = (3600, 1800, 900, 600, 300, 120, 60, 30, 10)


def restart(
    host: Host,
    folder: Path,
    reporter: Reporter,
    stop_asked: Callable[[], bool],
    *,
    after: float = 0.0,
    wishes: StartWishes = StartWishes(),
) -> StartResult:
    """``after`` so many seconds, in which players are told where the game has a command for that. A server that does
    not run is only started. Raises what :func:`start` and :func:`stop` raise, CancelledError."""
    home = host.home(folder).required()
    if state_of(host, home).state == "ready":
        count_down(host, folder, reporter, stop_asked, after, "restart")
        stop(host, folder, reporter)
    return start(host, folder, reporter, stop_asked, wishes)


def count_down(
    host: Host, folder: Path, reporter: Reporter, stop_asked: Callable[[], bool], after: float, what: str
) -> None:
    """Counts ``after`` seconds down to ``what``, and tells players at some times, where the game has a command for
    that. Raises CancelledError; then players are told that, too."""
    say = host.game_of(host.home(folder).instance()).console.say
    until = time.monotonic() + after
    marks = [one for one in WARN_AT if one < after]
    if after and say:
        _say(host, folder, say, f"{what} in {_span(after)}")
    while (left := until - time.monotonic()) > 0:
        if stop_asked():
            if say:
                _say(host, folder, say, f"the {what} was cancelled")
            raise CancelledError("restart-cancelled", f"the {what} was cancelled", hint="The server keeps running.")
        if marks and left <= marks[0]:
            if say:
                _say(host, folder, say, f"{what} in {_span(marks[0])}")
            marks = [one for one in marks if one < left]
        reporter.progress(f"{what} in {_span(left)}", 1 - left / after)
        time.sleep(min(0.5, left))
    if say:
        _say(host, folder, say, f"{what} now")


def _say(host: Host, folder: Path, say: str, text: str) -> None:
    """Tells players; a server that does not hear it is restarted all the same."""
    try:
        with attach(host, folder) as console:
            console.send(say.replace("{text}", text))
    except StateError:
        return


def _span(seconds: float) -> str:
    return f"{seconds / 60:.0f} min" if seconds >= 60 else f"{seconds:.0f} s"
