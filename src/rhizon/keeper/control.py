"""The keeper's socket: lines of JSON from commands of the same user.

A client first sends ``{"token": TOKEN}``, which only the owner can read, and is answered ``{"known": true}``. Then it
may send ``{"send": LINE}`` (typed into the console), ``{"hold": true}`` (answered by ``{"held": LINE}`` or
``{"refused": WHY}``, and it lasts as long as the connection), ``{"stop": true}``, ``{"kill": true}``, ``{"give_up":
true}`` (no more restarts) and ``{"state": true}``.

The system says who connects: only the same user and the administrator are heard. Nothing waits here: a client that
reads too slowly, sends too much or says nothing is dropped.
"""

import contextlib
import hmac
import json
import os
import re
import selectors
import socket
import struct
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from rhizon.keeper.places import OWN, SOCKET

__all__ = ["Client", "Control", "Holds"]

MOST_CLIENTS = 240
MOST_CONNECTIONS = 256  # with those that have not said yet who they are
BACKLOG = 128
LONGEST = 16 << 10
MOST_WAITING = 256 << 10
HELLO_SECONDS = 5.0
_PEER = struct.Struct("3i")  # process, user, group (unix(7), SO_PEERCRED)


class Client:
    """One connection."""

    def __init__(self, connection: socket.socket) -> None:
        self.connection = connection
        self.since = time.monotonic()
        self.known = False
        self.holds = 0
        self.data = b""
        self.waiting = b""

    def put(self, document: dict[str, Any]) -> None:
        """Answers; what the other side does not take at once waits, up to a bound. Raises OSError beyond it."""
        self.waiting += json.dumps(document).encode() + b"\n"
        self.flush()
        if len(self.waiting) > MOST_WAITING:
            raise OSError("the client does not read")

    def flush(self) -> None:
        """Sends what waits. Raises OSError."""
        while self.waiting:
            try:
                self.waiting = self.waiting[self.connection.send(self.waiting) :]
            except BlockingIOError:
                return


class Control:
    """Listens in the server's folder. ``asked`` gets every message of a known client; ``gone`` each that leaves."""

    def __init__(
        self, folder: Path, token: str, asked: Callable[[Client, dict[str, Any]], None], gone: Callable[[Client], None]
    ) -> None:
        self._token = token.encode()
        self._asked = asked
        self._gone = gone
        self._clients: list[Client] = []
        self._selector = selectors.DefaultSelector()
        self._folder = folder
        self._listener = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        handle = os.open(folder / OWN, os.O_RDONLY)
        path = f"/proc/self/fd/{handle}/{SOCKET}"  # the path of a socket is short
        if not Path("/proc/self/fd").is_dir():
            path = str(folder / OWN / SOCKET)
        before = os.umask(0o177)
        try:
            with contextlib.suppress(FileNotFoundError):
                Path(path).unlink()
            self._listener.bind(path)
        finally:
            os.umask(before)
            os.close(handle)
        self._listener.listen(BACKLOG)
        self._listener.setblocking(False)
        self._selector.register(self._listener, selectors.EVENT_READ)

    def wait(self, seconds: float) -> None:
        """Serves clients for so long, or until something was served."""
        for key, _ in self._selector.select(seconds):
            if key.fileobj is self._listener:
                self._accept()
            else:
                self._read(key.data)
        now = time.monotonic()
        for one in [one for one in self._clients if not one.known and now - one.since > HELLO_SECONDS]:
            self._drop(one)
        for one in [one for one in self._clients if one.waiting]:
            try:
                one.flush()
            except OSError:
                self._drop(one)

    def _accept(self) -> None:
        """All who wait at the door."""
        with contextlib.suppress(OSError):
            while True:
                connection, _ = self._listener.accept()
                connection.setblocking(False)
                self._admit(connection)

    def _admit(self, connection: socket.socket) -> None:
        """A new client, if it is one of ours and there are not too many."""
        if hasattr(socket, "SO_PEERCRED"):
            facts = connection.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, _PEER.size)
            if _PEER.unpack(facts)[1] not in (0, os.geteuid()):
                connection.close()
                return
        if len(self._clients) >= MOST_CONNECTIONS:
            connection.close()
            return
        client = Client(connection)
        self._clients.append(client)
        self._selector.register(connection, selectors.EVENT_READ, client)

    def _read(self, client: Client) -> None:
        try:
            data = client.connection.recv(LONGEST)
        except BlockingIOError:
            return
        except OSError:
            data = b""
        if not data:
            self._drop(client)
            return
        client.data += data
        while b"\n" in client.data:
            line, _, client.data = client.data.partition(b"\n")
            try:
                message = json.loads(line)
                self._message(client, message if isinstance(message, dict) else {})
            except (ValueError, OSError, RecursionError):
                self._drop(client)
                return
        if len(client.data) > LONGEST:
            self._drop(client)

    def _message(self, client: Client, message: dict[str, Any]) -> None:
        """One message. Raises ValueError for the first one of a client that is not known, or is one too many."""
        if client.known:
            self._asked(client, message)
            return
        token = message.get("token")
        if not isinstance(token, str) or not hmac.compare_digest(token.encode(), self._token):
            raise ValueError("not known")
        if sum(one.known for one in self._clients) >= MOST_CLIENTS:
            client.put({"busy": True})
            raise ValueError("too many")
        client.known = True
        client.put({"known": True})

    def _drop(self, client: Client) -> None:
        if client in self._clients:
            self._clients.remove(client)
            with contextlib.suppress(KeyError, ValueError):
                self._selector.unregister(client.connection)
            client.connection.close()
            self._gone(client)

    def close(self) -> None:
        """No more clients."""
        for one in list(self._clients):
            with contextlib.suppress(OSError):
                one.flush()
            self._drop(one)
        self._selector.close()
        self._listener.close()
        with contextlib.suppress(OSError):
            (self._folder / OWN / SOCKET).unlink()


class Holds:
    """Clients that asked the server to pause saving; it goes on when the last of them has left."""

    def __init__(self, rule: dict[str, Any] | None, send: Callable[[str], object]) -> None:
        self._rule = rule
        self._send = send
        self.done = re.compile(rule["done"]) if rule else None
        self._waiting: list[Client] = []
        self._holding = 0

    def begin(self, client: Client) -> None:
        """A client asks for it."""
        if self._rule is None:
            client.put({"refused": "the game definition has no console.hold"})
            return
        client.holds += 1
        self._holding += 1
        self._waiting.append(client)
        self._send(self._rule["command"])

    @property
    def awaited(self) -> bool:
        """Whether a client waits for the server to say that it pauses."""
        return bool(self._waiting)

    def heard(self, line: str) -> None:
        """A line that the server printed."""
        if self.done is not None and self.done.search(line):
            waiting, self._waiting = self._waiting, []
            for one in waiting:
                with contextlib.suppress(OSError):
                    one.put({"held": line})

    def end(self, client: Client) -> None:
        """A client has left."""
        self._waiting = [one for one in self._waiting if one is not client]
        self._holding -= client.holds
        if client.holds and self._holding == 0 and self._rule is not None and self._rule.get("release"):
            self._send(self._rule["release"])
        client.holds = 0
