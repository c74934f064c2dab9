"""Ctrl-C and SIGTERM, as a change of files needs them.

Before the commit point of a change a signal raises KeyboardInterrupt, and what had begun is rolled back. Inside
:func:`held` (a commit, a rollback) it is noted and raised at the end. After :func:`commit` it is only noted: the
command finishes, since there is nothing left to roll back. The third signal after a commit raises all the same.

It is below all layers and imports nothing of ours. State belongs to the process, as signals do; without
:func:`install` nothing here has an effect.
"""

import contextlib
import signal
import threading
from collections.abc import Iterator

__all__ = ["asked", "begin", "commit", "committed", "held", "ignore", "install", "prompting"]

MOST_IGNORED = 2  # signals after a commit that are only noted


class _State:
    asked = 0
    held = 0
    committed = False
    prompting = False


_state = _State()


def install() -> None:
    """Takes both signals over, with nothing noted yet. Only in the main thread."""
    _state.asked = _state.held = 0
    _state.committed = False
    for one in (signal.SIGINT, signal.SIGTERM):
        signal.signal(one, _heard)


def ignore() -> None:
    """Signals have no effect any more: the command has ended and is reporting."""
    for one in (signal.SIGINT, signal.SIGTERM):
        signal.signal(one, signal.SIG_IGN)


def _heard(_number: int, _frame: object) -> None:
    _state.asked += 1
    if _state.held or (_state.committed and not _state.prompting and _state.asked <= MOST_IGNORED):
        return
    raise KeyboardInterrupt


def asked() -> bool:
    """Whether a signal was noted and not raised."""
    return _state.asked > 0


def committed() -> bool:
    """Whether the command has passed the commit point of a change."""
    return _state.committed


def begin() -> None:
    """Another change begins. Raises KeyboardInterrupt where a signal was noted since."""
    if _state.asked and _in_main_thread():
        raise KeyboardInterrupt
    _state.committed = False


def commit() -> None:
    """The change is made: from now on signals do not stop the command."""
    _state.committed = True


@contextlib.contextmanager
def prompting() -> Iterator[None]:
    """While a person is asked something, a signal is their answer: it raises KeyboardInterrupt, after a commit too, and
    is then done with."""
    _state.prompting = True
    try:
        yield
    except BaseException:
        _state.asked = 0
        raise
    finally:
        _state.prompting = False


@contextlib.contextmanager
def held() -> Iterator[None]:
    """Signals wait until the end, and are raised there unless a change was committed meanwhile. Raises
    KeyboardInterrupt at the end where one came and no change was committed."""
    before = _state.asked
    _state.held += 1
    try:
        yield
    finally:
        _state.held -= 1
    if _state.asked > before and not _state.held and not _state.committed and _in_main_thread():
        raise KeyboardInterrupt


def _in_main_thread() -> bool:
    return threading.current_thread() is threading.main_thread()
