"""The logs of a server's runs: the current one and those before, read with what is known of their lines."""

import contextlib
import gzip
import re
import time
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.keepers import KeptProcess, life_of
from rhizon.app.foresee.good_runs import seen_in_good_runs
from rhizon.app.host import Host
from rhizon.core.errors import InputError, StateError
from rhizon.core.log_lines import fingerprint
from rhizon.core.model.game import GameDefinition, LogLevel
from rhizon.core.names import printable
from rhizon.keeper.places import OUTPUT, RUNS, TIMES

__all__ = ["LogLine", "LogLines", "LogWishes", "Reader", "follow_log", "read_log"]

MOST_LINES = 100_000
CHUNK = 1 << 20
ORDER: dict[str, int] = {"info": 0, "warning": 1, "error": 2}


class LogLine(msgspec.Struct, frozen=True, kw_only=True):
    """One line: its level as the game's definition tells it, ``known`` where good runs print it too (of lines above
    info) and ``new`` where good runs are known and none did, the content that was being started."""

    text: str
    level: LogLevel
    known: bool
    new: bool
    content: str


class LogLines(msgspec.Struct, frozen=True, kw_only=True):
    """Lines of one run; ``run`` is 1 for the current or last one, 2 for the one before; ``began`` its name."""

    folder: str
    name: str
    run: int
    runs: int
    began: str
    lines: tuple[LogLine, ...]
    left_out: int


class LogWishes(msgspec.Struct, frozen=True, kw_only=True):
    """Which lines: of which ``run`` (1 is the last), that came in the last ``since`` seconds, of at least a ``level``,
    while ``content`` was being started, that match ``grep``, the last ``lines`` of them."""

    run: int = 1
    since: float | None = None
    level: LogLevel = "info"
    content: str | None = None
    grep: str | None = None
    lines: int | None = None


class Reader:
    """Makes lines of texts, one after the other, by a game's definition. Raises InputError for a wrong pattern."""

    def __init__(self, game: GameDefinition, good: list[str], wishes: LogWishes) -> None:
        self._log = game.log
        self._level = re.compile(self._log.level) if self._log.level else None
        self._begin = re.compile(self._log.content_begin) if self._log.content_begin else None
        self._done = re.compile(self._log.content_done) if self._log.content_done else None
        self._signs = [re.compile(one.pattern) for one in self._log.failures]
        self._harmless = [re.compile(one) for one in self._log.harmless]
        self._good = set(good)
        self._wishes = wishes
        self._content = ""
        try:
            self._grep = re.compile(wishes.grep) if wishes.grep is not None else None
        except re.error as wrong:
            what = f"{wishes.grep!r} is not a regular expression: {wrong}"
            raise InputError("bad-pattern", what, hint="Quote it.") from None

    def read(self, text: str) -> LogLine | None:
        """One line; None for one that is not wanted."""
        begun = self._begin.search(text) if self._begin is not None else None
        if begun is not None:
            self._content = printable(begun["id"], 64)
        content = self._content
        if self._done is not None and self._done.search(text):
            self._content = ""
        level = self._level_of(text)
        known = level != "info" and (fingerprint(text.strip()) in self._good or self._is_harmless(text))
        new = level != "info" and bool(self._good) and not known
        line = LogLine(text=printable(text), level=level, known=known, new=new, content=content)
        wishes = self._wishes
        wanted = ORDER[level] >= ORDER[wishes.level] and (wishes.content is None or content == wishes.content)
        return line if wanted and (self._grep is None or self._grep.search(line.text)) else None

    def _is_harmless(self, text: str) -> bool:
        return any(one.search(text) for one in self._harmless)

    def _level_of(self, text: str) -> LogLevel:
        """By the definition; else by what looks like a failure."""
        if self._level is not None:
            match = self._level.search(text)
            return self._log.levels.get(match["level"], "info") if match is not None else "info"
        if any(one.search(text) for one in self._signs) or _ERROR.search(text):
            return "error"
        return "warning" if _WARNING.search(text) else "info"


_ERROR = re.compile(r"(?:^|[\s\"\]:|])(?:[A-Za-z_]\w*\.)+[A-Z]\w*(?:Error|Exception)\b|\b(?:ERROR|FATAL|SEVERE)\b|HALT")
_WARNING = re.compile(r"\bWARN(?:ING)?\b")


def read_log(host: Host, folder: Path, wishes: LogWishes) -> LogLines:
    """Raises InputError (no such run, a wrong pattern), :class:`StateError`."""
    home = host.home(folder).required()
    instance = home.instance()
    game = host.game_of(instance)
    earlier = sorted((home.own / RUNS).glob("*.log.gz"), reverse=True)
    runs = [home.own / OUTPUT, *earlier] if (home.own / OUTPUT).is_file() else earlier
    if not 1 <= wishes.run <= len(runs):
        raise InputError(
            "no-such-run",
            f"there is no run {wishes.run} of {instance.name}: {len(runs)} are kept",
            hint="The last one is 1, the one before it is 2.",
        )
    reader = Reader(game, seen_in_good_runs(home), wishes)
    path = runs[wishes.run - 1]
    found: list[LogLine] = []
    left_out = 0
    most = min(wishes.lines or MOST_LINES, MOST_LINES)
    for text in _texts(path, _begin(home, path, wishes.since), game.log.encoding):
        line = reader.read(text)
        if line is not None:
            found.append(line)
            if len(found) > 2 * most:
                left_out += len(found) - most
                del found[:-most]
    left_out += max(0, len(found) - most)
    return LogLines(
        folder=str(home.folder),
        name=instance.name,
        run=wishes.run,
        runs=len(runs),
        began=path.name.removesuffix(".log.gz") if path.name != OUTPUT else "",
        lines=tuple(found[-most:]),
        left_out=left_out,
    )


def follow_log(host: Host, folder: Path, wishes: LogWishes, stop_asked: Callable[[], bool]) -> Iterator[LogLine]:
    """Lines of the current run as they come, until its end or until asked to stop. Raises StateError."""
    home = host.home(folder).required()
    game = host.game_of(home.instance())
    reader = Reader(game, seen_in_good_runs(home), wishes)
    life = life_of(home)
    if life is None:
        return
    process = KeptProcess(home, life, game.log.encoding, whole=False)
    process.detach()
    try:
        while not stop_asked() and not process.over:
            text = process.line(0.2)
            line = reader.read(text) if text is not None else None
            if line is not None:
                yield line
    finally:
        process.close()


def _begin(home: InstanceFolder, path: Path, since: float | None) -> int:
    """The first byte that came in the last ``since`` seconds, by what the keeper noted; 0 where all is wanted."""
    if since is None:
        return 0
    name = TIMES if path.name == OUTPUT else f"{RUNS}/{path.name.removesuffix('.log.gz')}.times"
    begin, wanted = 0, time.time() - since
    with contextlib.suppress(OSError, ValueError):
        for line in (home.own / name).read_text("utf-8").splitlines():
            offset, _, at = line.partition(" ")
            begin = int(offset)
            if float(at) >= wanted:
                return begin
    return path.stat().st_size if path.name == OUTPUT else begin


def _texts(path: Path, begin: int, encoding: str) -> Iterator[str]:
    """The lines of a log from an offset on. Raises StateError for one that cannot be read."""
    try:
        with gzip.open(path, "rb") if path.suffix == ".gz" else path.open("rb") as file:
            file.seek(begin)
            rest = b""
            while chunk := file.read(CHUNK):
                *whole, rest = (rest + chunk).split(b"\n")
                yield from (one.lstrip(b"\0").decode(encoding, "replace").rstrip("\r") for one in whole)
            if rest.strip(b"\0"):
                yield rest.lstrip(b"\0").decode(encoding, "replace")
    except (OSError, EOFError, zlib.error) as broken:
        raise StateError(
            "file-trouble", f"could not read the log: {path.name}: {broken}", hint="See .rhizon/"
        ) from None
