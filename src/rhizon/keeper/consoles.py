"""Consoles that are not the server's standard input: a line protocol over TCP, an HTTP endpoint, a FIFO, or none.

What is typed waits in a queue for a thread, so that a server that does not answer keeps nobody waiting. What the
console answers becomes lines of the log, as if the server had printed them.
"""

import contextlib
import http.client
import json
import os
import queue
import re
import socket
import stat
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, Protocol
from urllib.parse import quote

__all__ = ["ServerConsole", "console_by"]

MOST_WAITING = 200
CONNECT_SECONDS = 5.0
QUIET_SECONDS = 0.3  # a line without an end is shown after that
HELLO_SECONDS = 3.0
ANSWER_SECONDS = 10.0  # an answer that has not ended by then keeps the next line waiting no longer
LINE_ENDS = {"lf": b"\n", "crlf": b"\r\n", "nul": b"\0"}
LONGEST_LINE = 16 << 10
MOST_ANSWER = 1 << 20


class ServerConsole(Protocol):
    """A way to type lines. ``failed`` says why what was typed last did not get there; "" where it did."""

    failed: str

    def send(self, line: str) -> bool:
        """Types a line; False where it cannot be."""

    def close(self) -> None:
        """Gives it back."""


def console_by(rule: dict[str, Any], folder: Path, encoding: str, heard: Callable[[str], None]) -> ServerConsole:
    """The console that a job describes by ``by``: "tcp", "http", "fifo" or "none". ``heard`` gets each line of its
    answers."""
    match rule.get("by"):
        case "tcp":
            return _TcpConsole(rule, encoding, heard)
        case "http":
            return _HttpConsole(rule, encoding, heard)
        case "fifo":
            return _Fifo(folder / rule["fifo"], encoding)
        case _:
            return _NoConsole()


class _NoConsole:
    failed = ""

    def send(self, line: str) -> bool:  # noqa: ARG002 - nothing can be typed
        return False

    def close(self) -> None:
        return


class _Fifo:
    """A FIFO that the server reads, in its folder."""

    def __init__(self, path: Path, encoding: str) -> None:
        self._path = path
        self._encoding = encoding
        self.failed = ""

    def send(self, line: str) -> bool:
        try:
            handle = os.open(self._path, os.O_WRONLY | os.O_NONBLOCK | getattr(os, "O_NOFOLLOW", 0))
        except OSError as broken:
            self.failed = f"{self._path.name}: {broken.strerror}"
            return False
        try:
            if not stat.S_ISFIFO(os.fstat(handle).st_mode):
                self.failed = f"{self._path.name} is not a FIFO"
                return False
            os.write(handle, _line(line).encode(self._encoding, "replace") + b"\n")
        except OSError as broken:
            self.failed = f"{self._path.name}: {broken.strerror}"
            return False
        finally:
            os.close(handle)
        self.failed = ""
        return True

    def close(self) -> None:
        return


class _Queued:
    """Lines that a thread delivers."""

    def __init__(self, encoding: str, heard: Callable[[str], None]) -> None:
        self._encoding = encoding
        self._heard = heard
        self._lines: queue.Queue[str | None] = queue.Queue(MOST_WAITING)
        self.failed = ""
        threading.Thread(target=self._work, daemon=True).start()

    def send(self, line: str) -> bool:
        """Types a line; False where too many wait."""
        try:
            self._lines.put_nowait(_line(line))
        except queue.Full:
            return False
        return True

    def close(self) -> None:
        """The thread ends when what it does has ended."""
        with contextlib.suppress(queue.Full):
            self._lines.put_nowait(None)

    def _work(self) -> None:
        while (line := self._lines.get()) is not None:
            try:
                self._deliver(line)
                self.failed = ""
            except (OSError, http.client.HTTPException, ValueError) as broken:
                self.failed = str(broken) or type(broken).__name__
                self._heard(f"rhizon: the console cannot be reached: {self.failed}")
        self._end()

    def _deliver(self, line: str) -> None:
        raise NotImplementedError

    def _end(self) -> None:
        return


class _TcpConsole(_Queued):
    """Lines over one connection, which is made when it is needed and read as long as it lasts."""

    def __init__(self, rule: dict[str, Any], encoding: str, heard: Callable[[str], None]) -> None:
        self._place = rule.get("address") or "127.0.0.1", int(rule["port"])
        self._login = str(rule.get("login", ""))
        self._asks, self._refused, self._prompt, self._ends = (
            re.compile(str(rule[name])) if rule.get(name) else None for name in ("asks", "refused", "prompt", "ends")
        )
        self._line_end = LINE_ENDS[rule.get("line_end", "lf")]
        self._connection: socket.socket | None = None
        self._asked = threading.Event()
        self._wrong = threading.Event()
        self._ended = threading.Event()
        super().__init__(encoding, heard)

    def _deliver(self, line: str) -> None:
        connection = self._connection or self._connected()
        self._ended.clear()
        try:
            self._type(connection, line)
        except OSError:
            self._drop(connection)
            self._type(self._connected(), line)
        if self._ends is not None:
            self._ended.wait(ANSWER_SECONDS)  # a server that mixes answers up gets one line at a time

    def _type(self, connection: socket.socket, line: str) -> None:
        connection.sendall(line.encode(self._encoding, "replace") + self._line_end)

    def _connected(self) -> socket.socket:
        """A new connection that has let us in. Raises OSError, ValueError."""
        connection = socket.create_connection(self._place, CONNECT_SECONDS)
        connection.settimeout(None)
        self._connection = connection
        self._asked.clear()
        self._wrong.clear()
        threading.Thread(target=self._read, args=(connection,), daemon=True).start()
        if self._asks is not None and not self._asked.wait(HELLO_SECONDS):
            self._drop(connection)
            raise ValueError("it did not ask for the login")
        if self._login:
            self._type(connection, self._login)
            if self._refused is not None and self._wrong.wait(QUIET_SECONDS * 2):
                self._drop(connection)
                raise ValueError("it refused the login")
        return connection

    def _read(self, connection: socket.socket) -> None:
        """Every line that comes, and what has no end once it is quiet."""
        rest = b""
        while True:
            try:
                connection.settimeout(QUIET_SECONDS if rest else None)
                data = connection.recv(4096)
            except TimeoutError:
                self._take(rest)
                rest = b""
                continue
            except OSError:
                data = b""
            if not data:
                if rest:
                    self._take(rest)
                self._drop(connection)
                return
            *whole, rest = (rest + data).replace(b"\0", b"\n").split(b"\n")
            rest = rest[-LONGEST_LINE:]
            for one in whole:
                self._take(one)

    def _take(self, data: bytes) -> None:
        line = data.decode(self._encoding, "replace").rstrip("\r")[:LONGEST_LINE]
        if self._asks is not None and not self._asked.is_set() and self._asks.search(line):
            self._asked.set()
            return
        if self._refused is not None and self._refused.search(line):
            self._wrong.set()
        while self._prompt is not None and (match := self._prompt.match(line)) is not None and match.end():
            line = line[match.end() :]
        if self._ends is not None and self._ends.search(line):
            self._ended.set()
        elif line.strip():
            self._heard(line)

    def _drop(self, connection: socket.socket) -> None:
        if self._connection is connection:
            self._connection = None
            self._ended.set()
        with contextlib.suppress(OSError):
            connection.shutdown(socket.SHUT_RDWR)
        connection.close()

    def _end(self) -> None:
        connection = self._connection
        if connection is not None:
            time.sleep(QUIET_SECONDS)  # for what it still says
            self._drop(connection)


class _HttpConsole(_Queued):
    """One request for each line; what is answered becomes lines."""

    def __init__(self, rule: dict[str, Any], encoding: str, heard: Callable[[str], None]) -> None:
        self._rule = rule
        super().__init__(encoding, heard)

    def _deliver(self, line: str) -> None:
        rule = self._rule
        body = str(rule.get("body", ""))
        kind = str(rule.get("type", "text/plain"))
        if "json" in kind:
            body = body.replace("{command}", json.dumps(line)[1:-1])
        elif "urlencoded" in kind:
            body = body.replace("{command}", quote(line, safe=""))
        else:
            body = body.replace("{command}", line)
        path = str(rule.get("path", "/")).replace("{command}", quote(line, safe=""))
        method = str(rule.get("method", "POST"))
        connection = http.client.HTTPConnection(
            rule.get("address") or "127.0.0.1", int(rule["port"]), timeout=CONNECT_SECONDS
        )
        try:
            headers = {"Content-Type": kind, **rule.get("headers", {})}
            connection.request(method, path, None if method == "GET" else body.encode("utf-8"), headers)
            answer = connection.getresponse()
            text = answer.read(MOST_ANSWER).decode(self._encoding, "replace")
            if answer.status >= 400:
                raise ValueError(f"HTTP {answer.status} {answer.reason}")
        except TimeoutError:
            raise ValueError(f"no answer within {CONNECT_SECONDS:.0f} s") from None
        finally:
            connection.close()
        for one in text.splitlines():
            if one.strip():
                self._heard(one[:LONGEST_LINE])


def _line(text: str) -> str:
    """One line: what would end it, or control a terminal, is a space."""
    return "".join(" " if ord(one) < 32 or ord(one) == 127 else one for one in text)
