"""Log files that a server writes beside what it prints, followed while it runs."""

import codecs
import contextlib
import os
import stat
import time
from collections.abc import Iterator, Sequence
from fnmatch import fnmatchcase
from pathlib import Path

from rhizon.adapters.inside import Inside
from rhizon.core.errors import StateError
from rhizon.core.model.game import LogFile

__all__ = ["FollowedLogs"]

LONGEST_LINE = 16 << 10
CHUNK = 1 << 20
LOOK_SECONDS = 0.2


class _Open:
    """One file, read on from where it was; ``identity`` is its device and number."""

    def __init__(self, inside: Inside, path: str, encoding: str, begin: int) -> None:
        self.path = path
        self._file = os.fdopen(inside.open_read(path), "rb", buffering=0)
        facts = os.fstat(self._file.fileno())
        self.identity = (facts.st_dev, facts.st_ino)
        self._decoder = codecs.getincrementaldecoder(encoding)("replace")
        self._rest = ""
        if begin:
            self._decoder.decode(self._file.read(4)[:2] if encoding.lower().replace("_", "-") == "utf-16" else b"")
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
        self._file.close()


class FollowedLogs:
    """Lines that are added to the files of ``rules`` after this was made; what was in them before is not read.

    Of files that a pattern matches the newest is followed; the one before is read to its end first.
    """

    def __init__(self, folder: Path, rules: Sequence[LogFile]) -> None:
        self._folder = folder
        self._rules = rules
        self._open: dict[str, _Open] = {}
        self._looked = 0.0
        self._sizes: dict[tuple[int, int], int] = {}
        with Inside(folder) as inside, contextlib.suppress(OSError, StateError):
            for rule in rules:
                for _, facts in _matching(inside, rule):
                    self._sizes[facts.st_dev, facts.st_ino] = facts.st_size

    def lines(self, *, last: bool = False) -> Iterator[tuple[str, str]]:
        """New lines, each with the path of its file. Files are looked at five times a second; with ``last`` at once,
        and what has no line end counts as a line. A file that cannot be read has none."""
        if not self._rules or (not last and time.monotonic() - self._looked < LOOK_SECONDS):
            return
        self._looked = time.monotonic()
        for rule in self._rules:
            with contextlib.suppress(OSError, StateError):
                yield from self._of(rule, last=last)

    def _of(self, rule: LogFile, *, last: bool) -> Iterator[tuple[str, str]]:
        current = self._open.get(rule.path)
        with Inside(self._folder) as inside:
            newest = max(_matching(inside, rule), key=lambda one: (one[1].st_mtime_ns, one[0]), default=None)
            identity = (newest[1].st_dev, newest[1].st_ino) if newest is not None else None
            if current is not None:
                moved = identity is not None and identity != current.identity
                yield from ((line, current.path) for line in current.lines(last=last or moved))
                if not moved:
                    return
                current.close()
                del self._open[rule.path]
            if newest is None or identity is None:
                return
            begin = self._sizes.get(identity, 0)
            opened = _Open(inside, newest[0], rule.encoding, begin if begin <= newest[1].st_size else 0)
        self._open[rule.path] = opened
        yield from ((line, opened.path) for line in opened.lines(last=last))

    def close(self) -> None:
        """Gives the files back."""
        for one in self._open.values():
            one.close()
        self._open = {}


def _matching(inside: Inside, rule: LogFile) -> Iterator[tuple[str, os.stat_result]]:
    """The ordinary files that a rule means, with their paths."""
    folder, _, name = rule.path.rpartition("/")
    for one in inside.names(folder) if not folder or inside.is_folder(folder) else ():
        path = f"{folder}/{one}" if folder else one
        if fnmatchcase(one, name.replace("[", "[[]").replace("?", "[?]")):
            facts = inside.lstat(path)
            if facts is not None and stat.S_ISREG(facts.st_mode):
                yield path, facts
