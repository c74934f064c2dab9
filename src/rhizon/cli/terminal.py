"""The person at the terminal: signals as a question to ask, and what is typed as lines."""

import contextlib
import queue
import signal
import sys
import threading
from collections.abc import Callable, Iterator

__all__ = ["Console", "stop_signals"]


class _Asked:
    """Turns true at the first signal; a third one ends the program at once."""

    def __init__(self) -> None:
        self.count = 0

    def __call__(self) -> bool:
        return self.count > 0


@contextlib.contextmanager
def stop_signals() -> Iterator[_Asked]:
    """Inside, Ctrl-C and SIGTERM only ask for a stop; the third signal raises KeyboardInterrupt."""
    asked = _Asked()

    def heard(_number: int, _frame: object) -> None:
        asked.count += 1
        if asked.count > 2:
            raise KeyboardInterrupt

    before = {one: signal.signal(one, heard) for one in (signal.SIGINT, signal.SIGTERM)}
    try:
        yield asked
    finally:
        for one, handler in before.items():
            signal.signal(one, handler)


class Console:
    """Lines from standard input, read in the background so that no one waits for them."""

    def __init__(self) -> None:
        self._lines: queue.SimpleQueue[str] = queue.SimpleQueue()
        self._ended = False
        threading.Thread(target=self._read, daemon=True).start()

    def _read(self) -> None:
        with contextlib.suppress(OSError, ValueError):
            for line in sys.stdin:
                self._lines.put(line.rstrip("\r\n"))
        self._ended = True

    @property
    def over(self) -> bool:
        """Standard input has ended, and every line was taken."""
        return self._ended and self._lines.empty()

    def wait(self, called_off: Callable[[], bool]) -> str | None:
        """The next line, however long the person takes; None when the wait is called off."""
        while not called_off():
            with contextlib.suppress(queue.Empty):
                return self._lines.get(timeout=0.2)
        return None

    def line(self) -> str | None:
        """The next line that was typed, or None."""
        try:
            return self._lines.get_nowait()
        except queue.Empty:
            return None
