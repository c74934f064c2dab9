"""The world of an instance: where it is, where it comes from, and what can be read from it."""

import contextlib
import itertools
import os
import re
import shutil
from pathlib import Path
from typing import Literal, NamedTuple

from rhizon import interrupts
from rhizon.adapters.copy_folder import copy_folder, size_of
from rhizon.adapters.files import free_bytes, translated
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.processes import began, program_of
from rhizon.adapters.transact import RHIZON
from rhizon.app.reporter import Reporter
from rhizon.core.check.observation import WorldHolder
from rhizon.core.content_paths import place_of
from rhizon.core.errors import InputError, NotReadyError, StateError
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance
from rhizon.core.model.lock import Lock
from rhizon.core.model.setting import NAME_WORD
from rhizon.core.names import printable
from rhizon.core.settings.dialects import DIALECTS
from rhizon.core.units import counted, size_text
from rhizon.core.words import command_line

__all__ = [
    "WorldOrigin",
    "check_world",
    "find_origin",
    "lay_world",
    "put_aside",
    "remove_left_mark",
    "require_no_interrupt",
    "things_in_world",
    "world_folder",
    "world_holder",
    "world_named_in_file",
    "world_version",
]

MOST_MARK = 4096
MOST_TOLD = 8 << 20
MOST_DIGITS = 9
CLOCK_SECONDS = 5.0  # by which a process may seem younger than what it wrote
COMING = "world-coming"  # in .rhizon/: a copy while it is made


def world_folder(home: InstanceFolder, game: GameDefinition, instance: Instance) -> Path:
    """Where the world in use is, or will be."""
    name = instance.settings.get(game.world.name_setting, game.settings[game.world.name_setting].default)
    return home.folder / game.world.path(str(name))


def world_named_in_file(home: InstanceFolder, game: GameDefinition, instance: Instance) -> str:
    """The name of the world that the server will look for: by its settings file where that says one, whoever wrote
    it; the recorded one where the file cannot be read."""
    setting = game.world.name_setting
    definition = game.settings[setting]
    name = str(instance.settings.get(setting, definition.default))
    with contextlib.suppress(StateError, ValueError):  # a link that is not allowed, a broken file: the rules tell of it
        data = home.read(definition.store.file) if definition.store is not None else None
        if definition.store is not None and data is not None:
            name = DIALECTS[definition.store.written].read(data).get(definition.store.key, name).strip() or name
    return name


def _told_by(home: InstanceFolder, game: GameDefinition, world: Path, file: str) -> str:
    """The text of the file that tells of a world: in it, beside it, or the world itself; "" where there is none."""
    if NAME_WORD in file:
        name = game.world.name_of(world.name) or world.name
        place = home.folder / game.world.folder / file.replace(NAME_WORD, name)
    else:
        place = world / file if file else world
    if not place.is_file():
        return ""
    with place.open("rb") as opened:
        return opened.read(MOST_TOLD).decode("utf-8", "replace")


def things_in_world(home: InstanceFolder, world: Path, game: GameDefinition) -> dict[str, dict[str, int]]:
    """What the world says that it holds of content: content id to thing to count."""
    rule = game.world.things
    found: dict[str, dict[str, int]] = {}
    if rule is None:
        return found
    pattern = re.compile(rule.pattern)
    for line in _told_by(home, game, world, rule.file).splitlines():
        match = pattern.search(line)
        if match is not None:
            count = match.groupdict().get("count") or "1"
            things = found.setdefault(match["id"], {})
            things[match["thing"]] = things.get(match["thing"], 0) + (int(count) if count.isdecimal() else 1)
    return found


def world_version(home: InstanceFolder, game: GameDefinition, name: str) -> str:
    """The version of the game that wrote the world of a name last, as it says; "" where it does not say."""
    return _version_of(home, game, home.folder / game.world.path(name))


def _version_of(home: InstanceFolder, game: GameDefinition, world: Path) -> str:
    rule = game.world.version
    if rule is None:
        return ""
    match = re.search(rule.pattern, _told_by(home, game, world, rule.file), re.MULTILINE)
    return printable(match["version"], 60) if match is not None else ""


def world_holder(home: InstanceFolder, game: GameDefinition, name: str) -> WorldHolder | None:
    """Whose mark is in a world that it is in use; None where there is none. A process that began after the mark was
    written is not the one that wrote it. Raises StateError for a link on the way."""
    rule = game.world.in_use
    if rule is None:
        return None
    path = f"{game.world.path(name)}/{rule.file}"
    with translated("read the world", home.folder / path), home.inside() as inside:
        facts = inside.lstat(path)
        if facts is None:
            return None
        text = inside.read(path, MOST_MARK).decode("utf-8", "replace") if inside.is_file(path) else ""
    match = re.search(rule.pattern, text, re.MULTILINE) if rule.pattern else None
    if match is None or not match["pid"].isdecimal() or len(match["pid"]) > MOST_DIGITS:
        return WorldHolder(file=rule.file, state="unknown")
    pid = int(match["pid"])
    since = began(pid)
    if not since or since > facts.st_mtime + CLOCK_SECONDS:
        return WorldHolder(file=rule.file, state="gone", pid=pid)
    return WorldHolder(file=rule.file, state="runs", pid=pid, program=program_of(pid))


def remove_left_mark(home: InstanceFolder, game: GameDefinition, name: str, reporter: Reporter) -> None:
    """Removes the mark of a server that is gone from a world, which would keep the next one from starting."""
    holder = world_holder(home, game, name)
    if holder is not None and holder.state == "gone":
        path = f"{game.world.path(name)}/{holder.file}"
        with translated("remove the mark", home.folder / path), home.inside() as inside:
            inside.unlink(path)
        reporter.done(f"removed {path}: left by process {holder.pid}, which is gone")


class WorldOrigin(NamedTuple):
    """A folder that a new world is copied from, and how messages name it."""

    folder: Path
    words: str


def find_origin(
    home: InstanceFolder, game: GameDefinition, lock: Lock, instance: Instance, named: Path | None
) -> WorldOrigin | None:
    """Where a new world comes from: the folder that a person named, or a template of the content; None where the game
    makes it. Raises InputError for a template that is not there."""
    if named is not None:
        return WorldOrigin(named, _named(named))
    rule = game.world.template_setting
    wanted = instance.settings.get(rule, game.settings[rule].default if rule in game.settings else "")
    if not wanted:
        return None
    there = {one.id: one for one in lock.on_server() if one.kind == "template"}
    if wanted not in there:
        raise InputError(
            "template-missing",
            f"the world is made from the template {wanted}, which is not in the content",
            details=[f"available templates: {', '.join(there) or 'none'}"],
            hint=f"Add it to the content of the list, or set {rule} to an empty value.",
        )
    one = there[str(wanted)]
    return WorldOrigin(home.folder / place_of(game, lock, one), f"template {one.id} {one.version}")


def check_world(home: InstanceFolder, game: GameDefinition, lock: Lock, instance: Instance, named: Path | None) -> None:
    """Sees that what is asked of the world can be: nothing in its way, room for it, and no newer game behind it. Raises
    InputError, :class:`StateError`."""
    target = lock.target.game_version
    world = world_folder(home, game, instance)
    if named is None:
        find_origin(home, game, lock, instance, None)
        if world.exists():
            _not_newer(
                home,
                world,
                game,
                target,
                "Go back to a world of that time with undo or restore, or use another one: "
                f"--set {game.world.name_setting}={_name(game, world)}-2",
            )
        return
    one_file = game.world.single_file
    if named.is_symlink() or not (named.is_file() if one_file else named.is_dir()):
        kind = "file" if one_file else "folder"
        raise InputError("no-such-world", f"there is no world at {named}", hint=f"Name the {kind} of a world.")
    if world.exists() and instance.first_start_done:
        if instance.world_from.startswith(f"{_named(named)} ("):
            return  # the same command once more: it is here already
        raise StateError(
            "world-exists",
            f"the server already has a world named {world.name}",
            hint=f"Import the other one under another name: --set {game.world.name_setting}={_name(game, world)}-2",
        )
    if home.folder.resolve().is_relative_to(named.resolve()):
        raise InputError("no-such-world", f"{named} contains the server itself", hint="Name the folder of a world.")
    files, size = (1, named.stat().st_size) if one_file else size_of(named)
    if files == 0:
        raise InputError("no-such-world", f"{named} is empty", hint="Name the folder of a world.")
    if size > free_bytes(home.folder):
        raise StateError(
            "disk-full",
            f"the world in {named} takes {size_text(size)}, {size_text(free_bytes(home.folder))} free",
            hint="Free some space, or provision on a larger disk.",
        )
    _not_newer(home, named, game, target, f"Set the world's game version in [target]; {target} was chosen.")


def _name(game: GameDefinition, world: Path) -> str:
    return game.world.name_of(world.name) or world.name


def _not_newer(home: InstanceFolder, world: Path, game: GameDefinition, target: str, hint: str) -> None:
    version = _version_of(home, game, world)
    if game.is_newer(version, target):
        raise StateError(
            "world-is-newer",
            f"the world {world.name} was written by {game.title} {version}, newer than the server's {target}",
            details=["an older game that opens a newer world loses parts of it, or all of it"],
            hint=hint,
        )


def _named(folder: Path) -> str:
    return str(folder.absolute())


def put_aside(home: InstanceFolder, world: Path) -> str:
    """Renames a world that is in the way; nothing is lost. The name that it has now."""
    path = world.relative_to(home.folder).as_posix()
    with translated("move the world aside", world), home.inside() as inside:
        aside = next(one for n in itertools.count(1) if inside.lstat(one := f"{path}-aside-{n}") is None)
        inside.rename(path, aside)
    return aside.rpartition("/")[2]


def require_no_interrupt(home: InstanceFolder) -> None:
    """After the commit point of a provision a signal stops what is left to do, and takes nothing back. Raises
    NotReadyError."""
    if interrupts.asked():
        raise NotReadyError(
            "first-start-interrupted",
            "interrupted before the server was ready to run; its files are in place",
            hint=f"Run the same command again to continue, or remove {home.folder}.",
        )


def lay_world(
    home: InstanceFolder,
    game: GameDefinition,
    lock: Lock,
    instance: Instance,
    named: Path | None,
    reporter: Reporter,
    *,
    bare: Literal["made it", "found it"] | None = None,
) -> str:
    """Copies the world to where the server looks for it, if it comes from elsewhere and none is there.

    ``bare`` says that the bare first start has just been: a world that it made gives way to the copy, one that it found
    there is put aside. Answers in words where the world came from, "" where nothing was done. Raises StateError where
    the origin is gone or the disk is full."""
    origin = find_origin(home, game, lock, instance, named)
    world = world_folder(home, game, instance)
    if origin is None or (world.exists() and bare is None):
        return ""
    if not origin.folder.exists():
        raise StateError(
            "template-missing",
            f"{origin.folder} no longer exists, and the world should be copied from it",
            hint=f"Put back what is missing first: {command_line('rhizon', 'repair', home.folder)}",
        )
    is_file = origin.folder.is_file()
    files, size = (1, origin.folder.stat().st_size) if is_file else size_of(origin.folder)
    reporter.step(f"copying the world from {origin.words}")
    place = world.relative_to(home.folder).as_posix()
    with translated("copy the world", world), home.inside() as inside:
        if inside.lstat(place) is not None:
            if bare == "made it":
                inside.remove(place)
            else:  # an earlier try made it, or somebody played there meanwhile
                reporter.done(f"the previous world is now {put_aside(home, world)}")

        def tell(part: float) -> None:
            reporter.progress("copying", part)
            require_no_interrupt(home)

        if game.world.folder:
            inside.make_folder(game.world.folder)
        elsewhere = inside.device(game.world.folder) != inside.device(RHIZON)
        beside = f"{game.world.folder}/.{COMING}" if elsewhere else f"{RHIZON}/{COMING}"
        if is_file:
            inside.remove(beside)
            with inside.new_file(beside, 0o644) as out, origin.folder.open("rb") as source:
                shutil.copyfileobj(source, os.fdopen(os.dup(out), "wb"))
            inside.rename(beside, place)
        else:
            copy_folder(origin.folder, inside, place, beside, tell)
    words = f"{origin.words} ({counted(files, 'file')}, {size_text(size)})"
    reporter.done(f"the world {world.name} was copied from {words}")
    return words
