"""Where content is in an instance, and in which order it is named on the command line."""

from typing import Literal, NamedTuple

from rhizon.core.errors import StateError
from rhizon.core.model.game import GameDefinition, PlacingRule
from rhizon.core.model.lock import Lock, LockedRelease
from rhizon.core.names import RelPath, safe_path

__all__ = [
    "Placed",
    "content_paths",
    "enabled_name",
    "leaves_of",
    "loaded",
    "own_place",
    "place_inside",
    "place_of",
    "unpacked",
]

STEP = 10  # between two places in the order of loading: a person may put something of their own between


def unpacked(game: GameDefinition, release: LockedRelease) -> bool:
    """Whether it is there as a folder, not as its archive."""
    rule = game.placing.get(release.kind)
    return rule is not None and rule.unpack


def place_of(game: GameDefinition, lock: Lock, release: LockedRelease) -> RelPath:
    """The file or folder of a release, by its kind. Raises :class:`StateError` for a kind that the game has no folder
    for."""
    if release.kind not in game.folders:
        raise StateError(
            "no-folder-for-kind",
            f"{release.id} is a {release.kind}, but {game.title} has no folder for that kind",
            hint="Exclude it, or add the folder to the definition.",
        )
    rule = game.placing.get(release.kind, PlacingRule())
    if rule.unpack and rule.flat:
        return safe_path(game.folders[release.kind])
    number = (lock.order.index(release.id) + 1) * STEP if release.id in lock.order else 0
    file = release.file.path.rpartition("/")[2]
    words = {"{id}": release.id, "{version}": release.version.text, "{place}": f"{number:03}", "{file}": file}
    name = rule.name if rule.unpack else rule.file_name
    for word, value in words.items():
        name = name.replace(word, value)
    return safe_path(f"{game.folders[release.kind]}/{name}")


class Placed(NamedTuple):
    """Where a file of an unpacked archive goes: in the folder of content, as a ``patch`` in place of a file of the
    server, or as ``settings`` that the content brings."""

    path: RelPath
    use: Literal["content", "patch", "settings"]


def place_inside(game: GameDefinition, lock: Lock, release: LockedRelease, path: str) -> Placed | None:
    """Where the file ``path`` of a release's archive goes; None where it goes nowhere."""
    rule = game.placing[release.kind]
    if rule.flat and path in {one.file for one in game.loaders[lock.target.loader].metadata}:
        return None  # what an archive says of itself is not for a folder that it shares with others
    patch = next((folder for folder in rule.patches if path.startswith(f"{folder}/")), None)
    if patch is not None:
        return Placed(safe_path(path.removeprefix(f"{patch}/")), "patch")
    if rule.config is not None and path.startswith(f"{rule.config.source}/"):
        to = rule.config.to.replace("{id}", release.id)
        return Placed(safe_path(f"{to}/{path.removeprefix(f'{rule.config.source}/')}"), "settings")
    if rule.part is not None and not path.startswith(f"{rule.part}/"):
        return None
    below = path.removeprefix(f"{rule.part}/") if rule.part is not None else path
    return Placed(safe_path(f"{place_of(game, lock, release)}/{below}"), "content")


def own_place(game: GameDefinition, release: LockedRelease) -> bool:
    """Whether a release has a file or folder of its own; else its files are among those of others."""
    rule = game.placing.get(release.kind)
    return rule is None or not (rule.unpack and rule.flat)


def enabled_name(game: GameDefinition, lock: Lock, release: LockedRelease) -> str:
    """How a loader's list of what is enabled names a release."""
    how = game.loaders[lock.target.loader].enabled_as
    if how == "id":
        return release.id
    path = place_of(game, lock, release)
    return path if how == "path" else path.rpartition("/")[2]


def leaves_of(game: GameDefinition, release: LockedRelease) -> tuple[RelPath, ...]:
    """Files and folders that the server makes for a release."""
    rule = game.placing.get(release.kind, PlacingRule())
    return tuple(safe_path(path.replace("{id}", release.id)) for path in rule.leaves)


def loaded(game: GameDefinition, lock: Lock) -> tuple[LockedRelease, ...]:
    """What the loader loads, in that order: all that it takes, templates and the like left out."""
    kinds = set(game.loaders[lock.target.loader].kinds) - {"template", "datapack"}
    return tuple(one for one in lock.in_order() if one.kind in kinds)


def content_paths(game: GameDefinition, lock: Lock) -> tuple[RelPath, ...]:
    """Where that is."""
    return tuple(place_of(game, lock, one) for one in loaded(game, lock))
