"""Describing a game of one's own: a definition to fill in, and what it finds in a real server's folder."""

import re
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import NamedTuple

import msgspec

from rhizon.adapters.files import read_bytes, translated, write_atomic
from rhizon.adapters.games import ENDING, GAMES, read_game
from rhizon.adapters.instances import InstanceFolder
from rhizon.app.games.check import Taken, take_out
from rhizon.app.games.look import log_lines, look_at
from rhizon.app.games.start_try import StartTried, try_start
from rhizon.app.host import Host
from rhizon.app.instance.native_files import started_with
from rhizon.app.reporter import Reporter
from rhizon.core.describe.propose import propose
from rhizon.core.errors import InputError, StateError
from rhizon.core.launch import Launch, start_command
from rhizon.core.model.documents import decode
from rhizon.core.model.game import GameDefinition, LoaderDefinition
from rhizon.core.model.instance import RuntimeChoice
from rhizon.core.model.setting import Stored
from rhizon.core.names import ID_PATTERN, printable
from rhizon.core.runtimes import family_of
from rhizon.core.settings.apply import format_value, in_file
from rhizon.core.settings.dialects import DIALECTS

__all__ = ["NewGame", "PatternLine", "PlaceLine", "TryResult", "TryWishes", "ValueLine", "new_game", "try_game"]

BLANK = GAMES / "blank.toml"
MOST_MATCHES = 5
LARGEST_LOG = 64 << 20


class ValueLine(msgspec.Struct, frozen=True, kw_only=True):
    """A setting or port, where it is stored, what is there, and what is wrong with that (empty: nothing)."""

    name: str
    stored: str
    value: str
    trouble: str


class PlaceLine(msgspec.Struct, frozen=True, kw_only=True):
    """A file or folder that the definition names, and whether it is there; folders for content are made when needed."""

    what: str
    path: str
    there: bool
    needed: bool = True


class PatternLine(msgspec.Struct, frozen=True, kw_only=True):
    """A pattern for the log: the numbers of the first lines that it matches, of how many, and the first of them."""

    name: str
    pattern: str
    lines: tuple[int, ...]
    matches: int
    first: str


class TryResult(msgspec.Struct, frozen=True, kw_only=True):
    """Everything that a definition finds in a real folder, log and archive."""

    title: str
    file: str
    settings: tuple[ValueLine, ...]
    ports: tuple[ValueLine, ...]
    places: tuple[PlaceLine, ...]
    launch: dict[str, tuple[str, ...]]
    patterns: tuple[PatternLine, ...]
    taken: tuple[Taken, ...]
    started: StartTried | None = None

    @property
    def trouble(self) -> int:
        """How many things are not as the definition says."""
        values = sum(bool(one.trouble) for one in (*self.settings, *self.ports))
        failed = self.started is not None and (self.started.ready_seconds is None or self.started.exit_code != 0)
        silent = 0 if self.started is None else sum(not heard for heard in self.started.listening.values())
        return values + sum(one.needed and not one.there for one in self.places) + failed + silent


class NewGame(msgspec.Struct, frozen=True, kw_only=True):
    """The definition that was begun, or would be: of a real server's folder what was ``found`` there, and what a person
    has to look at."""

    id: str
    file: str
    found: tuple[str, ...] = ()
    open: tuple[str, ...] = ()


def new_game(
    ident: str, output: Path | None, *, write: bool = True, server: Path | None = None, log: Path | None = None
) -> NewGame:
    """Writes a commented definition to fill in, into the file or folder ``output``; or one that begins with what the
    folder of a real ``server`` and its ``log`` show. Raises InputError (a bad id, a file
    that is not named after it), :class:`StateError` (the file exists)."""
    if not re.fullmatch(ID_PATTERN, ident):
        hint = "An id has small letters, digits, and . _ - between them, at most 64."
        raise InputError("usage", f"{printable(ident, 80)!r} is not a valid id", hint=hint)
    name = f"{ident}{ENDING}"
    file = (output or Path()).absolute()
    if output is None or file.is_dir():
        file /= name
    if file.name != name:
        raise InputError("usage", f"{file.name} is not named after the id", hint=f"Name it {name}, or name a folder.")
    if file.exists():
        raise StateError("file-in-the-way", f"{file} exists already", hint="Choose another id, or edit that file.")
    title = ident.replace("-", " ").replace("_", " ").title()
    found: tuple[str, ...] = ()
    lacking: tuple[str, ...] = ()
    if server is not None:
        facts = look_at(server)
        lines, log_path = log_lines(log, facts)
        made = propose(ident, title, facts, lines, log_path)
        text, found, lacking = made.text, made.found, made.open
        decode(GameDefinition, text.encode(), str(file))
    else:
        text = BLANK.read_text("utf-8").replace("@ID@", ident).replace("@TITLE@", title)
    if write:
        with translated("write the definition", file):
            write_atomic(file, text.encode())
    return NewGame(id=ident, file=str(file), found=found, open=lacking)


class TryWishes(NamedTuple):
    """What a definition is tried on beside a folder: a ``log``, an ``archive``, and whether a copy is to be started
    (with which loader, and how long that may take)."""

    log: Path | None = None
    archive: Path | None = None
    start: bool = False
    loader: str | None = None
    wait: float | None = None


def try_game(host: Host, file: Path, server: Path, wishes: TryWishes, reporter: Reporter) -> TryResult:
    """Reads, and changes nothing; what is started is a copy. Raises DocumentError for the definition, InputError for
    what is not available, StateError where no copy can be started."""
    game = read_game(file, host.games(Path.cwd()).files().get)
    log, archive = wishes.log, wishes.archive
    if wishes.loader is not None and wishes.loader not in game.loaders:
        raise InputError(
            "usage", f"{wishes.loader} is not a loader of {game.title}", hint=f"Its loaders: {', '.join(game.loaders)}"
        )
    if not server.is_dir():
        raise InputError("no-such-folder", f"there is no folder at {server}", hint="Name the folder of a real server.")
    native = _Native(server)
    started = None
    if wishes.start:
        started = try_start(host, game, server, wishes.wait, wishes.loader, reporter)
    lines = list(started.lines) if started is not None else []
    if log is not None:
        lines = read_bytes(log, "log", LARGEST_LOG).decode("utf-8", "replace").splitlines()
    return TryResult(
        title=game.title,
        file=str(file),
        settings=tuple(_setting(game, name, native) for name in game.settings),
        ports=tuple(_value(port.role, place, native, _port_trouble) for port in game.ports for place in port.store),
        places=tuple(_places(game, server)),
        launch=_launch(game, server),
        patterns=tuple(_patterns(game, lines)) if log is not None or started is not None else (),
        taken=tuple(take_out(file, archive)) if archive is not None else (),
        started=started,
    )


class _Native:
    """The server's own files, each read once."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._read: dict[tuple[str, str], dict[str, str] | str] = {}

    def file(self, place: Stored) -> dict[str, str] | str:
        """Its keys and values, or what is wrong with it."""
        key = (place.file, place.written)
        if key not in self._read:
            self._read[key] = self._file(place)
        return self._read[key]

    def get(self, place: Stored) -> tuple[str | None, str]:
        """What is there, and what is wrong."""
        values = self.file(place)
        if isinstance(values, str):
            return None, values
        if place.key not in values:
            return None, _no_such_key(values)
        return values[place.key], ""

    def _file(self, place: Stored) -> dict[str, str] | str:
        path = self._folder / place.file
        if not path.is_file():
            if place.dialect == "arguments":
                return {}  # Rhizon writes it
            return "the file is not there"
        try:
            return DIALECTS[place.written].read(read_bytes(path, "settings file", 16 << 20))
        except ValueError as broken:
            return f"it cannot be read as {place.dialect}: {printable(str(broken), 160)}"


def _no_such_key(values: Mapping[str, str]) -> str:
    return f"the file has no such key; it has: {printable(', '.join(list(values)[:6]) or 'nothing', 120)}"


def _setting(game: GameDefinition, name: str, native: _Native) -> ValueLine:
    """A setting with its present value, and what is wrong with that."""
    one = game.settings[name]
    if one.store is None:
        return ValueLine(name=name, stored="nowhere; used by Rhizon only", value=format_value(one.default), trouble="")
    stored = f"{one.store.file}: {one.store.key}"
    values = native.file(one.store)
    if isinstance(values, str):
        return ValueLine(name=name, stored=stored, value="", trouble=values)
    value, _ = in_file(one, DIALECTS[one.store.written], values)
    if value is None:
        left_out = one.store.dialect in ("arguments", "environment")  # then the server's own default counts
        return ValueLine(name=name, stored=stored, value="", trouble="" if left_out else _no_such_key(values))
    trouble = ""
    try:
        one.checked(value)
    except ValueError as wrong:
        trouble = str(wrong)
    shown = printable(format_value(value), 120)
    raw = printable(values.get(one.store.key, shown), 60)
    if one.secret and value:
        shown = "(secret)"
    elif raw != shown:
        shown += f" ({raw} there)"
    return ValueLine(name=name, stored=stored, value=shown, trouble=trouble)


def _port_trouble(text: str) -> str:
    return "" if text.isdecimal() and 0 < int(text) < 65536 else "a port number is expected"


def _value(name: str, place: Stored, native: _Native, check: Callable[[str], str]) -> ValueLine:
    text, trouble = native.get(place)
    stored = f"{place.file}: {place.key}"
    if text is None:
        return ValueLine(name=name, stored=stored, value="", trouble=trouble)
    return ValueLine(name=name, stored=stored, value=printable(text, 120), trouble=check(text))


def _places(game: GameDefinition, server: Path) -> list[PlaceLine]:
    named: list[tuple[str, str]] = [("server file", path) for path in game.server_files]
    named += [(f"{kind} folder", path) for kind, path in game.folders.items()]
    named += [("worlds", game.world.folder)] if game.world.folder else []
    named += [("made by the first start", path) for path in game.first_start.creates]
    named += [("licence", game.licence.text)] if game.licence is not None else []
    content = set(game.folders.values())
    return [
        PlaceLine(what=what, path=path, there=(server / path).exists(), needed=path not in content)
        for what, path in named
    ]


def _launch(game: GameDefinition, server: Path) -> dict[str, tuple[str, ...]]:
    """The commands with the arguments that the server's file of them holds, and one made-up piece of content."""
    family = family_of(game.runtime)
    runtime = None
    if family is not None:
        major = max(family.long_term, default=1)
        runtime = RuntimeChoice(family=family.title, major=major, version=str(major), program=family.program)
    heap = max(game.memory.base_mib, game.memory.least_mib, 16)
    return {
        name or "bare": start_command(
            game,
            Launch(
                name,
                runtime,
                heap,
                path_separator=":",
                content=(_example(game, game.loaders[name]),) if name is not None else (),
                arguments=started_with(InstanceFolder(server), game),
            ),
        )
        for name in (None, *game.loaders)
    }


def _example(game: GameDefinition, loader: LoaderDefinition) -> str:
    """Where a piece of content would be."""
    kind = loader.kinds[0] if loader.kinds else "mod"
    rule = game.placing.get(kind)
    name = rule.name if rule is not None and rule.unpack else "{archive}"
    return f"{game.folders.get(kind, '')}/{name}"


def _patterns(game: GameDefinition, text: list[str]) -> list[PatternLine]:
    """Which lines of a log each pattern matches."""
    rules = game.log
    named: list[tuple[str, str]] = [("ready", game.ready_pattern), ("closed", rules.closed)]
    named += [("content_begin", rules.content_begin), ("content_done", rules.content_done)]
    named += [(f"progress: {one.label}", one.pattern) for one in rules.progress]
    named += [(f"failure: {one.code}", one.pattern) for one in rules.failures]
    if game.console.hold is not None:
        named.append(("console.hold", game.console.hold.done))
    found = []
    for name, pattern in named:
        if not pattern:
            continue
        matcher = re.compile(pattern)
        lines = [number for number, line in enumerate(text, 1) if matcher.search(line)]
        first = printable(text[lines[0] - 1], 120) if lines else ""
        found.append(
            PatternLine(name=name, pattern=pattern, lines=tuple(lines[:MOST_MATCHES]), matches=len(lines), first=first)
        )
    return found
