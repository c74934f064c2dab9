"""A way to the console of a server that another command runs: lines of JSON over a local socket.

``rhizon run`` listens on a socket in the instance's ``.rhizon/`` that its owner alone can open, and the system says who
connects: only the same user and the administrator are heard. Where there are no such sockets it is a port on 127.0.0.1.
Either way a client first sends the token of the run mark, which only the owner can read, then ``{"send": LINE}`` or
``{"hold": true}``; the answer to a hold is ``{"held": LINE}``, or ``{"refused": WHY}``. The hold ends with the
connection, so that a client that dies leaves no server with saving paused.

Nothing of a client reaches the console before it is known; connections, lines and waiting times are bounded.
"""

import contextlib
import hmac
import json
import os
import re
import secrets
import socket
import struct
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from rhizon.adapters.inside import Inside
from rhizon.adapters.instances import InstanceFolder, RunMark
from rhizon.adapters.transact import RHIZON
from rhizon.core.errors import StateError
from rhizon.core.model.game import HoldRule
from rhizon.core.secret import Secret

__all__ = ["ConsoleClient", "ConsolePort"]

SOCKET = "console"  # in .rhizon/
LONGEST = 16 << 10  # bytes of a line
LONGEST_HELLO = 512
MOST_CLIENTS = 8
HELLO_SECONDS = 5.0
SECONDS = 10.0
IDLE_SECONDS = 600.0
_PEER = struct.Struct("3i")  # process, user, group (unix(7), SO_PEERCRED)


def _near() -> bool:
    """Whether sockets in a folder can be used here: the path of one is short, so it is named over a handle."""
    return hasattr(socket, "AF_UNIX") and hasattr(socket, "SO_PEERCRED") and Path("/proc/self/fd").is_dir()


@contextlib.contextmanager
def _named(folder: Path) -> Iterator[tuple[Inside, str]]:
    with Inside(folder) as inside:
        yield inside, f"/proc/self/fd/{inside.handle(RHIZON)}/{SOCKET}"


class ConsolePort:
    """The server's end. ``send`` types a line into the console; lines that the server prints come by :meth:`heard`."""

    def __init__(self, send: Callable[[str], None], hold: HoldRule | None, folder: Path) -> None:
        self.token = Secret(secrets.token_hex(16))
        self._send = send
        self._hold = hold
        self._done = re.compile(hold.done) if hold else None
        self._lock = threading.Lock()
        self._waiting: list[_Hold] = []  # guarded by _lock
        self._holding = 0  # guarded by _lock
        self._room = threading.BoundedSemaphore(MOST_CLIENTS)
        self._folder = folder
        self.port = 0
        self._listener = self._listening()
        if self._listener.family == socket.AF_INET:
            self.port = self._listener.getsockname()[1]
        threading.Thread(target=self._accept, daemon=True).start()

    def _listening(self) -> socket.socket:
        """A listening socket: a Unix socket that only this user can open, or a port on 127.0.0.1 where there are
        none."""
        if _near():
            listener = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
            try:
                with _named(self._folder) as (inside, path):
                    inside.unlink(f"{RHIZON}/{SOCKET}")
                    listener.bind(path)
                    os.chmod(path, 0o600)  # noqa: PTH101
                listener.listen(MOST_CLIENTS)
            except OSError:  # a file system that knows no sockets
                listener.close()
            else:
                return listener
        return socket.create_server(("127.0.0.1", 0))

    def _accept(self) -> None:
        while True:
            try:
                client, _ = self._listener.accept()
            except OSError:
                return  # closed
            if not self._room.acquire(blocking=False):
                client.close()
                continue
            threading.Thread(target=self._serve, args=(client,), daemon=True).start()

    def _known(self, client: socket.socket) -> bool:
        """Whether the other side may be heard: the system says who it is, and it knows the token."""
        if self.port == 0:
            facts = client.getsockopt(socket.SOL_SOCKET, socket.SO_PEERCRED, _PEER.size)
            if _PEER.unpack(facts)[1] not in (0, os.geteuid()):
                return False
        deadline = time.monotonic() + HELLO_SECONDS
        data = b""
        while not data.endswith(b"\n"):  # nothing more comes before it was answered
            left = deadline - time.monotonic()
            if left <= 0 or len(data) >= LONGEST_HELLO:
                return False
            client.settimeout(left)
            more = client.recv(LONGEST_HELLO - len(data))
            if not more:
                return False
            data += more
        line = data
        told = json.loads(line)
        token = told.get("token") if isinstance(told, dict) else None
        return isinstance(token, str) and hmac.compare_digest(token.encode(), self.token.reveal().encode())

    def _serve(self, client: socket.socket) -> None:
        """Answers one connection after the other until the server ends: a line to type, or a hold that lasts as long as
        the connection."""
        held: list[_Hold] = []
        try:
            with client, contextlib.suppress(OSError, ValueError, RecursionError):
                if not self._known(client):
                    return
                _put(client, {"known": True})
                client.settimeout(IDLE_SECONDS)
                for asked in _lines(client):
                    line = asked.get("send")
                    if isinstance(line, str):
                        self._send("".join(" " if ord(one) < 32 or ord(one) == 127 else one for one in line))
                    elif asked.get("hold") is True:
                        client.settimeout(None)  # a backup takes as long as it takes; its end closes the connection
                        self._begin(client, held)
        finally:
            self._room.release()
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
        if self.port == 0:
            with contextlib.suppress(OSError, StateError), Inside(self._folder) as inside:
                inside.unlink(f"{RHIZON}/{SOCKET}")


class _Hold:
    """A client that asked the server to pause saving."""

    def __init__(self, client: socket.socket) -> None:
        self.client = client


class ConsoleClient:
    """The other end; a context manager. Raises :class:`StateError` where no one listens any more."""

    def __init__(self, home: InstanceFolder, mark: RunMark) -> None:
        try:
            if mark.port == 0:
                self._socket = self._connected(home)
            else:
                self._socket = socket.create_connection(("127.0.0.1", mark.port), SECONDS)
        except OSError:
            raise _unheard() from None
        try:
            _put(self._socket, {"token": mark.token.reveal()})
            if next(_lines(self._socket), {}).get("known") is not True:
                raise ValueError("not known")
        except (OSError, ValueError):
            self._socket.close()
            raise _unheard() from None

    @staticmethod
    def _connected(home: InstanceFolder) -> socket.socket:
        made = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        try:
            made.settimeout(SECONDS)
            with _named(home.folder) as (_, path):
                made.connect(path)
        except BaseException:
            made.close()
            raise
        return made

    def __enter__(self) -> "ConsoleClient":
        return self

    def __exit__(self, *_: object) -> None:
        self._socket.close()

    def send(self, line: str) -> None:
        """Types a line into the console. Raises :class:`StateError` when no one hears it any more."""
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
                f"the server did not save and pause saving within {seconds:.0f} s"
                + (f": {answer['refused']}" if "refused" in answer else ""),
                hint="Try again when it is less busy, or add --stop-first.",
            )


def _unheard() -> StateError:
    return StateError(
        "server-unheard",
        "the server is running, but its console cannot be reached",
        hint="It was started by another program, or by an older Rhizon. Stop it there first.",
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
