"""The game definition (``*.game.toml``): all that Rhizon knows about one game's dedicated server."""

import re
from typing import Annotated, ClassVar, Literal

import msgspec

from rhizon.core.model.base import ANY, Id, Line, Mib, Port, Strict, any_range
from rhizon.core.names import RelPath
from rhizon.core.version import Version, VersionRange

__all__ = [
    "ClientOnly",
    "ConsoleRule",
    "ContentKind",
    "FailurePattern",
    "FieldRule",
    "FirstStart",
    "GameDefinition",
    "HoldRule",
    "InstallerRule",
    "LicenceRule",
    "LoaderDefinition",
    "LogRules",
    "MemoryModel",
    "MetadataFormat",
    "MetadataRule",
    "OperatorsRule",
    "Placement",
    "PortDefinition",
    "ProgressPattern",
    "Protocol",
    "RangeNotation",
    "RuntimeNeeds",
    "RuntimeRule",
    "SettingDefinition",
    "Stored",
    "WorldRule",
    "WorldThings",
]

ContentKind = Literal["mod", "plugin", "library", "template", "datapack"]
Placement = Literal["shared", "server", "player", "any"]
Protocol = Literal["tcp", "udp"]
Dialect = Literal["properties", "ini", "json", "toml", "yaml", "xml", "semicolon"]
MetadataFormat = Literal["json", "toml", "yaml", "xml", "properties", "manifest"]
# ">=1.2, <2"; "[1.2,2)"; "1.2" for that and later; "1.2.x"
RangeNotation = Literal["comparators", "interval", "minimum", "wildcard"]
Command = Annotated[tuple[Line, ...], msgspec.Meta(min_length=1)]


def _pattern(text: str, where: str, needs: tuple[str, ...] = ()) -> None:
    try:
        groups = re.compile(text).groupindex
    except re.error as wrong:
        raise ValueError(f"{where}: {text!r} is not a regular expression: {wrong}") from None
    for group in needs:
        if group not in groups:
            raise ValueError(f"{where}: {text!r} has no group (?P<{group}>...)")


class Stored(Strict, frozen=True, kw_only=True):
    """Where a value is kept: a file of the server, how it is written, and the key in it."""

    file: RelPath
    dialect: Dialect = "properties"
    key: Line


class RuntimeRule(Strict, frozen=True, kw_only=True):
    """The runtime majors that a range of game versions runs on."""

    game_versions: VersionRange = any_range()
    majors: VersionRange


class RuntimeNeeds(Strict, frozen=True, kw_only=True):
    """The language runtime of the server; ``family`` "none" is a native program."""

    family: Literal["java", "mono", "none"]
    rules: tuple[RuntimeRule, ...] = ()


class SettingDefinition(Strict, frozen=True, kw_only=True):
    """One setting under our name for it. ``store`` may be left out where the game has no place for it."""

    type: Literal["text", "integer", "flag", "choice"]
    meaning: Line
    default: str | int | bool
    least: int | None = None
    most: int | None = None
    choices: tuple[Line, ...] = ()
    secret: bool = False
    words: dict[str, Line] = {}
    store: Stored

    def __post_init__(self) -> None:
        if self.type == "choice" and not self.choices:
            raise ValueError("a choice needs `choices`")
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
            case _:
                return "one line of text"

    def native(self, value: str | int | bool) -> str | int | bool:
        """How the server's own file says ``value``: by the definition's words, else as it is."""
        word = {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)
        return self.words.get(word, value)


class PortDefinition(Strict, frozen=True, kw_only=True):
    """A port that the server opens, and every place that must hold its number. With ``count`` the server takes that
    many numbers in a row; with ``offset_of`` it counts on from another role's number, and nobody chooses it."""

    role: Id
    protocols: Annotated[tuple[Protocol, ...], msgspec.Meta(min_length=1)]
    default: Port
    store: tuple[Stored, ...]
    count: Annotated[int, msgspec.Meta(ge=1, le=1000)] = 1
    offset_of: Id | None = None
    offset: Annotated[int, msgspec.Meta(ge=-10000, le=10000)] = 0


class FieldRule(Strict, frozen=True, kw_only=True):
    """Relations in a list of elements: where the elements are, which attributes hold id and range."""

    each: Line
    id: Line
    range: Line


class MetadataRule(Strict, frozen=True, kw_only=True):
    """How to take our fields out of an archive's own metadata.

    Each field holds an expression: JMESPath for JSON, TOML and YAML, an ElementTree path for XML (``@name`` for an
    attribute of the root), a key for properties, an attribute name for a manifest. Then, where they are asked for:
    ``from_manifest`` names a main attribute of META-INF/MANIFEST.MF for a field that has no value or is still a
    ``${placeholder}``; ``absent`` is the value of a field that is not there; ``words`` are an author's words for ours
    (of ``kind`` and ``placement``); where ``only_with`` finds nothing the archive is not for the loader; ranges are in
    ``range_notation``; a list in one string is split at ``list_separator``, id and range of a relation at
    ``pair_separator``.
    """

    file: RelPath
    format: MetadataFormat
    id: Line
    version: Line
    title: Line = ""
    kind: Line = ""
    placement: Line = ""
    game_versions: Line = ""
    loader_builds: Line = ""
    runtime: Line = ""
    entry: Line = ""
    embedded: Line = ""
    requires: Line | FieldRule = ""
    conflicts: Line | FieldRule = ""
    optional: Line | FieldRule = ""
    provides: Line | FieldRule = ""
    range_notation: RangeNotation = "comparators"
    list_separator: Line = ";"
    pair_separator: Annotated[str, msgspec.Meta(min_length=1, max_length=8)] = " "
    from_manifest: dict[str, Line] = {}
    absent: dict[str, Line] = {}
    kind_words: dict[str, ContentKind] = {}
    placement_words: dict[str, Placement] = {}
    placement_absent: Placement = "shared"
    only_with: Line = ""

    def __post_init__(self) -> None:
        for name in (*self.from_manifest, *self.absent):
            if name not in self.TEXTS:
                raise ValueError(f"`{name}` is no field with one value; those are {', '.join(self.TEXTS)}")

    # the fields with one value, and those with relations
    TEXTS: ClassVar[tuple[str, ...]] = (
        *("id", "version", "title", "kind", "placement", "game_versions", "loader_builds", "runtime", "entry"),
    )
    RELATIONS: ClassVar[tuple[str, ...]] = ("requires", "conflicts", "optional", "provides")


class InstallerRule(Strict, frozen=True, kw_only=True):
    """How a loader's installer program is run; ``{archive}`` and ``{folder}`` are filled in."""

    command: Command


class LoaderDefinition(Strict, frozen=True, kw_only=True):
    """A loader of the game. ``metadata`` are the kinds of metadata that it reads, the first that an archive has wins;
    a hybrid takes mods and plugins, and has one for each."""

    title: Line
    kinds: tuple[ContentKind, ...]
    files: tuple[RelPath, ...]
    command: Command
    installer: InstallerRule | None = None
    metadata: tuple[MetadataRule, ...] = ()

    @property
    def hybrid(self) -> bool:
        """Whether it takes both mods and plugins."""
        return {"mod", "plugin"} <= set(self.kinds)


class ClientOnly(Strict, frozen=True, kw_only=True):
    """Code that exists only in the client: ``namespaces`` (packages, with dots), and ``annotations`` (their types) by
    which authors mark such code of their own. ``platform`` are packages of the runtime that a server without a screen
    has and cannot use."""

    namespaces: tuple[Line, ...] = ()
    platform: tuple[Line, ...] = ()
    annotations: tuple[Line, ...] = ()


class MemoryModel(Strict, frozen=True, kw_only=True):
    """MiB of heap: base + players + content + settings; ``outside_heap_mib`` is the runtime's own."""

    base_mib: Mib
    per_player_mib: Mib = 0
    per_content_mib: Mib = 0
    per_setting_mib: dict[Id, Mib] = {}
    outside_heap_mib: Mib = 0
    least_mib: Mib = 0


class LicenceRule(Strict, frozen=True, kw_only=True):
    """Where the licence's text lies and what the answer file must say."""

    text: RelPath
    answer: Stored
    accepted: Line


class WorldThings(Strict, frozen=True, kw_only=True):
    """Where a world writes down what it holds of content: a text file in the world's folder, and a pattern for its
    lines with the groups ``id`` (of the content), ``thing`` and, where it is counted, ``count``."""

    file: RelPath
    pattern: Line

    def __post_init__(self) -> None:
        _pattern(self.pattern, "pattern", ("id", "thing"))


class WorldRule(Strict, frozen=True, kw_only=True):
    """The folder that holds worlds, the setting that names the one in use, and what can be read from a world."""

    folder: RelPath
    name_setting: Id = "world_name"
    things: WorldThings | None = None


class OperatorsRule(Strict, frozen=True, kw_only=True):
    """The file that names operators, one a line; lines that begin with # are kept."""

    file: RelPath


class FirstStart(Strict, frozen=True, kw_only=True):
    """What the first start, without content, brings into being."""

    creates: tuple[RelPath, ...]
    completes_settings: bool = False


class HoldRule(Strict, frozen=True, kw_only=True):
    """How to make a running server save its world and leave the files alone for a while: the command, the line that
    says that it is so, the command that ends it. Without ``release`` the server only saves, and may write again."""

    command: Line
    done: Line
    release: Line = ""
    seconds: Annotated[int, msgspec.Meta(ge=1, le=3600)] = 60

    def __post_init__(self) -> None:
        _pattern(self.done, "done")


class ConsoleRule(Strict, frozen=True, kw_only=True):
    """Console commands that Rhizon itself types."""

    stop: Line
    stop_seconds: Annotated[int, msgspec.Meta(ge=1, le=3600)] = 60
    hold: HoldRule | None = None


class ProgressPattern(Strict, frozen=True, kw_only=True):
    """A line that says how far something is; the pattern has a group ``percent``."""

    label: Line
    pattern: Line

    def __post_init__(self) -> None:
        _pattern(self.pattern, "pattern", ("percent",))


class FailurePattern(Strict, frozen=True, kw_only=True):
    """A line that says why a start fails. ``{name}`` in the texts is filled from the pattern's groups."""

    code: Id
    pattern: Line
    what: Line
    hint: Line

    def __post_init__(self) -> None:
        _pattern(self.pattern, "pattern")


class LogRules(Strict, frozen=True, kw_only=True):
    """How to read the server's log."""

    ready: Line
    closed: Line = ""
    ready_seconds: Annotated[int, msgspec.Meta(ge=1, le=86400)] = 180
    content_begin: Line = ""
    content_done: Line = ""
    progress: tuple[ProgressPattern, ...] = ()
    failures: tuple[FailurePattern, ...] = ()

    def __post_init__(self) -> None:
        _pattern(self.ready, "ready")
        _pattern(self.closed, "closed")
        _pattern(self.content_begin, "content_begin", ("id",) if self.content_begin else ())
        _pattern(self.content_done, "content_done", ("id",) if self.content_done else ())


class GameDefinition(Strict, frozen=True, kw_only=True):
    """The whole definition. ``versions`` are in the order in which they came out."""

    format: Literal["rhizon-game/1"]
    id: Id
    title: Line
    summary: Line = ""
    versions: Annotated[tuple[Line, ...], msgspec.Meta(min_length=1)]
    runtime: RuntimeNeeds
    server_files: tuple[RelPath, ...]
    command: Command
    folders: dict[ContentKind, RelPath]
    loaders: dict[Id, LoaderDefinition]
    client_only: ClientOnly = ClientOnly()
    settings: dict[Id, SettingDefinition] = {}
    ports: tuple[PortDefinition, ...]
    memory: MemoryModel
    licence: LicenceRule | None = None
    world: WorldRule
    operators: OperatorsRule | None = None
    first_start: FirstStart
    console: ConsoleRule
    log: LogRules

    def __post_init__(self) -> None:
        roles = [port.role for port in self.ports]
        if len(set(roles)) != len(roles):
            raise ValueError("ports: two ports have the same role")
        leaders = [port.role for port in self.ports if port.offset_of is None]
        for port in self.ports:
            if port.offset_of is not None and port.offset_of not in leaders:
                raise ValueError(f"ports: {port.role}: {port.offset_of!r} is no role with a number of its own")
            if port.offset_of is not None and port.offset == 0:
                raise ValueError(f"ports: {port.role}: an offset other than 0 is needed")
        if len(set(self.versions)) != len(self.versions):
            raise ValueError("versions: one is written twice")
        if self.world.name_setting not in self.settings:
            raise ValueError(f"world.name_setting: {self.world.name_setting!r} is not in settings")
        for name in self.memory.per_setting_mib:
            if name not in self.settings or self.settings[name].type != "integer":
                raise ValueError(f"memory.per_setting_mib: {name!r} is not a setting of type integer")
        for name, loader in self.loaders.items():
            for kind in loader.kinds:
                if kind not in self.folders:
                    raise ValueError(f"loaders.{name}.kinds: folders has no {kind!r}")

    def position(self, version: str) -> int:
        """Where ``version`` stands in the game's own order; ValueError when it is not known."""
        return self.versions.index(version)

    def versions_within(self, wanted: VersionRange) -> tuple[str, ...]:
        """The known versions that a range admits, oldest first.

        A bound that is one of the game's own versions is compared by their order, so that versions
        which are not numbers can stand in a range too.
        """
        return tuple(version for version in self.versions if self._admits(wanted, version))

    def _admits(self, wanted: VersionRange, version: str) -> bool:
        for one in wanted.comparators:
            if one.version.text in self.versions:
                gap = self.position(version) - self.position(one.version.text)
                holds = {">=": gap >= 0, "<=": gap <= 0, ">": gap > 0, "<": gap < 0, "=": gap == 0}[one.op]
            else:
                holds = one.admits(Version(version))
            if not holds:
                return False
        return True

    def runtime_majors(self, version: str) -> VersionRange:
        """The runtime majors that ``version`` runs on."""
        for rule in self.runtime.rules:
            if version in self.versions_within(rule.game_versions):
                return rule.majors
        return ANY
