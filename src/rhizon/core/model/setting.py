"""Settings and ports of a game under our names for them, and where the server's own files keep them."""

import re
from collections.abc import Mapping
from typing import Annotated, Literal

import msgspec

from rhizon.core.model.base import Id, Line, Port, SettingValue, Strict, any_range
from rhizon.core.model.patterns import check_encoding
from rhizon.core.names import RelPath
from rhizon.core.version import VersionRange

__all__ = [
    "NAME_WORD",
    "ConsoleNames",
    "DerivedValue",
    "Dialect",
    "Only",
    "PortDefinition",
    "Protocol",
    "SettingDefinition",
    "SettingPlace",
    "Stored",
]

Protocol = Literal["tcp", "udp"]
Dialect = Literal["properties", "ini", "json", "jsonc", "lua", "toml", "yaml", "xml", "semicolon", "lines", "arguments",
                  "environment"]  # fmt: skip
NAME_WORD = "{name}"  # in the key of a setting that is a list of names: one key for each
MOST_NAMES = 1000


class Only(Strict, frozen=True, kw_only=True):
    """For which servers something is: those of some game versions, or with one of some loaders."""

    game_versions: VersionRange = any_range()
    loaders: tuple[Id, ...] = ()


class Stored(Strict, frozen=True, kw_only=True):
    """Where a value is kept: a file of the server, how it is written and in which ``encoding``, and the key in it. A
    list of names has a key with ``{name}`` in it: each name is there or not. ``only`` says for which servers."""

    file: RelPath
    dialect: Dialect = "properties"
    key: Line
    encoding: Line = "utf-8"
    only: Only | None = None

    def __post_init__(self) -> None:
        check_encoding(self.encoding, "encoding")

    @property
    def written(self) -> str:
        """The dialect, with the encoding where it is another one than UTF-8."""
        return self.dialect if self.encoding == "utf-8" else f"{self.dialect}@{self.encoding}"


class DerivedValue(Stored, frozen=True, kw_only=True):
    """A value that no one sets: ``value`` is a text in which ``{name}`` is the server's name, ``{port.ROLE}`` a port,
    ``{setting.NAME}`` a setting as a person writes it, and ``{game_version}`` the version. A text that is only digits,
    ``true`` or ``false`` is a number or a flag."""

    value: Line

    def fields(self) -> list[str]:
        """What is filled in."""
        return re.findall(r"\{([a-z_]+(?:\.[A-Za-z0-9_.-]+)?)\}", self.value)

    def filled(self, words: Mapping[str, str]) -> str | int | bool:
        """The value with words by field."""
        text = re.sub(r"\{([a-z_]+(?:\.[A-Za-z0-9_.-]+)?)\}", lambda match: words.get(match[1], match[0]), self.value)
        if text in ("true", "false"):
            return text == "true"
        return int(text) if re.fullmatch(r"\d{1,18}", text) else text


class SettingPlace(Stored, frozen=True, kw_only=True):
    """A place of a setting, with what is its own there: ``words`` for values in place of the setting's (a number or a
    flag of its own kind, where it is none in quotes), and for whole
    numbers the unit: what is written is ours times ``factor`` plus ``offset``."""

    words: dict[str, Line | int | bool] = {}
    factor: Annotated[int, msgspec.Meta(ge=1, le=1_000_000)] = 1
    offset: Annotated[int, msgspec.Meta(ge=-1_000_000, le=1_000_000)] = 0

    @property
    def counts_otherwise(self) -> bool:
        """Whether numbers are others there."""
        return (self.factor, self.offset) != (1, 0)

    def ours(self, text: str) -> str:
        """A number that is written there, in our unit; the text itself where it is none of ours."""
        number = int(text) if re.fullmatch(r"[+-]?\d{1,18}", text) else None
        if number is None or (number - self.offset) % self.factor:
            return text
        return str((number - self.offset) // self.factor)


class ConsoleNames(Strict, frozen=True, kw_only=True):
    """Console commands that add ``{name}`` to a list of names of a running server, or remove it."""

    add: Line
    remove: Line

    def __post_init__(self) -> None:
        if NAME_WORD not in self.add or NAME_WORD not in self.remove:
            raise ValueError(f"add, remove: `{NAME_WORD}` is required, for the name")


class SettingDefinition(Strict, frozen=True, kw_only=True):
    """One setting under our name for it. ``store`` is left out where the game has no place for it and only Rhizon goes
    by it; ``also`` are more places that must say the same. Values of type ``names`` are names joined by ", ";
    ``console`` changes such a list while the server runs. ``only`` says which servers have it."""

    type: Literal["text", "integer", "flag", "choice", "names"]
    meaning: Line
    default: str | int | bool
    least: int | None = None
    most: int | None = None
    choices: tuple[Line, ...] = ()
    secret: bool = False
    words: dict[str, Line | int | bool] = {}
    store: SettingPlace | None = None
    also: tuple[SettingPlace, ...] = ()
    console: ConsoleNames | None = None
    only: Only | None = None

    def __post_init__(self) -> None:
        if self.console is not None and self.type != "names":
            raise ValueError("console: only a list of names is changed by commands")
        if self.type == "choice" and not self.choices:
            raise ValueError("a choice needs `choices`")
        if self.store is not None and (self.type == "names") != (NAME_WORD in self.store.key):
            raise ValueError("store.key: `{name}` is required for the type names, and allowed for no other")
        if self.also and (self.store is None or self.type == "names"):
            raise ValueError("also: it needs a `store`, and is not for the type names")
        if self.type != "integer" and any(place.counts_otherwise for place in self.places):
            raise ValueError("store, also: `factor` and `offset` are for the type integer")
        if self.secret and any(place.dialect == "arguments" for place in self.places):
            raise ValueError(
                "store: a secret cannot be an argument: every user of the machine can see a program's arguments"
            )
        try:
            self.checked(self.default)
        except ValueError as wrong:
            raise ValueError(f"default: {wrong}") from None

    def checked(self, value: object) -> str | int | bool:
        """``value`` as this setting's type; ValueError says what would be right."""
        match self.type:
            case "flag":
                if isinstance(value, bool):
                    return value
                if isinstance(value, str) and value.lower() in ("yes", "true", "on", "no", "false", "off"):
                    return value.lower() in ("yes", "true", "on")
                raise ValueError(f"yes or no is expected, not {value!r}")
            case "integer":
                if isinstance(value, bool) or not re.fullmatch(r"[+-]?\d{1,18}", str(value)):
                    raise ValueError(f"a whole number{self._span()} is expected, not {value!r}")
                number = int(str(value))
                if (self.least is not None and number < self.least) or (self.most is not None and number > self.most):
                    raise ValueError(f"a whole number{self._span()} is expected, not {number}")
                return number
            case "choice":
                if value not in self.choices:
                    raise ValueError(f"one of {', '.join(self.choices)} is expected, not {value!r}")
                return str(value)
            case "names":
                return ", ".join(_names(value))
            case _:
                text = str(value)
                if len(text) > 400 or any(ord(c) < 32 for c in text):
                    raise ValueError("one line of at most 400 characters is expected")
                return text

    def _span(self) -> str:
        if self.least is not None and self.most is not None:
            return f" from {self.least} to {self.most}"
        return ""

    @property
    def allowed(self) -> str:
        """What may be set, in words."""
        match self.type:
            case "flag":
                return "yes or no"
            case "integer":
                return f"a whole number{self._span()}"
            case "choice":
                return ", ".join(self.choices)
            case "names":
                return "names"
            case _:
                return "one line of text"

    def names(self, value: SettingValue) -> list[str]:
        """The names of a value of type ``names``."""
        return _names(value)

    @property
    def places(self) -> tuple[SettingPlace, ...]:
        """Every place that holds it."""
        return (self.store, *self.also) if self.store is not None else ()

    def native(self, value: str | int | bool, place: SettingPlace) -> str | int | bool:
        """How the server's own file says ``value`` in one of its places: by words, in its unit, else as it is."""
        word = {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)
        known = (place.words or self.words).get(word)
        if known is not None:
            return known
        if place.counts_otherwise and isinstance(value, int) and not isinstance(value, bool):
            return value * place.factor + place.offset
        return value


def _names(value: object) -> list[str]:
    """Names of a list, or of a text with commas between, each once and in order."""
    parts = value if isinstance(value, list | tuple) else str(value).split(",")
    names = dict.fromkeys(str(one).strip() for one in parts)
    names.pop("", None)
    if len(names) > MOST_NAMES:
        raise ValueError(f"at most {MOST_NAMES} names are expected")
    for name in names:
        if len(name) > 64 or any(c in name for c in ',"\\<>&;=[]{}/') or not name.isprintable():
            raise ValueError(
                f"{name[:64]!r} is not a name: use one or a few words without punctuation that settings files use"
            )
    return list(names)


class PortDefinition(Strict, frozen=True, kw_only=True):
    """A port that the server opens, and every place that must hold its number. With ``count`` the server takes that
    many numbers in a row, or picks among them: ``last`` are places that must hold the last one, ``span`` those that
    have both, as 24500-24519. With ``offset_of`` it counts on from another role's number, and no one chooses it."""

    role: Id
    protocols: Annotated[tuple[Protocol, ...], msgspec.Meta(min_length=1)]
    default: Port
    store: tuple[Stored, ...]
    count: Annotated[int, msgspec.Meta(ge=1, le=1000)] = 1
    offset_of: Id | None = None
    offset: Annotated[int, msgspec.Meta(ge=-10000, le=10000)] = 0
    last: tuple[Stored, ...] = ()
    span: tuple[Stored, ...] = ()

    def values(self, number: int) -> list[tuple[Stored, str | int]]:
        """What must be where, for its number."""
        last = number + self.count - 1
        found: list[tuple[Stored, str | int]] = [(place, number) for place in self.store]
        found += [(place, last) for place in self.last]
        return [*found, *((place, f"{number}-{last}") for place in self.span)]
