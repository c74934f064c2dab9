"""What every field of a game definition means, with an example: for the docs, for editors and for messages.

The texts are data (``games/fields.toml``); types and defaults come from the typed document itself.
"""

import tomllib
from collections.abc import Iterator, Mapping
from typing import Any, NamedTuple

import msgspec
from msgspec import inspect as types

from rhizon.core.model.game import GameDefinition

__all__ = ["FieldLine", "FieldTexts", "described_schema", "example_of", "field_lines", "read_field_texts"]

# Where each kind of table is in a definition; what is written the same everywhere has a name of its own.
TABLES = {
    "GameDefinition": "definition",
    "RuntimeNeeds": "runtime",
    "RuntimeRule": "runtime.rules",
    "RuntimeFamily": "runtime.described",
    "PlacingRule": "placing.KIND",
    "ConfigRule": "placing.KIND.config",
    "LoaderDefinition": "loaders.NAME",
    "InstallerRule": "loaders.NAME.installer",
    "MetadataRule": "loaders.NAME.metadata",
    "FieldRule": "loaders.NAME.metadata.requires",
    "ContentArguments": "loaders.NAME.content",
    "Stored": "store",
    "Only": "store.only",
    "ClientOnly": "client_only",
    "SettingDefinition": "settings.NAME",
    "SettingPlace": "settings.NAME.store",
    "ConsoleNames": "settings.NAME.console",
    "DerivedValue": "derived",
    "SettingsTogether": "settings_together",
    "SettingTest": "settings_together.when.NAME",
    "PortDefinition": "ports",
    "MemoryModel": "memory",
    "LicenceRule": "licence",
    "WorldRule": "world",
    "WorldThings": "world.things",
    "WorldVersion": "world.version",
    "WorldInUse": "world.in_use",
    "FirstStart": "first_start",
    "ConsoleRule": "console",
    "TcpConsole": "console.tcp",
    "HttpConsole": "console.http",
    "PlayersRule": "console.players",
    "HoldRule": "console.hold",
    "LogRules": "log",
    "ProgressPattern": "log.progress",
    "FailurePattern": "log.failures",
    "LogFile": "log.files",
    "ReadyRule": "ready",
    "LauncherRule": "launcher",
    "PlayerRule": "player",
    "Mark": "player.loader",
    "PlayerLog": "player.log",
}

PLACES = ("store", "also", "answer", "enabled", "last", "span")  # they have the fields of `store`
FieldTexts = Mapping[str, Mapping[str, tuple[str, str]]]  # by table, by field: meaning, example


class FieldLine(NamedTuple):
    """One field of a table: ``needed`` says that a document must have it."""

    table: str
    name: str
    type: str
    default: str
    needed: bool
    meaning: str
    example: str


def read_field_texts(data: bytes) -> FieldTexts:
    """The texts of ``games/fields.toml``."""
    found = tomllib.loads(data.decode("utf-8"))
    return {table: {name: (one[0], one[1]) for name, one in fields.items()} for table, fields in found.items()}


def field_lines(texts: FieldTexts) -> list[FieldLine]:
    """Every field of every table, in the order of the document. Raises KeyError for one that has no text."""
    lines = []
    for info in _tables():
        table = TABLES[info.cls.__name__]
        inherited = {field.name for base in info.cls.__mro__[1:] for field in _fields_of(base)}
        for field in info.fields:
            if field.name in inherited and field.name not in texts.get(table, {}):
                continue  # told where it is inherited from
            meaning, example = texts[table][field.encode_name]
            default = "" if field.required else _default(field)
            lines.append(
                FieldLine(table, field.encode_name, _type_words(field.type), default, field.required, meaning, example)
            )
    return lines


def example_of(texts: FieldTexts, place: str) -> str:
    """How the field at a place of a document (``ports[0].default``) is written, as an example; "" for no field."""
    parts = [part.partition("[")[0] for part in place.split(".")]
    name = parts[-1]
    for table, fields in texts.items():
        words = table.split(".") if table != "definition" else []
        head = parts[:-1]
        fits = len(words) == len(head) and all(
            word in (part, "NAME", "KIND") for word, part in zip(words, head, strict=True)
        )
        if fits and name in fields:
            return f"{name} = {fields[name][1]}"
    if (
        len(parts) > 1
        and parts[-2] in ("store", "also", "answer", "enabled", "last", "span")
        and name in texts["store"]
    ):
        return f"{name} = {texts['store'][name][1]}"
    return ""


def described_schema(schema: Mapping[str, Any], texts: FieldTexts) -> dict[str, Any]:
    """A JSON Schema of the document in which every field says what it means, for completion in an editor."""
    made: dict[str, Any] = msgspec.json.decode(msgspec.json.encode(schema))
    for name, table in TABLES.items():
        properties = made.get("$defs", {}).get(name, {}).get("properties", {})
        for field, (meaning, example) in {**texts["store"], **texts.get(table, {})}.items():
            if field in properties:
                properties[field]["description"] = f"{meaning}. Example: {example}"
    return made


def _tables() -> Iterator[types.StructType]:
    """Every kind of table, each once, in the order in which the document has them."""
    seen: set[type] = set()

    def below(kind: type) -> Iterator[types.StructType]:
        if kind in seen:
            return
        seen.add(kind)
        info = types.type_info(kind)
        assert isinstance(info, types.StructType)
        yield info
        for field in info.fields:
            for other in _structs(field.type):
                yield from below(other)

    return below(GameDefinition)


def _structs(kind: types.Type) -> Iterator[type]:
    if isinstance(kind, types.StructType):
        yield kind.cls
    for name in ("types", "item_type", "value_type", "item_types", "type"):
        part = getattr(kind, name, None)
        for one in part if isinstance(part, tuple | list) else [part]:
            if isinstance(one, types.Type):
                yield from _structs(one)


def _fields_of(kind: type) -> tuple[types.Field, ...]:
    if not issubclass(kind, msgspec.Struct) or not getattr(kind, "__struct_fields__", ()):
        return ()
    info = types.type_info(kind)
    return info.fields if isinstance(info, types.StructType) else ()


def _default(field: types.Field) -> str:
    if field.default is not msgspec.NODEFAULT:
        value = field.default
        if value in (None, (), "") or isinstance(value, msgspec.Struct):
            return ""
        return {True: "true", False: "false"}[value] if isinstance(value, bool) else repr(value).replace("'", '"')
    if field.default_factory is not msgspec.NODEFAULT and _type_words(field.type) == "range":
        return '"*"'
    return ""


def _type_words(kind: types.Type) -> str:
    """The type in the words of TOML."""
    match kind:
        case types.BoolType():
            return "flag"
        case types.IntType():
            return "number"
        case types.StrType():
            return "text"
        case types.LiteralType():
            return "text" if all(isinstance(one, str) for one in kind.values) else "value"
        case types.StructType():
            return "table"
        case types.DictType():
            return f"table of {_plural(_type_words(kind.value_type))}"
        case types.VarTupleType() | types.ListType():
            return f"list of {_plural(_type_words(kind.item_type))}"
        case types.UnionType():
            words = dict.fromkeys(_type_words(one) for one in kind.types if not isinstance(one, types.NoneType))
            return " or ".join(words)
        case types.Metadata():
            return _type_words(kind.type)
        case types.CustomType():
            return {"VersionRange": "range", "Version": "version", "RelPath": "path"}.get(kind.cls.__name__, "text")
        case _:
            return "value"


def _plural(word: str) -> str:
    return " or ".join(f"{one}s" if not one.startswith(("list", "table of")) else one for one in word.split(" or "))
