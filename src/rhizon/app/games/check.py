"""Game definitions: which there are, one of them, and what is wrong with one."""

import re
from collections.abc import Iterator
from pathlib import Path

import msgspec

from rhizon.adapters.files import read_bytes, translated, write_atomic
from rhizon.adapters.games import ENDING, field_texts, read_game
from rhizon.app.host import Host
from rhizon.core.archives.assembly import read_assembly
from rhizon.core.archives.entries import Archive
from rhizon.core.archives.facts import MANIFEST, said
from rhizon.core.archives.metadata import READERS, Fields
from rhizon.core.archives.metadata.assembly import from_assembly
from rhizon.core.archives.metadata.fields import LARGEST
from rhizon.core.archives.metadata.flat import main_attributes
from rhizon.core.check.example_line import example_line
from rhizon.core.errors import RhizonError
from rhizon.core.finding import Finding, worst_first
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.line_numbers import line_of, lines_of
from rhizon.core.model.metadata import MetadataRule
from rhizon.core.model.setting import SettingDefinition
from rhizon.core.names import printable
from rhizon.core.settings.shared import SHARED, meant

__all__ = [
    "CheckedGame",
    "GameLine",
    "GameList",
    "GameSchema",
    "Taken",
    "check_game",
    "list_games",
    "show_game",
    "take_out",
    "write_schema",
]


class GameLine(msgspec.Struct, frozen=True, kw_only=True):
    """One definition; ``trouble`` says why it cannot be read."""

    id: str
    title: str
    summary: str
    versions: tuple[str, ...]
    loaders: tuple[str, ...]
    runtime: str
    file: str
    trouble: str = ""


class CheckedGame(msgspec.Struct, frozen=True, kw_only=True):
    """A definition that can be read, what its rules read from an archive (``taken``), and what could be better."""

    id: str
    title: str
    file: str
    taken: tuple["Taken", ...]
    findings: tuple[Finding, ...]


class GameList(msgspec.Struct, frozen=True, kw_only=True):
    """Every definition that is found from here, by id."""

    games: tuple[GameLine, ...]


class GameSchema(msgspec.Struct, frozen=True, kw_only=True):
    """The schema that was written, and the line by which a definition beside it names it."""

    file: str
    line: str


def write_schema(file: Path, *, write: bool = True) -> GameSchema:
    """Writes the JSON Schema of a definition, in which every field says what it means. Raises StateError."""
    from rhizon.core.model.documents import DOCUMENTS, schema
    from rhizon.core.model.game_fields import described_schema

    document = next(one for one in DOCUMENTS if one.type is GameDefinition)
    made = described_schema(schema(document), field_texts())
    if write:
        with translated("write the schema", file):
            write_atomic(file, msgspec.json.format(msgspec.json.encode(made), indent=2) + b"\n")
    return GameSchema(file=str(file.absolute()), line=f"#:schema ./{file.name}")


def list_games(host: Host) -> GameList:
    """Definitions in the working folder, in the config folder, and those that ship with Rhizon."""
    return GameList(games=tuple(_line(name, file) for name, file in host.games(Path.cwd()).files().items()))


def _line(name: str, file: Path) -> GameLine:
    """A definition in the list, or why it cannot be read."""
    try:
        game = read_game(file)
    except RhizonError as wrong:
        return GameLine(
            id=name, title="", summary="", versions=(), loaders=(), runtime="", file=str(file), trouble=wrong.message
        )
    return GameLine(
        id=game.id,
        title=game.title,
        summary=game.summary,
        versions=game.versions,
        loaders=tuple(game.loaders),
        runtime=game.runtime.family,
        file=str(file),
    )


def show_game(host: Host, name: str) -> tuple[GameDefinition, Path]:
    """A definition by its id or its file."""
    if name.endswith(ENDING) or "/" in name:
        return read_game(Path(name)), Path(name)
    games = host.games(Path.cwd())
    return games.get(name), games.files()[name]


def check_game(file: Path, archive: Path | None = None) -> CheckedGame:
    """What could be better in a definition, and what its rules read from an ``archive``. Raises DocumentError with
    every mistake of a definition that cannot be used, TrustError for a hostile archive."""
    game = read_game(file)
    findings = [*_named_right(game, file), *_patterns(game), *_reached(game), *_runtimes(game), *_metadata(game)]
    findings += [*_settings(game), *_placeless(game)]
    known = lines_of(read_bytes(file, "game definition").decode("utf-8-sig"))
    findings = [_on_line(one, line_of(known, one.subject)) for one in findings]
    taken = tuple(take_out(file, archive)) if archive is not None else ()
    return CheckedGame(id=game.id, title=game.title, file=str(file), taken=taken, findings=tuple(worst_first(findings)))


def _on_line(finding: Finding, line: int | None) -> Finding:
    if line is None:
        return finding
    return msgspec.structs.replace(finding, subject=f"line {line}, {finding.subject}")


class Taken(msgspec.Struct, frozen=True, kw_only=True):
    """What one rule takes out of an archive: ``values`` by our field, as they are there; ``trouble``: why not."""

    loader: str
    rule: int
    file: str
    values: dict[str, str]
    trouble: str = ""


def take_out(file: Path, archive: Path) -> list[Taken]:
    """Every metadata rule of a definition tried on a real archive. Raises DocumentError, TrustError."""
    game = read_game(file)
    if archive.suffix.lower() == ".dll":
        return list(_out_of_assembly(game, archive))
    opened = Archive(read_bytes(archive, "archive"), archive.name)
    taken = []
    for name, loader in game.loaders.items():
        for number, rule in enumerate(loader.metadata):
            values: dict[str, str] = {}
            trouble = ""
            if rule.format == "assembly" or rule.file not in opened:
                trouble = f"{rule.file} is not in it"
            else:
                try:
                    values = _values(opened, rule)
                except ValueError as wrong:
                    trouble = printable(str(wrong), 300)
            taken.append(Taken(loader=name, rule=number, file=rule.file, values=values, trouble=trouble))
    return taken


def _out_of_assembly(game: GameDefinition, file: Path) -> Iterator[Taken]:
    assembly = read_assembly(read_bytes(file, "archive"))
    for name, loader in game.loaders.items():
        for number, rule in enumerate(loader.metadata):
            if rule.format != "assembly" or assembly is None:
                trouble = "it is not an assembly" if assembly is None else "the rule is not for assemblies"
                yield Taken(loader=name, rule=number, file=rule.file, values={}, trouble=trouble)
            else:
                values = _taken(from_assembly(assembly), rule, {})
                yield Taken(loader=name, rule=number, file=rule.file, values=values)


def _values(archive: Archive, rule: MetadataRule) -> dict[str, str]:
    fields = READERS[rule.format](archive.read(rule.file, LARGEST))
    return _taken(fields, rule, main_attributes(archive.read(MANIFEST, LARGEST)) if MANIFEST in archive else {})


def _taken(fields: Fields, rule: MetadataRule, manifest: dict[str, str]) -> dict[str, str]:
    values = {field: said(fields, rule, manifest, field) for field in MetadataRule.TEXTS}
    values["embedded"] = ", ".join(fields.texts(rule.embedded)) if rule.embedded else ""
    for field in MetadataRule.RELATIONS:
        where = getattr(rule, field)
        pairs = fields.pairs(where, rule) if where else []
        values[field] = "; ".join(f"{other} {wanted}".strip() for other, wanted in pairs)
    return {field: printable(value, 300) for field, value in values.items() if value or getattr(rule, field)}


def _odd(subject: str, what: str, remedy: str) -> Finding:
    return Finding(code="game-definition", severity="warning", subject=subject, what=what, remedy=remedy)


def _named_right(game: GameDefinition, file: Path) -> list[Finding]:
    if file.name == game.id + ENDING:
        return []
    return [_odd("id", f"the file is {file.name} and defines {game.id}", f"Name the file {game.id}{ENDING}.")]


def _patterns(game: GameDefinition) -> list[Finding]:
    """Patterns of the log without which Rhizon says less than it could."""
    findings = []
    if not game.log.content_begin:
        what = "without it, the content at fault cannot be named when a start fails"
        findings.append(
            _odd(
                "log.content_begin", what, "Add the pattern of the line that a loader prints before it starts an item."
            )
        )
    if not game.log.closed:
        findings.append(_odd("log.closed", "without it, only the exit code tells a clean stop", "Add it."))
    return findings


def _reached(game: GameDefinition) -> Iterator[Finding]:
    """Patterns that no line can reach, since another one, which is looked at before, takes it."""
    log = game.log
    before: list[tuple[str, str]] = []
    order = [("log.ready", log.ready), ("log.closed", log.closed), ("log.content_begin", log.content_begin)]
    order += [("log.content_done", log.content_done)]
    order += [(f"log.progress[{number}]", one.pattern) for number, one in enumerate(log.progress)]
    order += [(f"log.failures[{number}]", one.pattern) for number, one in enumerate(log.failures)]
    for where, pattern in order:
        line = example_line(pattern) if pattern else None
        taken = next((name for name, other in before if line is not None and re.search(other, line)), None)
        if taken is not None:
            what = f"no line reaches it: {taken} matches what it matches, as in {printable(line or '', 80)!r}"
            yield _odd(
                f"{where}.pattern" if "[" in where else where,
                what,
                "Make the other one stricter, or put this one before it.",
            )
        if pattern:
            before.append((where, pattern))
        if where == "log.ready" and line is not None and any(re.search(one, line) for one in log.harmless):
            yield _odd("log.harmless", "it matches the line that says ready", "Make it stricter.")


def _placeless(game: GameDefinition) -> Iterator[Finding]:
    """Settings and ports that nothing is written for."""
    rhizons = {game.world.template_setting, game.world.seed_setting}
    for name, setting in game.settings.items():
        if setting.store is None and name not in rhizons:
            what = "it has no place: what is set reaches no file, argument or variable of the server"
            yield _odd(f"settings.{name}", what, "Add its store, or remove it.")
    for number, port in enumerate(game.ports):
        if not port.store and not port.span and port.offset_of is None:
            what = f"the {port.role} port is written nowhere: the server keeps {port.default}, whatever is chosen"
            yield _odd(f"ports[{number}]", what, "Add its store, or offset_of where it follows from another one.")
    named = sorted(place.key for place in game.start_places() if place.dialect == "arguments" and place.key[0] == "@")
    for number, key in enumerate(dict.fromkeys(named), 1):
        if key != f"@{number}":
            yield _odd("settings", f"the argument {key} has none before it: @{number} is missing", "Count from @1.")


def _runtimes(game: GameDefinition) -> list[Finding]:
    if game.runtime.family == "none":
        return []
    covered = {version for rule in game.runtime.rules for version in game.versions_within(rule.game_versions)}
    missing = [version for version in game.versions if version not in covered]
    if not missing:
        return []
    what = f"no rule names the runtime of {', '.join(missing)}"
    return [_odd("runtime.rules", what, "Add a rule; otherwise every major is accepted.")]


def _metadata(game: GameDefinition) -> list[Finding]:
    """The expressions are tried on an empty document: a wrong one fails there too."""
    empty = {"json": b"{}", "toml": b"", "yaml": b"{}", "xml": b"<a/>", "properties": b"", "manifest": b""}
    findings = []
    for name, loader in game.loaders.items():
        for number, rule in enumerate(loader.metadata):
            if rule.format == "assembly":
                continue
            fields = READERS[rule.format](empty[rule.format])
            where = f"loaders.{name}.metadata[{number}]"
            for field in (*MetadataRule.TEXTS, "embedded", "only_with", *MetadataRule.RELATIONS):
                expression = getattr(rule, field)
                try:
                    if field in MetadataRule.RELATIONS and expression:
                        fields.pairs(expression, rule)
                    elif expression:
                        fields.texts(expression)
                except ValueError as wrong:
                    findings.append(_odd(f"{where}.{field}", str(wrong), "Correct the expression."))
            if not rule.entry and game.runtime.family == "java":
                what = "no `entry`: the code of its archives cannot be judged"
                findings.append(_odd(where, what, "Name the field with the class that the loader starts."))
    return findings


def _settings(game: GameDefinition) -> list[Finding]:
    """Settings that share a place, or whose name means something else in other games."""
    places: dict[tuple[str, str], str] = {}
    findings: list[Finding] = []
    for name, setting in game.settings.items():
        findings += _shared_names(game, name, setting)
        for stored in setting.places:
            place = (stored.file, stored.key)
            twin = places.setdefault(place, name)
            if twin != name:
                what = f"{twin} is written to the same place ({place[0]}: {place[1]})"
                findings.append(_odd(f"settings.{name}", what, "Give each setting its own place."))
    return findings


def _shared_names(game: GameDefinition, name: str, setting: SettingDefinition) -> Iterator[Finding]:
    """Whether a setting has the name, the type and the secrecy that it has in every game."""
    where = f"settings.{name}"
    shared = SHARED.get(name)
    if shared is None:
        other = meant(name)
        if other is not None and other not in game.settings:
            what = f"other games use {other} for: {SHARED[other].meaning}"
            yield _odd(where, what, f"Name it {other} if it means the same, so that a settings preset applies to it.")
        return
    if setting.type not in shared.types:
        what = f"{name} means {shared.meaning} in every game, and its type is {' or '.join(shared.types)}"
        yield _odd(f"{where}.type", what, "Use that type, or another name if it means something else.")
    if name == "password" and not setting.secret:
        yield _odd(where, "it would be in locks and lists, readable by everybody", "Add: secret = true")
