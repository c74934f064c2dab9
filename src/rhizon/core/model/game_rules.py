"""What must hold between the parts of a game definition. Each rule yields a text for every place that breaks it."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Protocol

from rhizon.core.argument_keys import ARGUMENT_KEY, VARIABLE
from rhizon.core.model.game_console import ConsoleRule
from rhizon.core.model.game_log import ReadyRule
from rhizon.core.model.game_parts import LoaderDefinition, MemoryModel, PlacingRule, SettingsTogether
from rhizon.core.model.game_world import WorldRule
from rhizon.core.model.metadata import ContentKind
from rhizon.core.model.setting import NAME_WORD, DerivedValue, PortDefinition, SettingDefinition, Stored

__all__ = ["OWN_LOADER", "RULES", "Parts", "broken_rules"]

OWN_LOADER = "own"  # the id of a loader that is the server itself: its builds are the game's versions


class Parts(Protocol):
    """What the rules look at of a definition."""

    @property
    def versions(self) -> Sequence[str]: ...
    @property
    def folders(self) -> Mapping[ContentKind, str]: ...
    @property
    def placing(self) -> Mapping[ContentKind, PlacingRule]: ...
    @property
    def loaders(self) -> Mapping[str, LoaderDefinition]: ...
    @property
    def settings(self) -> Mapping[str, SettingDefinition]: ...
    @property
    def derived(self) -> Sequence[DerivedValue]: ...
    @property
    def settings_together(self) -> Sequence[SettingsTogether]: ...
    @property
    def ports(self) -> Sequence[PortDefinition]: ...
    @property
    def memory(self) -> MemoryModel: ...
    @property
    def world(self) -> WorldRule: ...
    @property
    def command(self) -> Sequence[str]: ...
    @property
    def ready_pattern(self) -> str: ...
    @property
    def ready(self) -> ReadyRule | None: ...
    @property
    def console(self) -> ConsoleRule: ...
    def places(self) -> Iterator[Stored]: ...
    def start_places(self) -> Iterator[Stored]: ...


def _port_roles_are_unique(game: Parts) -> Iterator[str]:
    """One role, one port."""
    roles = [port.role for port in game.ports]
    if len(set(roles)) != len(roles):
        yield "ports: two ports have the same role"


def _offsets_count_from_a_port(game: Parts) -> Iterator[str]:
    """A port at a fixed distance has one to count from, and another number."""
    leaders = [port.role for port in game.ports if port.offset_of is None]
    for port in game.ports:
        if port.offset_of is not None and port.offset_of not in leaders:
            yield f"ports: {port.role}: {port.offset_of!r} is not a role with its own number"
        if port.offset_of is not None and port.offset == 0:
            yield f"ports: {port.role}: an offset other than 0 is needed"


def _versions_are_unique(game: Parts) -> Iterator[str]:
    """Their order is that of their release, so each is there once."""
    if len(set(game.versions)) != len(game.versions):
        yield "versions: one is written twice"


def _named_settings_exist(game: Parts) -> Iterator[str]:
    """Other parts name settings."""
    if game.world.name_setting not in game.settings:
        yield f"world.name_setting: {game.world.name_setting!r} is not in settings"
    for name in game.memory.per_setting_mib:
        if name not in game.settings or game.settings[name].type != "integer":
            yield f"memory.per_setting_mib: {name!r} is not a setting of type integer"


def _tests_fit_their_settings(game: Parts) -> Iterator[str]:
    """Settings that need each other are there, and are tested for what they can be."""
    for number, rule in enumerate(game.settings_together, 1):
        for name, test in [*rule.when.items(), *rule.needs.items()]:
            where = f"settings_together: rule {number}: {name}"
            definition = game.settings.get(name)
            if definition is None or definition.secret or definition.type == "names":
                yield f"{where} is not in settings, or is a secret or a list of names"
                continue
            if not test.one_of and definition.type != "integer":
                yield f"{where} is not of type integer: `one_of` is needed"
            for value in test.one_of:
                try:
                    definition.checked(value)
                except ValueError as wrong:
                    yield f"{where}: {wrong}"


def _kinds_have_folders(game: Parts) -> Iterator[str]:
    """What a loader takes, and what is unpacked, has a folder."""
    for name, loader in game.loaders.items():
        for kind in loader.kinds:
            if kind not in game.folders:
                yield f"loaders.{name}.kinds: folders has no {kind!r}"
    for unpacked in game.placing:
        if unpacked not in game.folders:
            yield f"placing.{unpacked}: folders has no {unpacked!r}"


def _own_loader_installs_nothing(game: Parts) -> Iterator[str]:
    """The server itself has no files of a loader."""
    loader = game.loaders.get(OWN_LOADER)
    if loader is not None and (loader.files or loader.installer):
        yield f"loaders.{OWN_LOADER}: {OWN_LOADER!r} is the server itself; it installs nothing"


def _one_file_of_each_kind(game: Parts) -> Iterator[str]:
    """``{arguments}`` in a command is one file, and so are the variables of the start."""
    for dialect, what in (("arguments", "arguments"), ("environment", "variables")):
        files = sorted({place.file for place in game.start_places() if place.dialect == dialect})
        if len(files) > 1:
            yield f"settings: only one file of {what} is read, not {' and '.join(files)}"


def _start_keys_can_be_written(game: Parts) -> Iterator[str]:
    """The key of an argument shows its form, and that of a variable is its name."""
    for place in game.start_places():
        key = place.key.replace(NAME_WORD, "x")
        if place.dialect == "arguments" and not ARGUMENT_KEY.fullmatch(key):
            forms = "--name=, --name, name=, +set name or @1"
            yield f"settings: {place.file}: {place.key!r} is not an argument; write {forms}"
        if place.dialect == "environment" and not VARIABLE.fullmatch(key):
            yield f"settings: {place.file}: {place.key!r} is not the name of a variable"


def _arguments_are_given(game: Parts) -> Iterator[str]:
    """Arguments that no command has would never reach the server."""
    given = [game.command, *(loader.command for loader in game.loaders.values())]
    if any(place.dialect == "arguments" for place in game.start_places()):
        for number, words in enumerate(given):
            if not any("{arguments}" in word for word in words):
                where = "command" if number == 0 else f"loaders.{list(game.loaders)[number - 1]}.command"
                yield f'{where}: "{{arguments}}" is missing, for the settings and ports that are start arguments'


def _ready_is_said(game: Parts) -> Iterator[str]:
    """Something says that the server is ready."""
    if not game.ready_pattern:
        yield "log.ready: a pattern is required, or a table [ready] with a port or a file"


def _named_roles_exist(game: Parts) -> Iterator[str]:
    """Other parts name ports and secrets."""
    roles = {port.role: port for port in game.ports}
    console = game.console
    named = [("ready.port", game.ready.port if game.ready is not None else None)]
    named += [(f"console.{name}.port", rule.port) for name, rule in console.reached_at()]
    for where, role in named:
        if role is not None and role not in roles:
            yield f"{where}: {role!r} is not the role of a port; there are: {', '.join(roles) or 'none'}"
    for name, rule in console.reached_at():
        if rule.port in roles and "tcp" not in roles[rule.port].protocols:
            yield f"console.{name}.port: {rule.port!r} is not a tcp port"
        if rule.password_setting is not None:
            setting = game.settings.get(rule.password_setting)
            if setting is None or not setting.secret or setting.store is None:
                yield f"console.{name}.password_setting: {rule.password_setting!r} is not a secret setting with a place"


def _derived_values_can_be_filled(game: Parts) -> Iterator[str]:
    """What a value is made of exists, and is no secret."""
    roles = {port.role for port in game.ports}
    for number, one in enumerate(game.derived, 1):
        for field in one.fields():
            kind, _, name = field.partition(".")
            setting = game.settings.get(name)
            known = (
                field in ("name", "game_version")
                or (kind == "port" and name in roles)
                or (kind == "setting" and setting is not None and not setting.secret and setting.type != "names")
            )
            if not known:
                yield (
                    f"derived: value {number}: {{{field}}} is none of {{name}}, {{game_version}}, {{port.ROLE}} and "
                    "{setting.NAME} (no secret, no list of names)"
                )


def _conditions_can_hold(game: Parts) -> Iterator[str]:
    """What is only for some loaders or versions is for some that there are."""
    conditions = [(f"settings.{name}", one.only) for name, one in game.settings.items()]
    conditions += [(f"{place.file}: {place.key}", place.only) for place in game.places()]
    for where, only in conditions:
        for loader in only.loaders if only is not None else ():
            if loader not in game.loaders:
                yield f"{where}: only.loaders: {loader!r} is not a loader; there are: {', '.join(game.loaders)}"


RULES: tuple[Callable[[Parts], Iterator[str]], ...] = (
    _port_roles_are_unique,
    _offsets_count_from_a_port,
    _versions_are_unique,
    _named_settings_exist,
    _tests_fit_their_settings,
    _kinds_have_folders,
    _own_loader_installs_nothing,
    _one_file_of_each_kind,
    _start_keys_can_be_written,
    _arguments_are_given,
    _ready_is_said,
    _named_roles_exist,
    _derived_values_can_be_filled,
    _conditions_can_hold,
)


def broken_rules(game: Parts) -> list[str]:
    """Everything that is wrong between the parts of a definition."""
    return [text for rule in RULES for text in rule(game)]
