"""Copies of a server to start beside it: its files, a part of its content, settings of its own, no world or a copy of
it. The server's own folder is only read.

What Rhizon placed is linked from the store, and looked at after the start; everything else is copied, by shared blocks
where the disk can.
"""

import os
import re
import shutil
import threading
from collections.abc import Collection, Mapping
from pathlib import Path
from typing import Any

import msgspec

from rhizon.adapters.files import copy_shared, translated
from rhizon.adapters.inside import Inside
from rhizon.adapters.ledger import Entry
from rhizon.adapters.processes import alive, began
from rhizon.adapters.transact import RHIZON
from rhizon.adapters.world_files import world_units
from rhizon.app.host import Host
from rhizon.app.instance.native_files import write_edits
from rhizon.app.instance.reservations import others_than, ports_for
from rhizon.app.instance.state import InstanceState
from rhizon.core.allocate.port_roles import every_number, port_places
from rhizon.core.content_paths import enabled_name
from rhizon.core.errors import TrustError
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import OwnedFile
from rhizon.core.model.lock import Lock
from rhizon.core.model.setting import NAME_WORD
from rhizon.core.settings.apply import NativeEdits, edits_for
from rhizon.core.settings.derived import put_derived
from rhizon.core.words import command_line

__all__ = ["PREFIX", "Copies", "copies_room", "room_prefix"]

PREFIX = "isolate-"
# Nobody but this machine is to meet a copy.
QUIET: Mapping[str, str | bool] = {"address": "127.0.0.1", "visibility": False}


def copies_room(host: Host) -> Path:
    """The folder that copies are made in; what a run that was killed left there is removed."""
    room = host.places.runtimes.parent
    room.mkdir(parents=True, exist_ok=True)
    for left in room.glob(f"{PREFIX}*"):
        made_by = re.fullmatch(rf"{PREFIX}(\d{{1,9}})-(\d{{1,12}})-\w+", left.name)
        if made_by is not None and not alive(int(made_by[1]), int(made_by[2])):
            shutil.rmtree(left, ignore_errors=True)
    return room


def room_prefix() -> str:
    """Of a folder's name: which process it is of, by its number and the second in which it began."""
    return f"{PREFIX}{os.getpid()}-{began(os.getpid()):.0f}-"


def _stays(path: Path, left_out: Collection[Path]) -> bool:
    """Whether a copy is made without it: what is left out, and FIFOs and sockets, which a server makes itself."""
    return path in left_out or not (path.is_symlink() or path.is_file() or path.is_dir())


class Copies:
    """Makes copies of one server in ``room``, with any part of ``content`` (by id, paths in the server's folder). May
    be used from several threads: no two copies that exist have a port in common."""

    def __init__(self, host: Host, state: InstanceState, content: Mapping[str, Path], room: Path) -> None:
        self._host, self._state, self._content, self._room = host, state, content, room
        self._placing = threading.Lock()
        self._taken: dict[Path, Entry] = {}
        inventory = state.inventory.files
        self._sound: dict[str, tuple[int, int]] = {}  # size and mtime_ns of files of the store that were verified
        self._placed = {path: one for path, one in inventory.items() if not one.edited and not one.executable}

    def make(self, name: str, chosen: Collection[str], *, with_world: bool) -> Path:
        """The folder of a new copy. Raises StateError (disk full, no free ports), TrustError (a damaged store)."""
        folder = self._room / name
        state, home = self._state, self._state.home.folder
        left_out = {home / path for path in self._content.values()}
        left_out |= {home / RHIZON, home / (state.game.world.folder or RHIZON)}
        with state.home.inside() as inside:
            left_out |= {home / one for one in world_units(inside, state.game.world)}
        with translated("copy the server", folder):
            shutil.copytree(
                home,
                folder,
                symlinks=True,
                copy_function=_copied,
                ignore=lambda where, names: [one for one in names if _stays(Path(where, one), left_out)],
            )
            (folder / RHIZON).mkdir()
            with Inside(folder) as inside:
                for one in chosen:
                    self._bring(self._content[one], folder, inside)
            if with_world:
                self._copy_world(folder)
        write_edits(self._host.home(folder), self._edits(folder, chosen), frozenset())
        return folder

    def _bring(self, path: Path, folder: Path, inside: Inside) -> None:
        """One piece of content: what is in the store by a link, what is not by a copy."""
        home = self._state.home.folder
        source = home / path
        files = [one for one in source.rglob("*") if one.is_file()] if source.is_dir() else [source]
        for file in files:
            there = file.relative_to(home).as_posix()
            owned = self._placed.get(there)
            (folder / there).parent.mkdir(parents=True, exist_ok=True)
            if owned is None or file.stat().st_size != owned.size or not self._verified(owned):
                _copied(str(file), str(folder / there))
                continue
            try:
                inside.link_from(str(self._host.store.path(owned.sha256)), there)
            except OSError:
                _copied(str(file), str(folder / there))

    def _verified(self, owned: OwnedFile) -> bool:
        """Whether the store has these bytes; what was verified once and not written to since is not read again."""
        store = self._host.store
        facts = _size_and_time(store.path(owned.sha256))
        if facts is None or (self._sound.get(owned.sha256) != facts and not store.has(owned.sha256, owned.size)):
            return False
        self._sound[owned.sha256] = facts
        return True

    def verify(self) -> None:
        """Reads everything of the store that copies had. Raises TrustError where a server wrote to it."""
        for sha256 in self._sound:
            if not self._host.store.sound(sha256):
                self._refuse(sha256)

    def _refuse(self, sha256: str) -> None:
        self._host.store.drop(sha256)
        path = next(path for path, one in self._placed.items() if one.sha256 == sha256)
        raise TrustError(
            "content-changes-itself",
            f"a copy of the server changed {path} while it ran, which it shares with the store",
            hint=f"Put it back: {command_line('rhizon', 'repair', self._state.home.folder)}",
        )

    def _copy_world(self, folder: Path) -> None:
        game = self._state.game
        mark = Path(game.world.in_use.file).name if game.world.in_use is not None else None
        with self._state.home.inside() as inside:
            units = world_units(inside, game.world)
        for unit in units:
            source, place = self._state.home.folder / unit, folder / unit
            place.parent.mkdir(parents=True, exist_ok=True)
            if source.is_dir():
                shutil.copytree(
                    source, place, copy_function=_copied, ignore=lambda _, names: [one for one in names if one == mark]
                )
            elif source.is_file():
                _copied(str(source), str(place))

    def remove(self, folder: Path) -> None:
        """Takes a copy away. Raises TrustError where its server wrote to content that the store has, too."""
        shutil.rmtree(folder, ignore_errors=True)
        with self._placing:
            self._taken.pop(folder, None)
        for sha256, before in list(self._sound.items()):
            if _size_and_time(self._host.store.path(sha256)) != before and not self._host.store.sound(sha256):
                self._refuse(sha256)

    def _edits(self, folder: Path, chosen: Collection[str]) -> NativeEdits:
        """Ports that are free, an address of this machine only, and only the chosen content in the list of what is
        loaded."""
        state, game = self._state, self._state.game
        with self._placing:
            others = [*others_than(self._host, self._host.home(self._room)), *self._taken.values()]
            ports = ports_for(self._host, game, state.lock, {}, others)
            numbers = every_number(game, ports)
            self._taken[folder] = Entry(folder=str(folder), name="", game=game.id, note="", memory_mib=0, ports=numbers)
        extra = {role: port.store for role, port in port_places(game, state.lock).items()}
        edits = edits_for(game, _quiet(game), ports, extra)
        put_derived(edits, game, state.lock, state.instance.name, ports, state.instance.settings)
        place = game.loaders[state.lock.target.loader].enabled
        if place is not None:
            values: dict[str, Any] = edits.setdefault(place.file, (place.written, {}))[1]
            called = {one.id: enabled_name(game, state.lock, one) for one in state.lock.on_server()}
            for one in self._content:  # nothing is not the same as no: a list has a name or does not
                values[place.key.replace(NAME_WORD, called.get(one, one))] = True if one in chosen else None
        return edits

    def ports_of(self, folder: Path) -> dict[str, int]:
        """The number of each role of a copy."""
        with self._placing:
            taken = self._taken.get(folder)
        return {role: number for role, number in taken.ports.items() if "+" not in role} if taken is not None else {}

    def lock_of(self, chosen: Collection[str]) -> Lock:
        """The server's lock with the chosen content only."""
        releases = tuple(one for one in self._state.lock.releases if one.id in chosen or not one.on_server)
        return msgspec.structs.replace(self._state.lock, releases=releases)


def _quiet(game: GameDefinition) -> dict[str, str | int | bool]:
    """Settings by which a copy is met by nobody, as far as the game has them."""
    found: dict[str, str | int | bool] = {}
    for name, value in QUIET.items():
        definition = game.settings.get(name)
        if definition is not None and definition.type == ("flag" if isinstance(value, bool) else "text"):
            found[name] = value
    return found


def _size_and_time(file: Path) -> tuple[int, int] | None:
    try:
        facts = file.stat()
    except OSError:
        return None
    return facts.st_size, facts.st_mtime_ns


def _copied(source: str, place: str) -> str:
    """Copies a file for ``copytree``, and ends it at the first that cannot be. Raises StateError."""
    with translated("copy the server", Path(place)):
        copy_shared(Path(source), Path(place))
    return place
