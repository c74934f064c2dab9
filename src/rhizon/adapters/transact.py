"""Carrying out a plan: stage, journal, switch, record; or take back.

Layout in the instance's ``.rhizon/``: ``staging/`` holds the new files, ``undo/`` the old ones while the
switch runs, ``journal.json`` is there exactly while a switch has begun and not ended. Both folders stand once more in
``.rhizon-passing/`` of every folder inside the instance that lies on another file system, since renames do not cross
from one to another. The same code takes back a failure and recovers after a crash; running it twice is harmless, since
it looks only at where each file lies.
"""

import contextlib
import os
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.adapters.files import remove_tree, stamp, sync_folder, translated, write_atomic
from rhizon.adapters.store import Store
from rhizon.core.errors import StateError
from rhizon.core.model.decode import encode_json
from rhizon.core.names import RelPath, safe_path
from rhizon.core.plan import Plan

__all__ = ["BLOBS", "JOURNAL", "RHIZON", "apply", "recover", "write_alone"]

RHIZON = RelPath(".rhizon")
PASSING = ".rhizon-passing"
JOURNAL = "journal.json"
BLOBS = "kept/blobs"


class _Entry(msgspec.Struct, frozen=True):
    """One rename, or two. ``room`` is the folder that holds the ``staging`` and ``undo`` of its file system."""

    action: Literal["place", "replace", "remove"]
    path: str
    room: str = RHIZON


def apply(
    folder: Path,
    plan: Plan,
    records: Mapping[str, bytes],
    store: Store,
    reached: Callable[[str], None] = lambda _point: None,
    *,
    blobs: Mapping[str, RelPath] | None = None,
    trees: Mapping[RelPath, Callable[[Path], None]] | None = None,
) -> None:
    """Turns the folder into what the plan says and writes ``records`` (names below ``.rhizon/``) with it.

    ``blobs`` keeps files as they are now under their hash, for a later undo. ``trees`` are whole folders to put in
    place of what is there: each is made by its function at the path that it gets.
    Raises :class:`~rhizon.core.errors.StateError` (no room, not allowed) or TrustError (a damaged store);
    the folder is then what it was before. ``reached`` is told each point of the way: "staged", "journalled",
    "away PATH", "in PATH", "ended".
    """
    existed = folder.exists()
    own = folder / RHIZON
    stage = _Stage(folder)
    try:
        with translated("write the instance", folder):
            own.mkdir(parents=True, exist_ok=True)
            remove_tree(own / "staging")
            stage.plan(plan, store)
            stage.trees(trees or {})
            stage.blobs(blobs or {})
            stage.records(records)
            reached("staged")
            write_alone(folder, own / JOURNAL, encode_json(stage.entries))
            reached("journalled")
            _switch(folder, stage.entries, reached)
            (own / JOURNAL).unlink()
            sync_folder(own)
            reached("ended")
    except BaseException:
        recover(folder)
        _clear(folder, stage.rooms)
        if not existed:
            remove_tree(folder)
        raise
    _clear(folder, stage.rooms)
    for entry in stage.entries:
        if entry.action == "remove":  # a loader may take an empty folder for content
            _drop_empty(folder, safe_path(entry.path), least=2)


def recover(folder: Path) -> bool:
    """Takes back a switch that did not end. True when there was one."""
    own = folder / RHIZON
    journal = own / JOURNAL
    if not journal.is_file():
        if own.is_dir():
            _clear(folder, {RHIZON})
        return False
    with translated("take back an unfinished change", folder):
        entries = _read_journal(journal)
        for entry in reversed(entries):
            path = safe_path(entry.path)
            room = folder / safe_path(entry.room)
            _take_back(folder / path, room / "staging" / path, room / "undo" / path, entry.action)
            if entry.action == "place":
                _drop_empty(folder, path)
        journal.unlink()
        sync_folder(own)
    _clear(folder, {entry.room for entry in entries} | {RHIZON})
    return True


def write_alone(folder: Path, path: Path, data: bytes, mode: int = 0o644) -> None:
    """Replaces one file of the instance in one step, outside a plan: its bytes of before need not be kept.

    What is half written lies in ``staging/``, which the next command clears. The caller holds the instance.
    Raises OSError.
    """
    room = folder / RHIZON / "staging"
    room.mkdir(parents=True, exist_ok=True)
    path.parent.mkdir(parents=True, exist_ok=True)
    one_file_system = room.stat().st_dev == path.parent.stat().st_dev
    try:
        write_atomic(path, data, mode, room=room if one_file_system else None)
    finally:
        with contextlib.suppress(OSError):  # a change is being staged
            room.rmdir()


class _Stage:
    """Everything that is written before the switch, and the entries of the journal for it."""

    def __init__(self, folder: Path) -> None:
        self.entries: list[_Entry] = []
        self.rooms: set[str] = {RHIZON}
        self._folder = str(folder)
        self._made: set[str] = set()
        self._room_of: dict[str, str] = {}

    def _room(self, path: str) -> str:
        """The room on the file system where ``path`` will lie."""
        parent = path.rpartition("/")[0]
        if parent not in self._room_of:
            here = os.stat(f"{self._folder}/{RHIZON}").st_dev  # noqa: PTH116
            lowest = parent
            while lowest and not os.path.isdir(f"{self._folder}/{lowest}"):  # noqa: PTH112
                lowest = lowest.rpartition("/")[0]
            room: str = RHIZON
            if os.stat(f"{self._folder}/{lowest}").st_dev != here:  # noqa: PTH116
                device = os.stat(f"{self._folder}/{lowest}").st_dev  # noqa: PTH116
                while os.stat(f"{self._folder}/{lowest}/..").st_dev == device:  # noqa: PTH116
                    lowest = lowest.rpartition("/")[0]
                room = f"{lowest}/{PASSING}"
                remove_tree(Path(self._folder) / room / "staging")
                self.rooms.add(room)
            self._room_of[parent] = room
        return self._room_of[parent]

    def _target(self, action: Literal["place", "replace"], path: str) -> str:
        """Where a new file is to be written; its entry is noted."""
        room = self._room(path)
        self.entries.append(_Entry(action, path, room))
        target = f"{self._folder}/{room}/staging/{path}"
        parent = target.rpartition("/")[0]
        if parent not in self._made:
            os.makedirs(parent, exist_ok=True)  # noqa: PTH103
            self._made.add(parent)
        return target

    def plan(self, plan: Plan, store: Store) -> None:
        for step in plan.changes:
            if step.action == "remove":
                self.entries.append(_Entry("remove", step.path, self._room(step.path)))
                continue
            target = self._target("place" if step.action == "place" else "replace", step.path)
            if step.path in plan.contents:
                written = plan.contents[step.path]
                write_atomic(Path(target), written.data, written.mode)
            elif step.wanted is not None:
                file = step.wanted
                store.lay_out(file.sha256, target, link=file.linked, executable=file.executable, what=file.origin)

    def trees(self, trees: Mapping[RelPath, Callable[[Path], None]]) -> None:
        for path, make in trees.items():
            there = os.path.lexists(f"{self._folder}/{path}")
            make(Path(self._target("replace" if there else "place", path)))

    def blobs(self, blobs: Mapping[str, RelPath]) -> None:
        for sha256, path in blobs.items():
            kept = f"{RHIZON}/{BLOBS}/{sha256}"
            if not os.path.lexists(f"{self._folder}/{kept}"):
                _keep(f"{self._folder}/{path}", self._target("place", kept), sha256)

    def records(self, records: Mapping[str, bytes]) -> None:
        for name, data in records.items():
            there = os.path.lexists(f"{self._folder}/{RHIZON}/{name}")
            write_atomic(Path(self._target("replace" if there else "place", f"{RHIZON}/{name}")), data)


def _keep(path: str, kept: str, sha256: str) -> None:
    """A copy of a file as it is now; another name for it where nobody writes into it (content in the store)."""
    facts = os.stat(path)  # noqa: PTH116
    if facts.st_nlink > 1 and not facts.st_mode & 0o222:
        with contextlib.suppress(OSError):
            os.link(path, kept)
            return
    data = Path(path).read_bytes()
    write_atomic(Path(kept), data, 0o600 | facts.st_mode & 0o100)
    stamp(kept, sha256)


def _switch(folder: Path, entries: list[_Entry], reached: Callable[[str], None]) -> None:
    root = str(folder)
    touched = set()
    made = set()

    def there(parent: str) -> str:
        if parent not in made:
            os.makedirs(parent, exist_ok=True)  # noqa: PTH103
            made.add(parent)
        return parent

    for entry in entries:
        final = f"{root}/{entry.path}"
        if entry.action != "place":
            old = f"{root}/{entry.room}/undo/{entry.path}"
            there(old.rpartition("/")[0])
            os.replace(final, old)  # noqa: PTH105
            reached(f"away {entry.path}")
        if entry.action != "remove":
            touched.add(there(final.rpartition("/")[0]))
            os.replace(f"{root}/{entry.room}/staging/{entry.path}", final)  # noqa: PTH105
            reached(f"in {entry.path}")
        else:
            touched.add(final.rpartition("/")[0])
    for parent in sorted(touched):
        sync_folder(Path(parent))


def _take_back(final: Path, staged: Path, old: Path, action: str) -> None:
    if action != "remove" and not os.path.lexists(staged) and (action == "place" or os.path.lexists(old)):
        if final.is_dir() and not final.is_symlink():
            remove_tree(final)
        else:
            final.unlink(missing_ok=True)
    if action != "place" and os.path.lexists(old):
        old.replace(final)


def _clear(folder: Path, rooms: set[str]) -> None:
    """Takes away what was staged and what was put aside, once nothing needs it."""
    for room in rooms:
        with translated("clear up after a change", folder / room):
            remove_tree(folder / room / "staging")
            remove_tree(folder / room / "undo")
            if room != RHIZON and (folder / room).is_dir():
                (folder / room).rmdir()


def _drop_empty(folder: Path, path: RelPath, least: int = 1) -> None:
    """Folders of a file that is gone, as far as they are empty and lie at least so deep (1: in the instance's own)."""
    for parent in Path(path).parents:
        if len(parent.parts) < least or parent == Path(RHIZON):
            return
        with contextlib.suppress(OSError):
            (folder / parent).rmdir()


def _read_journal(journal: Path) -> list[_Entry]:
    try:
        return msgspec.json.decode(journal.read_bytes(), type=list[_Entry])
    except msgspec.MsgspecError:
        raise StateError(
            "journal-damaged",
            f"the journal of an unfinished change is damaged: {journal}",
            hint=f"The old files lie in {journal.parent / 'undo'}, the new ones in {journal.parent / 'staging'}: "
            "put back by hand what is missing, then delete the journal.",
        ) from None
