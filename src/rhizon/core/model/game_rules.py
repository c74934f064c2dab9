"""What must hold between the parts of a game definition. Each rule yields a text for every place that breaks it."""

from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from rhizon.core.model.game import GameDefinition

__all__ = ["OWN_LOADER", "RULES", "broken_rules"]

OWN_LOADER = "own"  # the id of a loader that is the server itself: its builds are the game's versions


def port_roles_are_unique(game: "GameDefinition") -> Iterator[str]:
    """One role, one port."""
    roles = [port.role for port in game.ports]
    if len(set(roles)) != len(roles):
        yield "ports: two ports have the same role"


def offsets_count_from_a_port(game: "GameDefinition") -> Iterator[str]:
    """A port at a fixed distance has one to count from, and another number."""
    leaders = [port.role for port in game.ports if port.offset_of is None]
    for port in game.ports:
        if port.offset_of is not None and port.offset_of not in leaders:
            yield f"ports: {port.role}: {port.offset_of!r} is not a role with its own number"
        if port.offset_of is not None and port.offset == 0:
            yield f"ports: {port.role}: an offset other than 0 is needed"


def versions_are_unique(game: "GameDefinition") -> Iterator[str]:
    """Their order is that of their release, so each is there once."""
    if len(set(game.versions)) != len(game.versions):
        yield "versions: one is written twice"


def named_settings_exist(game: "GameDefinition") -> Iterator[str]:
    """Other parts name settings."""
    if game.world.name_setting not in game.settings:
        yield f"world.name_setting: {game.world.name_setting!r} is not in settings"
    for name in game.memory.per_setting_mib:
        if name not in game.settings or game.settings[name].type != "integer":
            yield f"memory.per_setting_mib: {name!r} is not a setting of type integer"


def kinds_have_folders(game: "GameDefinition") -> Iterator[str]:
    """What a loader takes, and what is unpacked, has a folder."""
    for name, loader in game.loaders.items():
        for kind in loader.kinds:
            if kind not in game.folders:
                yield f"loaders.{name}.kinds: folders has no {kind!r}"
    for kind in game.placing:
        if kind not in game.folders:
            yield f"placing.{kind}: folders has no {kind!r}"


def own_loader_installs_nothing(game: "GameDefinition") -> Iterator[str]:
    """The server itself has no files of a loader."""
    loader = game.loaders.get(OWN_LOADER)
    if loader is not None and (loader.files or loader.installer):
        yield f"loaders.{OWN_LOADER}: {OWN_LOADER!r} is the server itself; it installs nothing"


def one_file_of_arguments(game: "GameDefinition") -> Iterator[str]:
    """``{arguments}`` in a command is one file."""
    files = sorted({place.file for place in game.places() if place.dialect == "arguments"})
    if len(files) > 1:
        yield f"settings: only one file of arguments is read, not {' and '.join(files)}"


RULES: tuple[Callable[["GameDefinition"], Iterator[str]], ...] = (
    port_roles_are_unique,
    offsets_count_from_a_port,
    versions_are_unique,
    named_settings_exist,
    kinds_have_folders,
    own_loader_installs_nothing,
    one_file_of_arguments,
)


def broken_rules(game: "GameDefinition") -> list[str]:
    """Everything that is wrong between the parts of a definition."""
    return [text for rule in RULES for text in rule(game)]
