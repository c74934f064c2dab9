"""Where content is in an instance, and in which order it is named on the command line."""

from rhizon.core.errors import StateError
from rhizon.core.model.game import GameDefinition, PlacingRule
from rhizon.core.model.lock import Lock, LockedRelease
from rhizon.core.names import RelPath, safe_path

__all__ = ["content_paths", "loaded", "place_of", "unpacked"]

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
    name = release.file.path.rpartition("/")[2]
    if rule.unpack:
        number = (lock.order.index(release.id) + 1) * STEP if release.id in lock.order else 0
        words = {"{id}": release.id, "{version}": release.version.text, "{place}": f"{number:03}"}
        name = rule.name
        for word, value in words.items():
            name = name.replace(word, value)
    return safe_path(f"{game.folders[release.kind]}/{name}")


def loaded(game: GameDefinition, lock: Lock) -> tuple[LockedRelease, ...]:
    """What the loader loads, in that order: all that it takes, templates and the like left out."""
    kinds = set(game.loaders[lock.target.loader].kinds) - {"template", "datapack"}
    return tuple(one for one in lock.in_order() if one.kind in kinds)


def content_paths(game: GameDefinition, lock: Lock) -> tuple[RelPath, ...]:
    """Where that is."""
    return tuple(place_of(game, lock, one) for one in loaded(game, lock))
