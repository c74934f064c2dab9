"""Which files of an instance are its worlds, and what goes with them: found below folders without following links."""

import contextlib
import stat
from fnmatch import fnmatchcase
from typing import NamedTuple

from rhizon.adapters.inside import Inside
from rhizon.adapters.transact import RHIZON
from rhizon.core.model.game_world import WorldRule
from rhizon.core.names import RelPath, UnsafeNameError, safe_path

__all__ = ["WorldFiles", "tree_files", "world_files", "world_units", "worlds_beside"]


class WorldFiles(NamedTuple):
    """What there is to save below a folder, folders that hold nothing, and what was left out: links that may not be
    followed, devices, names that some system cannot hold."""

    files: tuple[RelPath, ...]
    empty: tuple[RelPath, ...]
    left_out: tuple[str, ...]
    size: int


def tree_files(inside: Inside, below: RelPath) -> WorldFiles:
    """Every ordinary file below a folder of an instance. Links are followed only where the person named their targets.
    Raises :class:`StateError` where the folder, or one in it (a whole world), is another link."""
    files: list[RelPath] = []
    empty: list[RelPath] = []
    left_out: list[str] = []
    size = 0
    waiting = [str(below)] if inside.is_folder(below) else []
    if not waiting and inside.lstat(below) is not None:
        inside.handle(below)  # says what is wrong
    while waiting:
        here = waiting.pop()
        names = inside.names(here)
        if not names and here != below:
            with contextlib.suppress(UnsafeNameError):
                empty.append(safe_path(here))
        for name in names:
            path = f"{here}/{name}"
            facts = inside.lstat(path)
            if facts is None:
                continue
            if not stat.S_ISREG(facts.st_mode):
                if inside.is_folder(path):
                    waiting.append(path)
                elif here == below and (inside.root / path).is_dir():
                    inside.handle(path)  # says what is wrong
                else:
                    left_out.append(path)
                continue
            try:
                files.append(safe_path(path))
                size += facts.st_size
            except UnsafeNameError:
                left_out.append(path)
    return WorldFiles(tuple(sorted(files)), tuple(sorted(empty)), tuple(sorted(left_out)), size)


def world_units(inside: Inside, rule: WorldRule) -> tuple[str, ...]:
    """The worlds that are there, and what goes with them: the path of each folder or file."""
    found: set[str] = set()
    for place in rule.places:
        around, _, name = place.rpartition("/")
        if around and not inside.is_folder(around):
            continue
        found |= {
            f"{around}/{one}" if around else one
            for one in inside.names(around)
            if fnmatchcase(one, name) and (around or one != RHIZON)
        }
    return tuple(sorted(found))


def worlds_beside(inside: Inside, rule: WorldRule) -> list[str]:
    """The names of the worlds that are there."""
    if rule.folder and not inside.is_folder(rule.folder):
        return []
    named = ((one, rule.name_of(one)) for one in inside.names(rule.folder))
    return [
        name
        for one, name in named
        if name is not None
        and one != RHIZON
        and (inside.is_file(rule.path(name)) if rule.single_file else inside.is_folder(rule.path(name)))
    ]


def world_files(inside: Inside, rule: WorldRule) -> WorldFiles:
    """Every ordinary file of the worlds and of what goes with them; links are as in :func:`tree_files`."""
    if rule.folder and rule.names == "*":
        parts = [tree_files(inside, RelPath(rule.folder))]
        others = [one for one in world_units(inside, rule) if not one.startswith(f"{rule.folder}/")]
    else:
        parts, others = [], list(world_units(inside, rule))
    for one in others:
        facts = inside.lstat(one)
        if facts is not None and stat.S_ISREG(facts.st_mode):
            parts.append(WorldFiles((safe_path(one),), (), (), facts.st_size))
        else:
            parts.append(tree_files(inside, RelPath(one)))
    return WorldFiles(
        tuple(sorted(path for part in parts for path in part.files)),
        tuple(sorted(path for part in parts for path in part.empty)),
        tuple(sorted(path for part in parts for path in part.left_out)),
        sum(part.size for part in parts),
    )
