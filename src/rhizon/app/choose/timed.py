"""A solve that ends in time: the clock, who may interrupt it, and how far it is."""

import time
from collections.abc import Callable

from rhizon.app.reporter import Reporter
from rhizon.core.solve.watch import Watch
from rhizon.core.units import counted

__all__ = ["WAIT_SECONDS", "TimedWatch"]

WAIT_SECONDS = 30.0
REASON_SECONDS = 5.0  # at least, for why nothing fits
QUIET_SECONDS = 1.0  # before anything is shown
SHOWN_EVERY = 0.25


class TimedWatch(Watch):
    """Over after so many seconds, or when somebody asks for it."""

    def __init__(self, seconds: float, reporter: Reporter, stop_asked: Callable[[], bool] = lambda: False) -> None:
        self._seconds, self._reporter, self._stop_asked = seconds, reporter, stop_asked
        began = time.monotonic()
        self._end = began + seconds
        self._shown = began + QUIET_SECONDS - SHOWN_EVERY
        self._phase, self._best, self._conflicts = "", "", 0
        self.interrupted = False

    def over(self) -> bool:
        self.interrupted = self.interrupted or self._stop_asked()
        return self.interrupted or time.monotonic() > self._end

    def limit(self) -> str:
        return "before it was interrupted" if self.interrupted else f"within {self._seconds:g} s"

    def allow_reasons(self) -> None:
        self._end = max(self._end, time.monotonic() + min(self._seconds, REASON_SECONDS))

    def phase(self, text: str) -> None:
        self._phase = text

    def step(self, conflicts: int, best: str = "") -> None:
        self._best, self._conflicts = best or self._best, conflicts
        now = time.monotonic()
        if now - self._shown < SHOWN_EVERY:
            return
        self._shown = now
        said = [self._phase, counted(self._conflicts, "conflict"), *([self._best] if self._best else [])]
        self._reporter.progress("; ".join(one for one in said if one), 0.0)
