"""A bound on the processor time of a piece of work, where signals can be had: whatever it does, it is interrupted."""

import contextlib
import signal
import threading
from collections.abc import Iterator

__all__ = ["CpuLimitError", "cpu_limit"]

AGAIN_SECONDS = 0.25  # code that catches everything is interrupted once more


class CpuLimitError(Exception):
    """The work took more processor time than it may."""


def _stop(_number: int, _frame: object) -> None:
    raise CpuLimitError


@contextlib.contextmanager
def cpu_limit(seconds: float) -> Iterator[None]:
    """Raises :class:`CpuLimitError` inside after so many seconds of this process's processor time. Does nothing outside
    the main thread and on systems without such a timer."""
    if not hasattr(signal, "setitimer") or threading.current_thread() is not threading.main_thread():
        yield
        return
    before = signal.signal(signal.SIGPROF, _stop)
    signal.setitimer(signal.ITIMER_PROF, seconds, AGAIN_SECONDS)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_PROF, 0)
        signal.signal(signal.SIGPROF, before)
