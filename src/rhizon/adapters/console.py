"""A way to the console of a server that another command runs: lines of JSON over a loopback socket.

``rhizon run`` opens it and writes port and token into its run mark, which only the owner can read. A client sends
``{"token": ...}`` first, then ``{"send": LINE}`` or ``{"hold": true}``; the answer to a hold is ``{"held": LINE}``, or
``{"refused": WHY}``. The hold ends with the connection, so that a client that dies leaves no server holding still.
"""

import contextlib
import hmac
import json
import re
import secrets
import socket
import threading
from collections.abc import Callable, Iterator
from typing import Any

from rhizon.core.errors import StateError
from rhizon.core.model.game import HoldRule

__all__ = ["ConsoleClient", "ConsolePort"]

LONGEST = 16 << 10
SECONDS = 10.0


class ConsolePort:
    """The server's end. ``send`` types a line into the console; lines that the server prints come by :meth:`heard`."""

    def __init__(self, send: Callable[[str], None], hold: HoldRule | None) -> None:
        self.token = secrets.token_hex(16)
        self._send = send
        self._hold = hold
        self._done = re.compile(hold.done) if hold else None
        self._lock = threading.Lock()
        self._waiting: list[_Hold] = []  # guarded by _lock
        self._holding = 0  # guarded by _lock
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.port: int = self._listener.getsockname()[1]
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        while True:
            try:
                client, _ = self._listener.accept()
            except OSError:
                return  # closed
            threading.Thread(target=self._serve, args=(client,), daemon=True).start()

    def _serve(self, client: socket.socket) -> None:
        held: list[_Hold] = []
        try:
            with client, contextlib.suppress(OSError, ValueError):
                client.settimeout(SECONDS)
                lines = _lines(client)
                if not hmac.compare_digest(str(next(lines, {}).get("token")), self.token):
                    return
                client.settimeout(None)
                for asked in lines:
                    if "send" in asked:
                        self._send(str(asked["send"]).replace("\n", " "))
                    elif "hold" in asked:
                        self._begin(client, held)
        finally:
            for one in held:
                self._release(one)

    def _begin(self, client: socket.socket, held: "list[_Hold]") -> None:
        if self._hold is None:
            _put(client, {"refused": "the game definition has no console.hold"})
            return
        one = _Hold(client)
        held.append(one)
        with self._lock:
            self._waiting.append(one)
            self._holding += 1
        self._send(self._hold.command)

    def _release(self, one: "_Hold") -> None:
        with self._lock:
            self._waiting = [other for other in self._waiting if other is not one]
            self._holding -= 1
            last = self._holding == 0
        if last and self._hold is not None and self._hold.release:
            self._send(self._hold.release)

    def heard(self, line: str) -> None:
        """A line that the server printed."""
        if self._done is None or not self._waiting or not self._done.search(line):
            return
        with self._lock:
            waiting, self._waiting = self._waiting, []
        for one in waiting:
            with contextlib.suppress(OSError):
                _put(one.client, {"held": line})

    def close(self) -> None:
        """No more clients."""
        with contextlib.suppress(OSError):
            self._listener.shutdown(socket.SHUT_RDWR)  # wakes the thread that waits for a client
        self._listener.close()


class _Hold:
    """A client that asked the server to hold still."""

    def __init__(self, client: socket.socket) -> None:
        self.client = client


class ConsoleClient:
    """The other end; a context manager."""

    def __init__(self, port: int, token: str) -> None:
        try:
            self._socket = socket.create_connection(("127.0.0.1", port), SECONDS)
        except OSError:
            raise _unheard() from None
        try:
            _put(self._socket, {"token": token})
        except OSError:
            self._socket.close()
            raise _unheard() from None

    def __enter__(self) -> "ConsoleClient":
        return self

    def __exit__(self, *_: object) -> None:
        self._socket.close()

    def send(self, line: str) -> None:
        """Types a line into the console. Raises :class:`StateError` when nobody hears it any more."""
        try:
            _put(self._socket, {"send": line})
        except OSError:
            raise _unheard() from None

    def hold(self, seconds: float) -> None:
        """Returns when the world is saved and left alone; it stays so until the connection ends.

        Raises :class:`StateError` when the server does not do it in that time.
        """
        self._socket.settimeout(seconds)
        try:
            _put(self._socket, {"hold": True})
            answer = next(_lines(self._socket), {})
        except (OSError, ValueError):
            answer = {}
        if "held" not in answer:
            raise StateError(
                "server-not-still",
                f"the server did not save and hold still within {seconds:.0f} s"
                + (f": {answer['refused']}" if "refused" in answer else ""),
                hint="Try again when it is less busy, or stop the server first (--stop-first).",
            )


def _unheard() -> StateError:
    return StateError(
        "server-unheard",
        "the server runs, and its console cannot be reached",
        hint="It was started by another program, or by an older rhizon: stop it there first.",
    )


def _put(to: socket.socket, document: dict[str, Any]) -> None:
    to.sendall(json.dumps(document).encode() + b"\n")


def _lines(source: socket.socket) -> Iterator[dict[str, Any]]:
    """Objects, one a line; ends with the connection. Raises ValueError for what is none, OSError."""
    with source.makefile("rb") as stream:
        while line := stream.readline(LONGEST):
            document = json.loads(line)
            if not isinstance(document, dict):
                raise ValueError("an object is expected")
            yield document
