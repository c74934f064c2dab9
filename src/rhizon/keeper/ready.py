"""Whether a server is ready, where its log alone does not say it: a port that answers, a file that appears, a launcher
that has ended. It is asked in a thread of its own, so that a slow answer keeps nobody waiting.
"""

import contextlib
import os
import re
import socket
import threading
import time
from pathlib import Path
from typing import Any

__all__ = ["READY_MARK", "ReadyWatch"]

READY_MARK = "rhizon: the server is ready: "  # a line of the log; the readers of logs know it
PAUSE_SECONDS = 0.25
ANSWER_SECONDS = 2.0
MOST_ANSWER = 64 << 10


class ReadyWatch(threading.Thread):
    """Looks until everything in ``rule`` holds; then ``said`` tells how. ``rule`` has ``address``, ``port``,
    ``protocol``, ``send`` (hexadecimal), ``answer`` (a pattern), ``file`` and ``launcher``; what is empty is not
    looked at. A file counts that was not there, or was another one, when this was made."""

    def __init__(self, folder: Path, rule: dict[str, Any]) -> None:
        super().__init__(daemon=True)
        self._rule = rule
        self._file = folder / rule["file"] if rule.get("file") else None
        self._before = self._identity()
        self._answer = re.compile(rule["answer"].encode("latin-1", "replace")) if rule.get("answer") else None
        self._over = threading.Event()
        self.launched = threading.Event()  # set by the one who sees the launcher's end
        self.said = ""

    def run(self) -> None:
        """Looks again and again."""
        while not self._over.is_set():
            how = self._holds()
            if how:
                self.said = how
                return
            self._over.wait(PAUSE_SECONDS)

    def stop(self) -> None:
        """No more looking."""
        self._over.set()

    def _holds(self) -> str:
        """How everything holds, in words; "" while something does not."""
        found = []
        if self._rule.get("launcher"):
            if not self.launched.is_set():
                return ""
            found.append("its launcher has ended")
        if self._file is not None:
            now = self._identity()
            if now is None or now == self._before:
                return ""
            found.append(f"{self._rule['file']} is there")
        if self._rule.get("port"):
            if not (self._udp() if self._rule.get("protocol") == "udp" else self._tcp()):
                return ""
            found.append(f"{self._rule.get('protocol', 'tcp')} port {self._rule['port']} answers")
        return ", ".join(found)

    def _identity(self) -> tuple[int, int, int] | None:
        """Which file it is, and when it was written."""
        if self._file is None:
            return None
        with contextlib.suppress(OSError):
            facts = os.lstat(self._file)
            return facts.st_ino, facts.st_mtime_ns, facts.st_size
        return None

    def _place(self) -> tuple[str, int]:
        return self._rule.get("address") or "127.0.0.1", int(self._rule["port"])

    def _tcp(self) -> bool:
        try:
            with socket.create_connection(self._place(), ANSWER_SECONDS) as connection:
                connection.settimeout(ANSWER_SECONDS)
                connection.sendall(bytes.fromhex(self._rule.get("send", "")))
                return self._answer is None or self._heard(connection)
        except OSError:
            return False

    def _heard(self, connection: socket.socket) -> bool:
        """Whether what comes within the time has the sign."""
        assert self._answer is not None
        data, until = b"", time.monotonic() + ANSWER_SECONDS
        while len(data) < MOST_ANSWER and time.monotonic() < until:
            if self._answer.search(data):
                return True
            more = connection.recv(4096)
            if not more:
                break
            data += more
        return self._answer.search(data) is not None

    def _udp(self) -> bool:
        """Without something to send, a port that nobody else can have is open."""
        host, port = self._place()
        family = socket.AF_INET6 if ":" in host else socket.AF_INET
        sent = bytes.fromhex(self._rule.get("send", ""))
        with socket.socket(family, socket.SOCK_DGRAM) as own:
            own.settimeout(ANSWER_SECONDS)
            try:
                if not sent:
                    own.bind((host, port))
                    return False
                own.connect((host, port))
                own.send(sent)
                return self._answer is None or self._answer.search(own.recv(MOST_ANSWER)) is not None
            except OSError:
                return not sent
