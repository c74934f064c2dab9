"""A way to the keeper of a server: its console, and orders, over the socket of :mod:`rhizon.keeper.control`."""

import contextlib
import json
import socket
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from rhizon.adapters.inside import Inside
from rhizon.adapters.instances import InstanceFolder, RunMark
from rhizon.adapters.transact import RHIZON
from rhizon.core.errors import StateError
from rhizon.keeper.places import SOCKET

__all__ = ["ConsoleClient"]

LONGEST = 16 << 10
SECONDS = 10.0


@contextlib.contextmanager
def _named(folder: Path) -> Iterator[str]:
    """The path of the socket: over a handle of its folder, since such a path has to be short."""
    with Inside(folder) as inside:
        near = Path("/proc/self/fd").is_dir()
        yield f"/proc/self/fd/{inside.handle(RHIZON)}/{SOCKET}" if near else str(folder / RHIZON / SOCKET)


class ConsoleClient:
    """One connection; a context manager. Raises :class:`StateError` where no keeper listens any more."""

    def __init__(self, home: InstanceFolder, mark: RunMark) -> None:
        self._socket = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
        try:
            self._socket.settimeout(SECONDS)
            with _named(home.folder) as path:
                _connect(self._socket, path)
            self._stream = self._socket.makefile("rb")
            answer = self._answered({"token": mark.token.reveal()})
            if answer.get("busy"):
                raise StateError(
                    "console-busy",
                    "too many consoles are attached to the server",
                    hint="Close one of them and try again.",
                )
            if answer.get("known") is not True:
                raise ValueError("not known")
        except (OSError, ValueError):
            self._socket.close()
            raise _unheard() from None
        except StateError:
            self._socket.close()
            raise

    def __enter__(self) -> "ConsoleClient":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Ends the connection, and with it a hold."""
        self._stream.close()
        self._socket.close()

    def _answered(self, message: dict[str, Any]) -> dict[str, Any]:
        """Sends a message and reads the answer. Raises OSError, ValueError."""
        self._socket.sendall(json.dumps(message).encode() + b"\n")
        line = self._stream.readline(LONGEST)
        document = json.loads(line) if line else {}
        if not isinstance(document, dict):
            raise ValueError("an object is expected")
        return document

    def ask(self, message: dict[str, Any]) -> dict[str, Any]:
        """Sends a message and reads the answer. Raises :class:`StateError` when no one hears it any more."""
        try:
            return self._answered(message)
        except (OSError, ValueError):
            raise _unheard() from None

    def send(self, line: str) -> None:
        """Types a line into the console. Raises :class:`StateError` when no one hears it any more."""
        if self.ask({"send": line}).get("sent") is not True:
            raise _unheard()

    def stop(self) -> None:
        """Asks the keeper to stop the server cleanly. Raises StateError."""
        self.ask({"stop": True})

    def kill(self) -> None:
        """Asks it to end the server at once. Raises StateError."""
        self.ask({"kill": True})

    def hold(self, seconds: float) -> None:
        """Returns when the world is saved and left alone; it stays so until the connection ends.

        Raises :class:`StateError` when the server does not do it in that time.
        """
        self._socket.settimeout(seconds)
        try:
            answer = self._answered({"hold": True})
        except (OSError, ValueError):
            answer = {}
        if "held" not in answer:
            raise StateError(
                "server-not-still",
                f"the server did not save and pause saving within {seconds:.0f} s"
                + (f": {answer['refused']}" if "refused" in answer else ""),
                hint="Try again when it is less busy, or add --stop-first.",
            )


def _connect(to: socket.socket, path: str) -> None:
    """Waits in the line of a keeper at which many arrive at once: a full line is an error to the system. Raises
    OSError."""
    until = time.monotonic() + SECONDS
    while True:
        try:
            to.connect(path)
        except BlockingIOError:
            if time.monotonic() > until:
                raise
            time.sleep(0.02)
        else:
            return


def _unheard() -> StateError:
    return StateError(
        "server-unheard",
        "the server is running, but its console cannot be reached",
        hint="It was started by another program, or by an older Rhizon. Stop it there first.",
    )
