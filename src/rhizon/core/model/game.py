"""The game definition (``*.game.toml``): all that Rhizon knows about one game's dedicated server."""

import re
from collections.abc import Iterator
from typing import Annotated, Literal

import msgspec

from rhizon.core.argument_keys import pair_words
from rhizon.core.model.base import ANY, Id, Line, Strict
from rhizon.core.model.game_console import ConsoleRule, HoldRule, StopSignal
from rhizon.core.model.game_log import (
    FailurePattern,
    LauncherRule,
    LogFile,
    LogLevel,
    LogRules,
    ProgressPattern,
    ReadyRule,
)
from rhizon.core.model.game_parts import (
    ClientOnly,
    Command,
    ContentArguments,
    FirstStart,
    InstallerRule,
    LicenceRule,
    LoaderDefinition,
    MemoryModel,
    PlacingRule,
    PlayerRule,
    RuntimeNeeds,
    RuntimeRule,
    SettingsTogether,
    SettingTest,
    Variable,
)
from rhizon.core.model.game_rules import OWN_LOADER, broken_rules
from rhizon.core.model.game_world import WorldInUse, WorldRule, WorldThings, WorldVersion
from rhizon.core.model.metadata import ContentKind
from rhizon.core.model.patterns import check_pattern
from rhizon.core.model.setting import DerivedValue, Only, PortDefinition, SettingDefinition, Stored
from rhizon.core.names import RelPath
from rhizon.core.version import Version, VersionRange, holds

__all__ = [
    "OWN_LOADER",
    "READY_PATTERN",
    "ClientOnly",
    "ConsoleRule",
    "ContentArguments",
    "FailurePattern",
    "FirstStart",
    "GameDefinition",
    "HoldRule",
    "InstallerRule",
    "LauncherRule",
    "LicenceRule",
    "LoaderDefinition",
    "LogFile",
    "LogLevel",
    "LogRules",
    "MemoryModel",
    "PlacingRule",
    "ProgressPattern",
    "ReadyRule",
    "RuntimeNeeds",
    "RuntimeRule",
    "SettingTest",
    "SettingsTogether",
    "StopSignal",
    "WorldInUse",
    "WorldRule",
    "WorldThings",
    "WorldVersion",
]


PLACES = ("store", "last", "span")  # of a port
READY_PATTERN = "^rhizon: the server is ready: "  # rhizon.keeper.ready writes that line


class GameDefinition(Strict, frozen=True, kw_only=True):
    """The whole definition. Where it ``extends`` another one, that has been put together with it. ``versions`` are in
    the order in which they came out; ``version_pattern`` has groups whose numbers, in their order, order those that
    the list does not have. ``environment`` are variables that the server is started with beside the person's own."""

    format: Literal["rhizon-game/1"]
    extends: Line = ""
    id: Id
    title: Line
    summary: Line = ""
    versions: Annotated[tuple[Line, ...], msgspec.Meta(min_length=1)]
    version_pattern: Line = ""
    runtime: RuntimeNeeds
    server_files: tuple[RelPath, ...]
    command: Command
    environment: dict[Variable, Line] = {}
    folders: dict[ContentKind, RelPath]
    placing: dict[ContentKind, PlacingRule] = {}
    loaders: dict[Id, LoaderDefinition]
    client_only: ClientOnly = ClientOnly()
    settings: dict[Id, SettingDefinition] = {}
    derived: tuple[DerivedValue, ...] = ()
    settings_together: tuple[SettingsTogether, ...] = ()
    ports: tuple[PortDefinition, ...]
    memory: MemoryModel
    licence: LicenceRule | None = None
    world: WorldRule
    first_start: FirstStart
    console: ConsoleRule
    log: LogRules
    ready: ReadyRule | None = None
    launcher: LauncherRule | None = None
    player: PlayerRule = PlayerRule()

    def __post_init__(self) -> None:
        check_pattern(self.version_pattern, "version_pattern")
        wrong = broken_rules(self)
        if wrong:
            raise ValueError("\n".join(wrong))  # the decoder makes a mistake of each line

    @property
    def is_probed(self) -> bool:
        """Whether more than a line of its log says that the server is ready."""
        return self.ready is not None or (self.launcher is not None and self.launcher.ready)

    @property
    def ready_pattern(self) -> str:
        """What in its log says that the server is ready: its own line, or the one that Rhizon adds."""
        return READY_PATTERN if self.is_probed else self.log.ready

    def places(self) -> Iterator[Stored]:
        """Where settings and ports are stored."""
        for setting in self.settings.values():
            yield from setting.places
        for port in self.ports:
            yield from (*port.store, *port.last, *port.span)
        yield from self.derived

    def narrowed(self, version: str, loader: str) -> "GameDefinition":
        """The definition for one version and loader: settings and places that are only for others are left out. A
        setting whose first place is for others goes to its next one."""

        def here(only: Only | None) -> bool:
            if only is None:
                return True
            fits = version not in self.versions or version in self.versions_within(only.game_versions)
            return fits and (not only.loaders or loader in only.loaders)

        def settled(setting: SettingDefinition) -> SettingDefinition:
            places = tuple(place for place in setting.places if here(place.only))
            return msgspec.structs.replace(setting, store=places[0] if places else None, also=places[1:])

        conditional = [one.only for one in self.settings.values()] + [place.only for place in self.places()]
        if not any(conditional):
            return self
        settings = {name: settled(one) for name, one in self.settings.items() if here(one.only)}
        ports = (
            msgspec.structs.replace(
                port, **{name: tuple(one for one in getattr(port, name) if here(one.only)) for name in PLACES}
            )
            for port in self.ports
        )
        derived = tuple(one for one in self.derived if here(one.only))
        return msgspec.structs.replace(self, settings=settings, ports=tuple(ports), derived=derived)

    def start_places(self) -> Iterator[Stored]:
        """Every place that may be an argument or a variable of the start."""
        yield from self.places()
        if self.licence is not None:
            yield self.licence.answer

    @property
    def settings_files(self) -> frozenset[RelPath]:
        """Files of the server that people and the server itself write too, wherever they come from."""
        enabled = (one.enabled for one in self.loaders.values() if one.enabled is not None)
        answer = (self.licence.answer,) if self.licence is not None else ()
        return frozenset(place.file for place in (*self.places(), *enabled, *answer))

    @property
    def arguments_file(self) -> RelPath | None:
        """The file that ``{arguments}`` in a command stands for."""
        return next((place.file for place in self.start_places() if place.dialect == "arguments"), None)

    @property
    def environment_file(self) -> RelPath | None:
        """The file of variables that the server is started with, beside ``environment``."""
        return next((place.file for place in self.start_places() if place.dialect == "environment"), None)

    @property
    def pair_words(self) -> tuple[str, ...]:
        """The words that stand before the names of its arguments, as in ``+set name value``."""
        return pair_words([place.key for place in self.start_places() if place.dialect == "arguments"])

    @property
    def ordered(self) -> bool:
        """Whether the order in which content is loaded shows anywhere."""
        if any(one.enabled is not None for one in self.loaders.values()):
            return True
        commands = (word for one in self.loaders.values() for word in one.command)
        return any("{content}" in word for word in commands) or any(
            "{place}" in (rule.name if rule.unpack else rule.file_name) for rule in self.placing.values()
        )

    def position(self, version: str) -> int:
        """Where ``version`` stands in the game's own order; ValueError when it is not known."""
        return self.versions.index(version)

    def is_newer(self, version: str, than: str) -> bool:
        """Whether what a game of ``version`` wrote is too new for one of ``than``.

        A version that the definition does not know is compared by as many numbers as ``than`` has, so that 2.3.1 is
        none of 2.4 and 2.5 is; where one of the two does not begin with numbers, the answer is no.
        """
        if version in self.versions and than in self.versions:
            return self.position(version) > self.position(than)
        mine, theirs = self._numbers(version), self._numbers(than)
        if mine and theirs:
            return mine > theirs
        written, own = (re.match(r"\d+(?:\.\d+)*", text) for text in (version, than))
        if written is None or own is None:
            return False
        least = [int(number) for number in own[0].split(".")]
        return [int(number) for number in written[0].split(".")][: len(least)] > least

    def versions_within(self, wanted: VersionRange) -> tuple[str, ...]:
        """The known versions that a range admits, oldest first.

        A bound that is one of the game's own versions is compared by their order, so that versions
        which are not numbers can stand in a range too.
        """
        return tuple(version for version in self.versions if self._admits(wanted, version))

    def _numbers(self, version: str) -> tuple[int, ...]:
        """The numbers of a version by the definition's pattern; none where it does not match."""
        match = re.fullmatch(self.version_pattern, version) if self.version_pattern else None
        if match is None:
            return ()
        return tuple(int(one) if one.isdecimal() else ord(one[:1].lower()) for one in match.groups("0"))

    def _admits(self, wanted: VersionRange, version: str) -> bool:
        for one in wanted.comparators:
            if one.version.text in self.versions and version in self.versions:
                gap = self.position(version) - self.position(one.version.text)
                fits = holds(one.op, gap)
            elif (own := self._numbers(version)) and (other := self._numbers(one.version.text)):
                fits = holds(one.op, (own > other) - (own < other))
            else:
                try:
                    fits = one.admits(Version(version))
                except ValueError:
                    fits = one.op == "!="  # a name is only what it is
            if not fits:
                return False
        return True

    def runtime_majors(self, version: str) -> VersionRange:
        """The runtime majors that ``version`` runs on."""
        for rule in self.runtime.rules:
            if version in self.versions_within(rule.game_versions):
                return rule.majors
        return ANY
