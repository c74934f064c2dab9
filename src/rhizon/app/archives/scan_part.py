"""Reading many archives on several processors: other processes read a part each, into the cache that all share.

They are processes of their own, started by name, since a program that uses Rhizon as a library need not be made for
being forked. One that cannot be started, or ends early, costs time and nothing else: what is not in the cache is read.
"""

import contextlib
import os
import subprocess
import sys
from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec

import rhizon
from rhizon.adapters.host import processors
from rhizon.adapters.scans import Scans
from rhizon.app.archives.scanned_file import scan_files_into
from rhizon.core.model.base import dec_hook, enc_hook
from rhizon.core.model.game import GameDefinition

__all__ = ["shared_out"]

WORTH_BYTES = 24 << 20  # of archives that are not in the cache: about two seconds of work
MOST_PROCESSES = 8


class _Part(msgspec.Struct, frozen=True, kw_only=True):
    """What one process reads, and where the cache is."""

    cache: str
    games: tuple[GameDefinition, ...]
    files: tuple[str, ...]


@contextlib.contextmanager
def shared_out(cache: Path, files: Sequence[Path], games: Sequence[GameDefinition]) -> Iterator[list[Path]]:
    """Starts processes for their parts of the files that are not in the cache, where that is worth it; gives all files
    in the order in which they are best read here: first those that are nobody else's. The processes end with it."""
    count = min(processors(), MOST_PROCESSES)
    parts = _parts(cache, files, games, count) if count > 1 else []
    running: list[subprocess.Popen[bytes]] = []
    try:
        for part in parts[1:]:
            running += _started(_Part(cache=str(cache), games=tuple(games), files=tuple(map(str, part))))
        theirs = {file for part in parts[1:] for file in part} if running else set()
        yield [*(file for file in files if file not in theirs), *(file for file in files if file in theirs)]
    finally:
        for one in running:
            one.kill()
            one.wait()


def _parts(cache: Path, files: Sequence[Path], games: Sequence[GameDefinition], count: int) -> list[list[Path]]:
    """Parts of about the same size, the largest files first; none where there is little to read."""
    scans = Scans(cache, games)
    sizes = {}
    for file in files:
        with contextlib.suppress(OSError):
            if not scans.has(file):
                sizes[file] = file.stat().st_size
    if not scans.is_open or sum(sizes.values()) < WORTH_BYTES:
        return []
    parts: list[list[Path]] = [[] for _ in range(count)]
    loads = [0] * count
    for file in sorted(sizes, key=sizes.__getitem__, reverse=True):
        least = loads.index(min(loads))
        parts[least].append(file)
        loads[least] += sizes[file]
    return [part for part in parts if part]


def _started(part: _Part) -> list[subprocess.Popen[bytes]]:
    """A process that reads a part; none where it cannot be started."""
    home = str(Path(rhizon.__file__).parents[1])
    path = os.pathsep.join(filter(None, [home, os.environ.get("PYTHONPATH", "")]))
    command = [sys.executable, "-P", "-m", __name__]  # -P: nothing is imported from the folder it is started in
    try:
        one = subprocess.Popen(
            command,
            stdin=subprocess.PIPE,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
            env={**os.environ, "PYTHONPATH": path},
        )
    except (OSError, ValueError):
        return []
    assert one.stdin is not None
    with contextlib.suppress(OSError), one.stdin:
        one.stdin.write(msgspec.msgpack.encode(part, enc_hook=enc_hook))
    return [one]


def _read_part() -> None:
    """What such a process does: it reads its files, and the cache has them."""
    part = msgspec.msgpack.decode(sys.stdin.buffer.read(), type=_Part, dec_hook=dec_hook)
    scan_files_into(Scans(Path(part.cache), part.games), [Path(file) for file in part.files], part.games)


if __name__ == "__main__":
    _read_part()
