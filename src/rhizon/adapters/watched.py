"""Connections whose answers have to begin in time.

The client library bounds the wait for each single byte. Another side can still keep us for ever: with headers that come
one byte at a time, with interim answers (1xx, RFC 9110 section 15.2) without end. So each request is watched: when its
time is over, its connection is shut down, whatever the library is doing with it.
"""

import contextlib
import functools
import http.client
import socket
import threading
import time
from types import TracebackType
from typing import Any

__all__ = ["Watch", "pool_classes"]

MOST_INTERIM = 8  # interim answers before the final one
TICK_SECONDS = 0.25

_current = threading.local()


class _Guard:
    """One thread that ends what is overdue. It lives as long as there is something to watch."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._watched: set[Watch] = set()  # guarded by _lock
        self._running = False  # guarded by _lock

    def add(self, watch: "Watch") -> None:
        """Watches a connection from now on."""
        with self._lock:
            self._watched.add(watch)
            if not self._running:
                self._running = True
                threading.Thread(target=self._run, daemon=True).start()

    def remove(self, watch: "Watch") -> None:
        """Watches it no longer."""
        with self._lock:
            self._watched.discard(watch)

    def _run(self) -> None:
        """Closes every connection whose time is over, until there is none left."""
        while True:
            time.sleep(TICK_SECONDS)
            now = time.monotonic()
            with self._lock:
                overdue = [one for one in self._watched if now > one.deadline]
                self._watched.difference_update(overdue)
                if not self._watched:
                    self._running = False
            for one in overdue:
                one.expire()
            if not self._running:
                return


_guard = _Guard()


class Watch:
    """A request of this thread that has ``seconds`` to be answered; a context manager. ``expired`` tells afterwards
    whether it was ended."""

    def __init__(self, seconds: float) -> None:
        self.deadline = time.monotonic() + seconds
        self.expired = False
        self.connection: Any = None

    def __enter__(self) -> "Watch":
        _current.watch = self
        _guard.add(self)
        return self

    def __exit__(
        self, _kind: type[BaseException] | None, _error: BaseException | None, _at: TracebackType | None
    ) -> None:
        _current.watch = None
        _guard.remove(self)

    def expire(self) -> None:
        """Ends the connection from another thread; the one that waits for it gets an error."""
        self.expired = True
        sock = getattr(self.connection, "sock", None)
        if sock is not None:
            with contextlib.suppress(OSError, ValueError):
                socket.socket.shutdown(sock, socket.SHUT_RDWR)


class _Answer(http.client.HTTPResponse):
    """Counts interim answers, which http.client passes over without end."""

    _interim = 0

    def _read_status(self) -> Any:
        self._interim += 1
        if self._interim > MOST_INTERIM:
            raise http.client.HTTPException("too many interim answers")
        return super()._read_status()  # type: ignore[misc]


@functools.cache
def pool_classes() -> dict[str, Any]:
    """Connection pools of urllib3 whose connections tell the watch of their thread."""
    import urllib3.connection
    import urllib3.connectionpool

    def watched(kind: Any) -> Any:
        """A connection class of urllib3 whose sockets the watch of their thread knows."""

        class Connection(kind):  # type: ignore[misc]
            response_class = _Answer

            def connect(self) -> None:
                self._tell()
                super().connect()

            def request(self, *values: Any, **named: Any) -> None:
                self._tell()
                super().request(*values, **named)

            def _tell(self) -> None:
                watch = getattr(_current, "watch", None)
                if watch is not None:
                    watch.connection = self

        return Connection

    class Plain(urllib3.connectionpool.HTTPConnectionPool):
        ConnectionCls = watched(urllib3.connection.HTTPConnection)

    class Secure(urllib3.connectionpool.HTTPSConnectionPool):
        ConnectionCls = watched(urllib3.connection.HTTPSConnection)

    return {"http": Plain, "https": Secure}
