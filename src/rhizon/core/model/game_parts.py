"""The parts of a game definition, each with the rules that hold within it."""

import re
from collections.abc import Iterator
from typing import Annotated, Literal

import msgspec

from rhizon.core.model.base import Id, Line, Mib, Strict, any_range
from rhizon.core.model.metadata import ContentKind, MetadataRule
from rhizon.core.model.patterns import check_no_repeated_group, check_pattern
from rhizon.core.model.setting import NAME_WORD, Stored
from rhizon.core.names import RelPath, safe_path, suggestions
from rhizon.core.version import VersionRange

__all__ = [
    "ClientOnly",
    "Command",
    "ConfigRule",
    "ContentArguments",
    "FirstStart",
    "InstallerRule",
    "LicenceRule",
    "LoaderDefinition",
    "Mark",
    "MemoryModel",
    "PlacingRule",
    "PlayerLog",
    "PlayerRule",
    "RuntimeFamily",
    "RuntimeNeeds",
    "RuntimeRule",
    "SettingTest",
    "SettingsTogether",
    "System",
    "Variable",
]

Command = Annotated[tuple[Line, ...], msgspec.Meta(min_length=1)]
Variable = Annotated[str, msgspec.Meta(pattern="^[A-Za-z_][A-Za-z0-9_]*$")]


class RuntimeRule(Strict, frozen=True, kw_only=True):
    """The runtime majors that a range of game versions runs on."""

    game_versions: VersionRange = any_range()
    majors: VersionRange


class RuntimeFamily(Strict, frozen=True, kw_only=True):
    """A family of runtimes that Rhizon does not know by itself: the names of its program, the arguments ``probe`` that
    make it say its version, and a pattern ``version`` for that with the group ``major`` (a whole number) and, where it
    says more, ``version``. ``flags`` and ``environment`` are given to every server, with ``{heap_mib}`` filled in. It
    is looked for on the PATH, in ``bin`` of the ``folders`` and of what the ``home_variables`` name."""

    title: Line = ""
    programs: Annotated[tuple[Line, ...], msgspec.Meta(min_length=1)]
    probe: tuple[Line, ...] = ("--version",)
    version: Line
    flags: tuple[Line, ...] = ()
    environment: dict[Variable, Line] = {}
    folders: tuple[Line, ...] = ()
    home_variables: tuple[Variable, ...] = ()
    how_to_get: Line = ""

    def __post_init__(self) -> None:
        check_pattern(self.version, "version", ("major",))
        for program in self.programs:
            if "/" in program or "\\" in program:
                raise ValueError(f"programs: {program!r}: a name is expected, without folders")


class RuntimeNeeds(Strict, frozen=True, kw_only=True):
    """The language runtime of the server: "java" or "mono", "none" for a native program, or another name for one that
    is ``described`` here."""

    family: Id
    rules: tuple[RuntimeRule, ...] = ()
    described: RuntimeFamily | None = None

    def __post_init__(self) -> None:
        known = ("java", "mono", "none")
        if (self.family in known) == (self.described is not None):
            guess = suggestions(self.family, known, 1)
            near = f"; did you mean {guess[0]!r}?" if guess else ""
            raise ValueError(
                f"family: {self.family!r}: java, mono and none are known; another one needs [runtime.described]{near}"
            )


class InstallerRule(Strict, frozen=True, kw_only=True):
    """How a loader's installer program is run; ``{archive}`` and ``{folder}`` are filled in."""

    command: Command


class ConfigRule(Strict, frozen=True, kw_only=True):
    """Settings that content brings: what is below the folder ``source`` of its archive is put ``to`` a folder of the
    server (``{id}`` is filled in), once; from then on it is the person's."""

    source: RelPath
    to: Line

    def __post_init__(self) -> None:
        safe_path(self.to.replace("{id}", "x"))


class PlacingRule(Strict, frozen=True, kw_only=True):
    """How content of a kind is in its folder.

    The archive as it is, called as its file or by ``file_name``; or unpacked (``unpack``) into a folder of its own that
    is named by ``name``, or, where ``flat``, into the folder of its kind itself, with that of others. In names,
    ``{id}``, ``{version}``, ``{place}`` (010, 020, 030 ... in the order of loading) and, of ``file_name``, ``{file}``
    are filled in. Of an archive only what is below ``part`` is unpacked, if that is given. What is below one of the
    ``patches``, folders of the archive, takes the place of the server's own files of the same path, which come back
    when the content goes. ``config`` are settings that it brings, ``leaves`` files and folders that the server makes
    for it (``{id}`` is filled in): they are kept for an undo and removed with it."""

    unpack: bool = False
    flat: bool = False
    name: Line = "{id}"
    file_name: Line = "{file}"
    part: RelPath | None = None
    patches: tuple[RelPath, ...] = ()
    config: ConfigRule | None = None
    leaves: tuple[Line, ...] = ()

    def __post_init__(self) -> None:
        left = re.sub(r"\{(id|version|place)\}", "", self.name)
        if "{id}" not in self.name or "{" in left or "}" in left or "/" in left:
            raise ValueError(f"name: {self.name!r} needs {{id}}, and may have {{version}} and {{place}}")
        left = re.sub(r"\{(id|version|place|file)\}", "", self.file_name)
        told = "{id}" in self.file_name or "{file}" in self.file_name
        if not told or "{" in left or "}" in left or "/" in left:
            raise ValueError(f"file_name: {self.file_name!r} needs {{id}} or {{file}}, and may have {{place}}")
        if not self.unpack and (self.flat or self.part is not None or self.patches or self.config is not None):
            raise ValueError("flat, part, patches and config are for content that is unpacked: add unpack = true")
        for path in self.leaves:
            if "{id}" not in path:
                raise ValueError(f"leaves: {path!r} needs {{id}}")
            safe_path(path.replace("{id}", "x"))


class SettingTest(Strict, frozen=True, kw_only=True):
    """What a setting's value is tested for: a span of numbers, or one of some values."""

    least: int | None = None
    most: int | None = None
    one_of: tuple[str | int | bool, ...] = ()

    def __post_init__(self) -> None:
        if (self.least is not None or self.most is not None) == bool(self.one_of):
            raise ValueError("a test needs either `least` or `most` or both, or `one_of`")

    def holds(self, value: str | int | bool) -> bool:
        """Whether a value is so; text is within no span of numbers."""
        if self.one_of:
            return any(type(one) is type(value) and one == value for one in self.one_of)
        if isinstance(value, bool | str):
            return False
        return (self.least is None or value >= self.least) and (self.most is None or value <= self.most)

    def nearest(self, value: str | int | bool) -> str | int | bool:
        """The value next to the given one for which it holds."""
        if self.one_of:
            return self.one_of[0]
        bound = self.least if self.most is None or (isinstance(value, int) and value < self.most) else self.most
        return value if bound is None else bound


System = Literal["windows", "linux", "macos"]


class Mark(Strict, frozen=True, kw_only=True):
    """A small text file that says which version something is: ``pattern`` has the groups ``version`` and, where it says
    more than one thing, ``id``; each is taken from the first line that has it. Browsers read the pattern too: no
    lookbehind and no flags in it."""

    file: RelPath
    pattern: Line

    def __post_init__(self) -> None:
        check_pattern(self.pattern, "pattern")
        check_no_repeated_group(self.pattern, "pattern")
        if "(?P<version>" not in self.pattern:
            raise ValueError(f"pattern: {self.pattern!r} needs the group (?P<version>...)")


class PlayerLog(Strict, frozen=True, kw_only=True):
    """What the client's log says: ``content`` with the groups ``id`` and ``version`` for each piece that it loaded,
    ``loader`` and ``game`` with ``version`` (and ``id`` of the loader)."""

    content: Line
    loader: Line = ""
    game: Line = ""

    def __post_init__(self) -> None:
        for name in ("content", "loader", "game"):
            check_pattern(getattr(self, name), name)
            check_no_repeated_group(getattr(self, name), name)
        if "(?P<id>" not in self.content or "(?P<version>" not in self.content:
            raise ValueError("content: the groups (?P<id>...) and (?P<version>...) are required")


class PlayerRule(Strict, frozen=True, kw_only=True):
    """The game's client on a player's machine. ``folders`` is where it usually is on each system; ``content`` the
    folder for each kind in it, where that differs from the server's; ``join`` what is typed to join ({host} and {port},
    that of the first role), ``steps`` how, in sentences. ``loader`` and ``game`` are files that say which build and
    version is installed, ``versions`` a file in unpacked content that says which release it is; ``log`` the client's
    log. Where all settings in ``strict`` are so, the server lets nobody in who has content that it does not have.
    ``protocols`` names the game versions that speak each protocol: players with any of the server's can join."""

    folders: dict[System, Line] = {}
    content: dict[ContentKind, RelPath] = {}
    join: Line = "{host}:{port}"
    steps: tuple[Line, ...] = ()
    loader: Mark | None = None
    game: Mark | None = None
    versions: dict[ContentKind, Mark] = {}
    log: PlayerLog | None = None
    strict: dict[Id, SettingTest] = {}
    protocols: dict[Line, tuple[Line, ...]] = {}

    def __post_init__(self) -> None:
        if "{host}" not in self.join:
            raise ValueError("join: `{host}` is required, for the address")
        seen: dict[str, str] = {}
        for protocol, versions in self.protocols.items():
            for one in versions:
                if seen.setdefault(one, protocol) != protocol:
                    raise ValueError(f"protocols: {one!r} speaks {seen[one]} and {protocol}; one is expected")

    def same_protocol(self, version: str) -> tuple[str, tuple[str, ...]]:
        """The protocol of a game version, and the other versions that speak it; "" where the game does not say."""
        for protocol, versions in self.protocols.items():
            if version in versions:
                return protocol, tuple(one for one in versions if one != version)
        return "", ()


class ContentArguments(Strict, frozen=True, kw_only=True):
    """How content is named on the command line, in the order of loading: ``{content}`` as an argument of its own
    becomes ``each`` for every item; inside an argument it becomes their paths with ``separator`` between."""

    each: tuple[Line, ...] = ("{path}",)
    separator: Annotated[str, msgspec.Meta(min_length=1, max_length=4)] = ";"


class LoaderDefinition(Strict, frozen=True, kw_only=True):
    """A loader of the game. ``metadata`` are the kinds of metadata that it reads, the first that an archive has wins;
    a hybrid takes mods and plugins, and has one for each. ``content`` says how content is named on the command line,
    ``enabled`` where a list says what is loaded (``{name}`` in its key is the id of a piece, or, as ``enabled_as``
    says, the name of its file or folder, or its path). ``environment`` are variables that bring the loader in.
    ``for_players`` says in a sentence where players get it, for builds that no catalog has for them."""

    title: Line
    kinds: tuple[ContentKind, ...]
    files: tuple[RelPath, ...] = ()
    command: Command
    installer: InstallerRule | None = None
    metadata: tuple[MetadataRule, ...] = ()
    content: ContentArguments = ContentArguments()
    enabled: Stored | None = None
    enabled_as: Literal["id", "file", "path"] = "id"
    environment: dict[Variable, Line] = {}
    for_players: Line = ""

    def __post_init__(self) -> None:
        if self.enabled is not None and NAME_WORD not in self.enabled.key:
            raise ValueError("enabled.key: `{name}` is required, for the id of what is loaded")

    @property
    def rules(self) -> Iterator[MetadataRule]:
        """Its kinds of metadata. An archive that does not say its kind is a mod, or the first kind that it takes where
        it takes no mods."""
        usual = next((kind for kind in self.kinds if kind not in ("template", "datapack")), None)
        for rule in self.metadata:
            if usual is None or "mod" in self.kinds or "kind" in rule.absent:
                yield rule
            else:
                yield msgspec.structs.replace(rule, absent={**rule.absent, "kind": usual})

    @property
    def hybrid(self) -> bool:
        """Whether it takes both mods and plugins."""
        return {"mod", "plugin"} <= set(self.kinds)


class ClientOnly(Strict, frozen=True, kw_only=True):
    """Code that exists only in the client: ``namespaces`` (packages, with dots), ``assemblies`` (of .NET, by name), and
    ``annotations`` (their types) by which authors mark such code of their own. ``platform`` are packages of the runtime
    that a server without a screen has and cannot use whole. ``side_checks`` are methods (class and name, with dots) by
    which code asks on which side it runs, and what they answer on a server.

    What stands behind a side check with another answer is code that a server never runs."""

    namespaces: tuple[Line, ...] = ()
    assemblies: tuple[Line, ...] = ()
    platform: tuple[Line, ...] = ()
    annotations: tuple[Line, ...] = ()
    side_checks: dict[Line, bool] = {}


class MemoryModel(Strict, frozen=True, kw_only=True):
    """MiB of heap: base + players + content + settings; ``outside_heap_mib`` is the runtime's own."""

    base_mib: Mib
    per_player_mib: Mib = 0
    per_content_mib: Mib = 0
    per_setting_mib: dict[Id, Mib] = {}
    outside_heap_mib: Mib = 0
    least_mib: Mib = 0


class SettingsTogether(Strict, frozen=True, kw_only=True):
    """Settings that need each other: where all of ``when`` hold, all of ``needs`` have to hold, and the heap has to be
    at least ``least_heap_mib``. ``what`` says to a person what happens otherwise."""

    when: Annotated[dict[Id, SettingTest], msgspec.Meta(min_length=1)]
    needs: dict[Id, SettingTest] = {}
    least_heap_mib: Mib = 0
    what: Line
    severity: Literal["error", "warning", "note"] = "warning"

    def __post_init__(self) -> None:
        if not self.needs and not self.least_heap_mib:
            raise ValueError("`needs` or `least_heap_mib` is required")


class LicenceRule(Strict, frozen=True, kw_only=True):
    """Where the licence's text is, and where the answer ``accepted`` must be: in a settings file, or as an argument or
    a variable of the start."""

    text: RelPath
    answer: Stored
    accepted: Line | bool | int


class FirstStart(Strict, frozen=True, kw_only=True):
    """What the first start brings into being. It is one of the bare server, or with the content (``with_content``)
    where a world that is created without it would lack something. With ``completes_settings`` the settings are written
    before it too; those in a folder that it creates are not, whatever is said."""

    creates: tuple[RelPath, ...] = ()
    completes_settings: bool = False
    with_content: bool = False

    def before(self, file: str, dialect: str) -> bool:
        """Whether a settings file is written before the first start too. Arguments and variables always are: no
        one else writes them. Lists of lines never are: a server that finds one leaves out its own words at the
        head."""
        dialect = dialect.partition("@")[0]
        if any(file.startswith(f"{path}/") for path in self.creates):
            return False
        return (self.completes_settings and dialect != "lines") or dialect in ("arguments", "environment")
