"""Back to what a backup holds: all of it, the world or the settings, in place or in a new folder."""

import contextlib
import hashlib
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

import msgspec

from rhizon.adapters.files import make_folders, translated, write_atomic
from rhizon.adapters.games import ENDING
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.ledger import Entry
from rhizon.app.foresee.foresee import foresee_after
from rhizon.app.foresee.known_worlds import remember_world
from rhizon.app.host import Host
from rhizon.app.instance.change import apply_change
from rhizon.app.instance.edited_files import native_edits
from rhizon.app.instance.exclusive import exclusive, require_stopped
from rhizon.app.instance.native_files import understood
from rhizon.app.instance.reservations import entry_of, others_than, ports_for, reserved, server_name
from rhizon.app.instance.state import InstanceState, require_instance_state
from rhizon.app.instance.worlds import world_folder
from rhizon.app.keep.find_backup import Sought, find_backup
from rhizon.app.keep.roll_back import (
    Part,
    RollBackResult,
    RollBackTarget,
    WorldCopy,
    plan_new_instance,
    roll_back,
    world_trees,
)
from rhizon.app.reporter import Reporter
from rhizon.core.changes import Changes
from rhizon.core.errors import InputError, StateError
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance
from rhizon.core.model.kept import KeptFile, KeptState
from rhizon.core.plan import Plan
from rhizon.core.settings.dialects import DIALECTS
from rhizon.core.words import command_line

__all__ = ["RestoreWishes", "restore"]


class RestoreWishes(NamedTuple):
    """What a person asks for: which backup, and which part of it; of a new server its ``name``, and that it is to have
    no world; the ``catalogs`` that its files are fetched from here."""

    sought: Sought = Sought()
    part: Part = "all"
    stop_first: bool = False
    dry_run: bool = False
    name: str | None = None
    without_world: bool = False
    catalogs: tuple[str, ...] = ()


def restore(host: Host, folder: Path, reporter: Reporter, wishes: RestoreWishes) -> RollBackResult:
    """Makes the instance in ``folder`` what a backup says. A folder that is not an instance becomes one, with ports of
    its own; so does an instance that the backup is not of, which keeps its ports. Raises InputError (no such backup),
    TrustError (it is damaged) and what :func:`~rhizon.app.keep.roll_back.roll_back` raises."""
    home = host.home(folder)
    with contextlib.ExitStack() as stack:
        if not wishes.dry_run:
            found = find_backup(host, folder, wishes.sought)  # refused before anything is made
            stack.enter_context(exclusive(host, home, reporter))
            require_stopped(host, home, reporter, stop_first=wishes.stop_first)
        else:
            found = find_backup(host, folder, wishes.sought)
        copy = _with_catalogs(WorldCopy(*found), wishes.catalogs)
        lent = Path(stack.enter_context(tempfile.TemporaryDirectory(prefix="rhizon-games-")))
        host.lent_games = lent
        stack.callback(setattr, host, "lent_games", None)
        new_games = _lend_definitions(host, copy, lent)
        _take_whole(host, copy)  # a dry run looks into the files, too; the store is a cache
        if wishes.without_world:
            copy = copy._replace(backup=msgspec.structs.replace(copy.backup, world={}, empty=()))
        if wishes.part == "world" and not copy.backup.world:
            raise InputError(
                "no-such-backup",
                f"the backup of {copy.backup.when} contains no world",
                hint=f"See all of them: {command_line('rhizon', 'backup', folder, '--list')}",
            )
        if not home.is_ours:
            done = _anew(host, home, copy, reporter, wishes)
        else:
            done = _in_place(host, home.required(), copy, reporter, wishes)
        if wishes.dry_run:
            return done
        _keep_definitions(host, new_games, reporter)
        state = require_instance_state(host, home)
        world = world_folder(home, state.game, state.instance)
        if world.exists():
            remember_world(home, world.name)
        foreseen = foresee_after(host, home, ("content", "settings", "ports", "world", "disk"))
        return msgspec.structs.replace(done, findings=(*done.findings, *foreseen))


def _with_catalogs(copy: WorldCopy, catalogs: tuple[str, ...]) -> WorldCopy:
    """The same of a server that has these catalogs: where its files are fetched from on this machine."""
    if not catalogs:
        return copy
    here = tuple(one if "://" in one else str(Path(one).absolute()) for one in catalogs)
    state = copy.backup.state
    instance = msgspec.structs.replace(state.instance, catalogs=here)
    state = msgspec.structs.replace(state, instance=instance)
    return copy._replace(backup=msgspec.structs.replace(copy.backup, state=state))


def _take_whole(host: Host, copy: WorldCopy) -> None:
    """Puts what a whole backup has beside worlds and settings into the store."""
    repository, backup = copy
    for path, saved in backup.whole.items():
        kept = backup.state.files.get(path)
        if kept is not None and not host.store.has(kept.sha256, kept.size):
            hashed = hashlib.sha256()
            with host.store.incoming() as into:
                for data in repository.chunks_of(saved):
                    hashed.update(data)
                    into.write(data)
                if hashed.hexdigest() == kept.sha256:  # else it changed while it was saved: the catalog has it
                    host.store.keep(into, kept.sha256)


def _lend_definitions(host: Host, copy: WorldCopy, folder: Path) -> dict[str, str]:
    """Writes the definitions that the backup has and this machine has not, for as long as it is restored; answers
    their texts."""
    known = host.games(Path(copy.backup.state.instance.source).parent).files()
    new = {game: text for game, text in copy.backup.definitions.items() if game not in known}
    for game, text in new.items():
        (folder / f"{game}{ENDING}").write_text(text, "utf-8")
    return new


def _keep_definitions(host: Host, new: Mapping[str, str], reporter: Reporter) -> None:
    """All went well: they are this machine's from now on."""
    for game, text in new.items():
        file = host.places.config / "games" / f"{game}{ENDING}"
        with translated("write the game's definition", file):
            make_folders(file.parent)
            write_atomic(file, text.encode())
        reporter.done(f"the definition of {game} is now {file}")


def _with_runtime_here(host: Host, game: GameDefinition, instance: Instance) -> Instance:
    """The same with a runtime of this machine, where the one that it had is not here."""
    had = instance.runtime
    if had is None or Path(had.program).is_file():
        return instance
    for one in host.runtimes(game):
        if one.report is not None and one.report.major == had.major:
            here = msgspec.structs.replace(had, version=one.report.version, program=one.program)
            return msgspec.structs.replace(instance, runtime=here)
    return instance  # a check says what is missing


def _in_place(
    host: Host, home: InstanceFolder, copy: WorldCopy, reporter: Reporter, wishes: RestoreWishes
) -> RollBackResult:
    """The server as it is goes back to what the backup says."""
    backup, part = copy.backup, wishes.part
    state = backup.state
    texts: dict[str, bytes] = {}
    if backup.folder != str(home.folder):  # of another server: this one stays at its own ports
        here = home.instance()
        ports = {role: here.ports.get(role, number) for role, number in state.instance.ports.items()}
        instance = msgspec.structs.replace(state.instance, ports=ports, name=here.name)
        texts = _with_ports(_as_state(host, home, state, instance), _texts(copy))
        state = msgspec.structs.replace(state, instance=instance)

    def bytes_of(path: str, _file: KeptFile) -> bytes | None:
        if path in texts:
            return texts[path]
        return copy.repository.bytes_of(backup.settings[path]) if path in backup.settings else None

    target = RollBackTarget(
        state=state,
        to=backup.when,
        why=f"restore {'all' if part == 'all' else 'the ' + part} of {backup.when}",
        bytes_of=bytes_of,
        world=copy if part in ("all", "world") else None,
        part=part,
    )
    return roll_back(host, require_instance_state(host, home), target, reporter, dry_run=wishes.dry_run)


def _texts(copy: WorldCopy) -> dict[str, bytes]:
    """The settings files of a backup."""
    return {path: copy.repository.bytes_of(file) for path, file in copy.backup.settings.items()}


def _as_state(host: Host, home: InstanceFolder, kept: KeptState, instance: Instance) -> InstanceState:
    """The server in a folder as a backup has it, with another record."""
    game = host.game_of(instance, kept.lock)
    return InstanceState(home=home, game=game, lock=kept.lock, instance=instance, inventory=kept.inventory)


def _with_ports(state: InstanceState, texts: Mapping[str, bytes]) -> dict[str, bytes]:
    """Settings files with the ports of the server in them."""
    edits = native_edits(state, {})
    made = dict(texts)
    for path, (dialect, values) in edits.items():
        if path in made:
            with understood(path):
                made[path] = DIALECTS[dialect].edit(made[path], values)
    return made


def _anew(
    host: Host, home: InstanceFolder, copy: WorldCopy, reporter: Reporter, wishes: RestoreWishes
) -> RollBackResult:
    """A new server from a backup, with ports and a name of its own."""
    if wishes.part != "all":
        raise StateError(
            "no-instance",
            f"there is no server in {home.folder} to restore the {wishes.part} into",
            hint="Restore all of it (without --only), or name an existing server.",
        )
    if home.folder.exists() and any(one.name != ".rhizon" for one in home.folder.iterdir()):
        raise StateError(
            "folder-not-ours",
            f"{home.folder} is not empty and is not a server's folder",
            hint="Name a new folder; Rhizon does not mix its files with other files.",
        )
    backup = copy.backup
    state = backup.state
    game = host.game_of(state.instance, state.lock)

    def decide(others: Sequence[Entry]) -> tuple[Instance, Entry]:
        ports = ports_for(host, game, state.lock, state.instance.ports, others)
        name = server_name(wishes.name, None, state.instance.name, others)
        instance = _with_runtime_here(host, game, state.instance)
        instance = msgspec.structs.replace(instance, ports=ports, name=name)
        return instance, entry_of(game, home, instance)

    def plan(instance: Instance) -> tuple[InstanceState, Plan]:
        after = _as_state(host, home, state, instance)
        texts = _with_ports(after, _texts(copy))
        return after, plan_new_instance(host, game, state, texts, reporter)

    if wishes.dry_run:
        after, planned = plan(decide(others_than(host, home))[0])
    else:
        with reserved(host, home, decide) as instance:
            after, planned = plan(instance)
            reporter.step(f"restoring {backup.name} of {backup.when}")
            apply_change(host.store, None, after, planned, "restore", trees=world_trees(home, game, copy))
            reporter.done(f"files: {len(planned.steps)} placed")
    return RollBackResult(
        folder=str(home.folder),
        name=after.instance.name,
        to=backup.when,
        planned=wishes.dry_run,
        steps=planned.steps,
        diffs=(),
        changes=Changes(),
        kept=None,
        backup=None,
        world=f"as it was on {backup.when}",
    )
