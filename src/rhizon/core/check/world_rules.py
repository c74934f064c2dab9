"""Rules on the world, which no start may silently replace."""

from collections.abc import Iterator

from rhizon.core.check.finding import error, note, warning
from rhizon.core.check.observation import Observation, WorldSeen
from rhizon.core.finding import Finding
from rhizon.core.model.game import GameDefinition
from rhizon.core.version import parse_version
from rhizon.core.words import command_line

__all__ = ["complete", "in_use", "last_run", "newer", "shared", "usable"]


def usable(seen: Observation) -> Iterator[Finding]:
    """A world that is not there, empty, no folder, or not writable."""
    world, game = seen.world, seen.game
    if world is None or not seen.instance.first_start_done:
        return
    path = game.world.path(world.name)
    if "/" in world.name or "\\" in world.name or world.name in ("", ".", ".."):
        what = f"{world.name!r} is not the name of a world in {game.world.title}"
        set_back = command_line("rhizon", "set", seen.folder, f"{game.world.name_setting}={_recorded(seen)}")
        yield error("world-broken", game.world.name_setting, what, f"Set it back: {set_back}")
    elif not world.exists:
        beside = f"; there are {', '.join(world.others[:5])}" if world.others else ""
        other = f"{game.world.name_setting}={world.others[0]}" if world.others else ""
        choose = f"To go on in {world.others[0]}: {command_line('rhizon', 'set', seen.folder, other)}" if other else ""
        if world.known:
            what = f"the world of this server is gone: a start would create a new one{beside}"
            yield error("world-missing", path, what, choose or _put_back(seen, world))
        elif world.others:
            what = f"a start creates a new world of this name{beside}"
            yield note("world-new", path, what, choose)
    elif not world.is_folder:
        is_there, is_meant = ("folder", "file") if game.world.single_file else ("file", "folder")
        what = f"it is a {is_there}, and a world is a {is_meant}"
        yield error("world-broken", path, what, _put_back(seen, world))
    elif world.empty and world.known:
        what = "the world's folder is empty: a start would create a new world in it"
        yield error("world-missing", path, what, _put_back(seen, world))
    elif not world.writable:
        what = "the server cannot write its world: nothing that happens in it would be saved"
        yield error("not-writable", path, what, "Give it to the user who starts the server: chown -R, chmod u+w")


def complete(seen: Observation) -> Iterator[Finding]:
    """A world of which a part is missing, as after a copy that was interrupted."""
    world = seen.world
    if world is None or not world.is_folder or world.empty:
        return
    path = seen.game.world.path(world.name)
    back = _put_back(seen, world)
    if world.missing:
        what = f"the world is not whole: {', '.join(world.missing)} is missing, which every world has"
        yield error("world-incomplete", path, what, back)
    for one in world.unfinished[:3]:
        what = "the rest of a copy that was interrupted: the world may not be whole"
        yield warning("world-incomplete", f"{path}/{one}", what, back)


def in_use(seen: Observation) -> Iterator[Finding]:
    """A mark in the world that a server has it open."""
    world, rule = seen.world, seen.game.world.in_use
    if world is None or world.holder is None or rule is None or seen.running is not None:
        return
    holder = world.holder
    path = f"{seen.game.world.path(world.name)}/{holder.file}"
    say = error if rule.refuses else warning
    if holder.state == "runs":
        what = f"process {holder.pid} ({holder.program}) has this world open: two that write it at once destroy it"
        yield error("world-in-use", path, what, "Stop that process first.")
    elif holder.state == "gone":
        what = f"left by process {holder.pid}, which is gone: that server did not end well"
        yield warning(
            "world-mark-left", path, what, f"A start removes it: {command_line('rhizon', 'start', seen.folder)}"
        )
    else:
        what = "the world is marked as in use, and nothing says by which process"
        yield say("world-in-use", path, what, f"Once no server uses this world, remove the file: {path}")


def _put_back(seen: Observation, world: WorldSeen) -> str:
    """What puts the world back: its last backup, or else a person's own copy."""
    if world.last_backup:
        restore = command_line("rhizon", "restore", seen.folder, "--only", "world", "--at", world.last_backup)
        return f"Put back the backup of {world.last_backup}: {restore}"
    anew = command_line("rhizon", "start", seen.folder, "--anyway")
    return f"There is no backup: copy the whole folder back. To begin a new one instead: {anew}"


def _recorded(seen: Observation) -> str:
    """The name of the world that was set."""
    setting = seen.game.world.name_setting
    return str(seen.instance.settings.get(setting, seen.game.settings[setting].default))


def shared(seen: Observation) -> Iterator[Finding]:
    """A world that another server has too, by a link: two that write it at once destroy it."""
    world = seen.world
    if world is None:
        return
    path = seen.game.world.path(world.name)
    for other, runs in world.shared.items():
        if runs and seen.running is None:
            what = f"the server {other}, which is running, has the same world: two that write it at once destroy it"
            yield error("world-shared", path, what, f"Stop that one first: {command_line('rhizon', 'stop', other)}")
        else:
            what = f"the server {other} has the same world: two that write it at once destroy it"
            yield warning("world-shared", path, what, "Never run both; better, give one of them a copy of its own.")


def newer(seen: Observation) -> Iterator[Finding]:
    """A world of a newer version of the game: an older server damages it."""
    world, target = seen.world, seen.lock.target.game_version
    if world is not None and world.exists and _is_newer(seen.game, world.raised_with, target):
        what = f"it was last played with {seen.game.title} {world.raised_with}, and the server is {target}"
        remedy = f"Update the server to {world.raised_with}, or restore an older backup of the world."
        yield error("world-newer", seen.game.world.path(world.name), what, remedy)


def _is_newer(game: GameDefinition, one: str, other: str) -> bool:
    versions = list(game.versions)
    if one in versions and other in versions:
        return versions.index(one) > versions.index(other)
    try:
        return parse_version(one) > parse_version(other)
    except ValueError:
        return False


def last_run(seen: Observation) -> Iterator[Finding]:
    """How the last run ended, where that was not well."""
    run = seen.last_run
    if run is not None and run.code:
        subject = run.culprit or "last run"
        log = f"Its log: {seen.folder}/.rhizon/last-run.log"
        if run.again:
            yield warning("last-run-failed", subject, f"the last two runs failed for the same: {run.what}", log)
        else:
            yield note("last-run-failed", subject, f"the last run failed: {run.what}", log)
