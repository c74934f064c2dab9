"""The console of a server that runs: a line typed into it, and what it prints then."""

import re
import time
from collections.abc import Callable
from pathlib import Path

import msgspec

from rhizon.adapters.console import ConsoleClient
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.keepers import KeptProcess, life_of
from rhizon.app.host import Host
from rhizon.app.instance.exclusive import console_of
from rhizon.core.errors import CancelledError, InputError, StateError
from rhizon.core.names import printable
from rhizon.core.words import command_line

__all__ = ["Attached", "ConsoleAnswer", "attach", "type_line"]

QUIET_SECONDS = 0.5  # without a pattern: the answer is over when nothing came for so long
MOST_LINES = 2000


class ConsoleAnswer(msgspec.Struct, frozen=True, kw_only=True):
    """What a server printed after a line was typed; ``found`` whether the pattern was among it (True where none was
    asked for)."""

    folder: str
    name: str
    typed: str
    lines: tuple[str, ...]
    found: bool


class Attached:
    """A server's console: its lines from now on, and what is typed. Closing it leaves the server as it is."""

    def __init__(self, home: InstanceFolder, process: KeptProcess, client: ConsoleClient | None) -> None:
        self.home = home
        self.process = process
        self._client = client

    def __enter__(self) -> "Attached":
        return self

    def __exit__(self, *_: object) -> None:
        self.process.detach()
        self.process.close()

    def line(self, seconds: float) -> str | None:
        """The next line that the server prints, safe to show; None where none came in that time."""
        line = self.process.line(seconds)
        return printable(line) if line is not None else None

    def send(self, line: str) -> None:
        """Types a line. Raises StateError where the server does not take it, or this console is read-only."""
        if self._client is None:
            raise StateError("read-only", "this console is read-only", hint="Attach without --read-only.")
        self._client.send(line)


def attach(host: Host, folder: Path, *, read_only: bool = False) -> Attached:
    """The console of a server that runs; one whose keeper has died gets a new one. Raises :class:`StateError` (it does
    not run, or Rhizon did not start it)."""
    home = host.home(folder).required()
    mark = home.running()
    if mark is None or mark.is_bare:
        raise StateError(
            "not-running",
            f"the server {home.instance().name} is not running, or was not started by Rhizon",
            hint=f"Start it: {command_line('rhizon', 'start', home.folder)}",
        )
    client = console_of(home, mark)
    life = life_of(home)
    assert life is not None  # its keeper has written it
    encoding = host.game_of(home.instance()).log.encoding
    if read_only:  # its keeper need not know; lines come from a file
        client.close()
        return Attached(home, KeptProcess(home, life, encoding, whole=False, silent=True), None)
    return Attached(home, KeptProcess(home, life, encoding, whole=False, client=client), client)


def type_line(
    host: Host,
    folder: Path,
    line: str,
    stop_asked: Callable[[], bool],
    *,
    until: str | None = None,
    seconds: float = 10.0,
) -> ConsoleAnswer:
    """Types a line and returns what the server prints: up to the first line that the pattern ``until`` matches, or
    until it is quiet; at most so many seconds. Raises InputError (no such pattern), StateError, CancelledError."""
    try:
        pattern = re.compile(until) if until is not None else None
    except re.error as wrong:
        raise InputError("bad-pattern", f"{until!r} is not a regular expression: {wrong}", hint="Quote it.") from None
    with attach(host, folder) as console:
        console.send(line)
        lines: list[str] = []
        begun = last = time.monotonic()
        found = pattern is None
        while (now := time.monotonic()) - begun < seconds and len(lines) < MOST_LINES:
            if stop_asked():
                raise CancelledError("wait-cancelled", "the wait was cancelled", hint="The line was typed.")
            got = console.line(0.1)
            if got is not None:
                lines.append(got)
                last = now
                if pattern is not None and pattern.search(got):
                    found = True
                    break
            elif console.process.over or (pattern is None and lines and now - last > QUIET_SECONDS):
                break
        name = console.home.instance().name
    return ConsoleAnswer(
        folder=str(console.home.folder), name=name, typed=printable(line), lines=tuple(lines), found=found
    )
