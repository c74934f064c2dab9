"""Log files that a server writes beside what it prints, followed while it runs."""

import codecs
import contextlib
import os
import stat
import time
from collections.abc import Iterator, Sequence
from fnmatch import fnmatchcase
from pathlib import Path

__all__ = ["FollowedLogs"]

LONGEST_LINE = 16 << 10
CHUNK = 1 << 20
LOOK_SECONDS = 0.2
_NOFOLLOW = getattr(os, "O_NOFOLLOW", 0)


class _Open:
    """One file, read on from where it was; ``identity`` is its device and number."""

    def __init__(self, handle: int, path: str, encoding: str, begin: int) -> None:
        self.path = path
        self._file = os.fdopen(handle, "rb", buffering=0)
        facts = os.fstat(handle)
        self.identity = (facts.st_dev, facts.st_ino)
        self._decoder = codecs.getincrementaldecoder(encoding)("replace")
        self._rest = ""
        if 0 < begin <= facts.st_size:
            if encoding.lower().replace("_", "-") == "utf-16":
                self._decoder.decode(self._file.read(2))  # its mark says which of the two it is
            self._file.seek(begin)

    def lines(self, *, last: bool) -> Iterator[str]:
        """What was added in whole lines; with ``last`` also the line that has no end."""
        if os.fstat(self._file.fileno()).st_size < self._file.tell():
            self._file.seek(0)  # it was cut off and begins anew
            self._rest = ""
        while chunk := self._file.read(CHUNK):
            *whole, self._rest = (self._rest + self._decoder.decode(chunk)).split("\n")
            yield from (one.rstrip("\r")[:LONGEST_LINE] for one in whole)
            self._rest = self._rest[:LONGEST_LINE]
        if last and self._rest:
            yield self._rest
            self._rest = ""

    def close(self) -> None:
        """Gives the file back."""
        self._file.close()


class FollowedLogs:
    """Lines that are added to files after this was made; what was in them before is not read. ``rules`` are paths in
    the folder with their encodings; ``*`` in a file's name stands for anything, and of all that a rule matches the
    newest is followed. The one before is read to its end first. Links are not followed."""

    def __init__(self, folder: Path, rules: Sequence[tuple[str, str]]) -> None:
        self._folder = folder
        self._rules = rules
        self._open: dict[str, _Open] = {}
        self._looked = 0.0
        self._sizes: dict[tuple[int, int], int] = {}
        for path, _ in rules:
            with contextlib.suppress(OSError), self._around(path) as around:
                for _, facts in _matching(around, path):
                    self._sizes[facts.st_dev, facts.st_ino] = facts.st_size

    @contextlib.contextmanager
    def _around(self, path: str) -> Iterator[int]:
        """The handle of the folder that a path is in. Raises OSError, also for a link on the way."""
        handle = os.open(self._folder, os.O_RDONLY)
        try:
            for part in path.split("/")[:-1]:
                deeper = os.open(part, os.O_RDONLY | _NOFOLLOW | getattr(os, "O_DIRECTORY", 0), dir_fd=handle)
                os.close(handle)
                handle = deeper
            yield handle
        finally:
            os.close(handle)

    def lines(self, *, last: bool = False) -> Iterator[tuple[str, str]]:
        """New lines, each with the path of its file. Files are looked at five times a second; with ``last`` at once,
        and what has no line end counts as a line. A file that cannot be read has none."""
        if not self._rules or (not last and time.monotonic() - self._looked < LOOK_SECONDS):
            return
        self._looked = time.monotonic()
        for path, encoding in self._rules:
            with contextlib.suppress(OSError):
                yield from self._of(path, encoding, last=last)

    def _of(self, path: str, encoding: str, *, last: bool) -> Iterator[tuple[str, str]]:
        current = self._open.get(path)
        with self._around(path) as around:
            newest = max(_matching(around, path), key=lambda one: (one[1].st_mtime_ns, one[0]), default=None)
            identity = (newest[1].st_dev, newest[1].st_ino) if newest is not None else None
            if current is not None:
                moved = identity is not None and identity != current.identity
                yield from ((line, current.path) for line in current.lines(last=last or moved))
                if not moved:
                    return
                current.close()
                del self._open[path]
            if newest is None or identity is None:
                return
            handle = os.open(newest[0], os.O_RDONLY | _NOFOLLOW | getattr(os, "O_NONBLOCK", 0), dir_fd=around)
        folder = path.rpartition("/")[0]
        name = f"{folder}/{newest[0]}" if folder else newest[0]
        opened = _Open(handle, name, encoding, self._sizes.get(identity, 0))
        self._open[path] = opened
        yield from ((line, opened.path) for line in opened.lines(last=last))

    def close(self) -> None:
        """Gives the files back."""
        for one in self._open.values():
            one.close()
        self._open = {}


def _matching(around: int, path: str) -> Iterator[tuple[str, os.stat_result]]:
    """The ordinary files that a rule means, by their names in its folder."""
    name = path.rpartition("/")[2].replace("[", "[[]").replace("?", "[?]")
    for one in os.listdir(around):
        if fnmatchcase(one, name):
            facts = os.lstat(one, dir_fd=around)
            if stat.S_ISREG(facts.st_mode):
                yield one, facts
