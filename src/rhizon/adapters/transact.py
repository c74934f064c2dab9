"""Carrying out a plan: stage, journal, switch, commit; or roll back.

Layout in the instance's ``.rhizon/``: ``staging/`` holds the new files, ``undo/`` the old ones while the switch runs,
``journal.json`` is there exactly while a switch has begun and not ended: removing it is the commit point. Both folders
exist once more in ``.rhizon-passing/`` of every folder inside the instance that is on another file system, since
renames do not cross from one to another.

A file that is replaced gets a second name in ``undo/`` first and is then replaced by one rename, so that there is no
moment without it. (Folders, and file systems without hard links, need two renames.) The same code rolls back after a
failure and after a crash; running it twice is harmless, since it looks only at where each file is.
"""

import contextlib
import hashlib
import stat
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Literal, NamedTuple

import msgspec

from rhizon import interrupts
from rhizon.adapters.files import translated
from rhizon.adapters.inside import Inside
from rhizon.adapters.store import Store
from rhizon.core.errors import StateError
from rhizon.core.model.decode import encode_json
from rhizon.core.names import RelPath, safe_path
from rhizon.core.plan import Plan, Step

__all__ = [
    "BLOBS",
    "JOURNAL",
    "RHIZON",
    "Extras",
    "MakeTree",
    "apply",
    "drop_empty",
    "recover",
    "unfinished",
    "write_alone",
]

RHIZON = RelPath(".rhizon")
PASSING = ".rhizon-passing"
JOURNAL = "journal.json"
BLOBS = "kept/blobs"
_STAGING = f"{RHIZON}/staging"
# Modes that Rhizon gives to what it places; another one was chosen by a person and stays.
_OWN_MODES = (0o444, 0o644, 0o755)

# Makes a whole folder at the path that it gets, in a folder where nothing is yet.
MakeTree = Callable[[Inside, RelPath], None]


class _Entry(msgspec.Struct, frozen=True):
    """One change of one path. ``room`` is the folder that holds the ``staging`` and ``undo`` of its file system;
    ``made`` is how deep the uppermost of its folders is that was not there before (1: in the instance's own)."""

    action: Literal["place", "replace", "remove"]
    path: str
    room: str = RHIZON
    made: int = 1


class Extras(NamedTuple):
    """What a transaction does beside its plan. ``blobs`` keeps files as they are now under their hash, for a later
    undo; ``trees`` are whole folders to put in place of what is there; ``linked`` are folders outside that links may
    lead to."""

    blobs: Mapping[str, RelPath] = {}
    trees: Mapping[RelPath, MakeTree] = {}
    linked: tuple[Path, ...] = ()


def apply(
    folder: Path,
    plan: Plan,
    records: Mapping[str, bytes],
    store: Store,
    extras: Extras = Extras(),
    reached: Callable[[str], None] = lambda _point: None,
) -> None:
    """Turns the folder into what the plan says and writes ``records`` (names below ``.rhizon/``) with it.

    ``reached`` is called at each point: "staged", "journalled", "away PATH", "in PATH", "committed", "ended".

    Raises :class:`~rhizon.core.errors.StateError` (no room, not allowed, a link in the way) or TrustError (a damaged
    store), and KeyboardInterrupt; the folder is then what it was before. After the commit point nothing is raised.
    """
    existed = folder.exists()
    stage: _Stage | None = None
    committed = False
    try:
        with translated("write the instance", folder):
            if not existed:
                folder.mkdir(parents=True)
            inside = Inside(folder, extras.linked)
            try:
                stage = _Stage(inside)
                stage.begin()
                stage.plan(plan, store)
                stage.trees(extras.trees)
                stage.blobs(extras.blobs)
                stage.records(records)
                reached("staged")
                _replace(inside, f"{RHIZON}/{JOURNAL}", encode_json(stage.entries))
                reached("journalled")
                _switch(inside, stage.entries, reached)
                with interrupts.held():
                    inside.unlink(f"{RHIZON}/{JOURNAL}")
                    committed = True
                    interrupts.commit()
                    inside.sync(RHIZON)
                    reached("committed")
                    with contextlib.suppress(StateError, OSError):  # the next command clears what is left
                        _clear(inside, stage.rooms)
                        for entry in stage.entries:
                            if entry.action == "remove":  # a loader may take an empty folder for content
                                drop_empty(inside, safe_path(entry.path), least=2)
                    reached("ended")
            finally:
                inside.close()
    except BaseException:
        if not committed:
            with interrupts.held():
                _roll_back(folder, stage.rooms if stage is not None else set(), existed=existed, linked=extras.linked)
        raise


def _roll_back(folder: Path, rooms: set[str], *, existed: bool, linked: tuple[Path, ...]) -> None:
    recover(folder, linked)
    with translated("clear up after a change", folder), Inside(folder, linked) as inside:
        _clear(inside, rooms)
        if not existed:
            for name in inside.names(""):
                inside.remove(name)
    if not existed:
        folder.rmdir()


def recover(folder: Path, linked: tuple[Path, ...] = ()) -> bool:
    """Rolls back a switch that did not end. True when there was one. Raises :class:`StateError`."""
    if not folder.is_dir():
        return False
    with translated("roll back an unfinished change", folder), Inside(folder, linked) as inside:
        if not inside.is_file(f"{RHIZON}/{JOURNAL}"):
            if inside.is_folder(RHIZON):
                _clear(inside, {RHIZON})
            return False
        entries = _read_journal(inside)
        for entry in reversed(entries):
            _take_back(inside, entry)
        inside.unlink(f"{RHIZON}/{JOURNAL}")
        inside.sync(RHIZON)
        _clear(inside, {entry.room for entry in entries} | {RHIZON})
    return True


def unfinished(folder: Path) -> dict[str, str | None] | None:
    """What a switch that did not end has changed: path to where its valid bytes are (None: nowhere, the path is new).
    None when no change is unfinished. Raises :class:`StateError` for a damaged journal."""
    if not (folder / RHIZON / JOURNAL).is_file():  # the usual case needs no handles
        return None
    with translated("read an unfinished change", folder), Inside(folder) as inside:
        valid: dict[str, str | None] = {}
        for entry in _read_journal(inside):
            old = f"{entry.room}/undo/{entry.path}"
            if entry.action == "place":
                valid[entry.path] = None
            elif inside.lstat(old) is not None:
                valid[entry.path] = old
    return valid


def write_alone(folder: Path, path: str, data: bytes, mode: int = 0o644, linked: tuple[Path, ...] = ()) -> None:
    """Replaces one file of the instance (``path`` is relative) in one step, outside a plan: its bytes of before need
    not be kept. What is half written is in ``staging/``, which the next command clears. The caller holds the instance.
    Raises OSError, :class:`StateError`."""
    with Inside(folder, linked) as inside:
        _replace(inside, path, data, mode)


def _replace(inside: Inside, path: str, data: bytes, mode: int = 0o644) -> None:
    parent = path.rpartition("/")[0]
    inside.make_folder(_STAGING)
    if parent:
        inside.make_folder(parent)
    same_device = inside.device(parent) == inside.device(_STAGING)
    inside.replace(path, data, mode, room=_STAGING if same_device else parent)
    with contextlib.suppress(OSError):  # a change is being staged
        inside.remove_folder(_STAGING)


class _Stage:
    """Everything that is written before the switch, and the entries of the journal for it."""

    def __init__(self, inside: Inside) -> None:
        self.entries: list[_Entry] = []
        self.rooms: set[str] = {RHIZON}
        self._inside = inside
        self._room_of: dict[str, str] = {}
        self._made: dict[str, int] = {}

    def begin(self) -> None:
        """Empties what an earlier change may have left."""
        self._inside.make_folder(RHIZON)
        self._inside.remove(_STAGING)
        self._inside.make_folder(_STAGING)

    def _room(self, path: str) -> str:
        """The room on the file system where ``path`` is or will be."""
        parent = path.rpartition("/")[0]
        if parent not in self._room_of:
            inside = self._inside
            lowest = parent
            while lowest and inside.lstat(lowest) is None:
                lowest = lowest.rpartition("/")[0]
            there = len(lowest.split("/")) if lowest else 0
            room: str = RHIZON
            device = inside.device(lowest)
            if device != inside.device(RHIZON):
                above = lowest.rpartition("/")[0]
                while above and inside.device(above) == device:
                    lowest, above = above, above.rpartition("/")[0]
                room = f"{lowest}/{PASSING}"
                inside.remove(room)  # what a command that was killed after its commit has left there
                self.rooms.add(room)
            self._room_of[parent] = room
            self._made[parent] = there + 1
        return self._room_of[parent]

    def _target(self, action: Literal["place", "replace"], path: str) -> str:
        """Where a new file is to be written; its entry is noted."""
        room = self._room(path)
        self.entries.append(_Entry(action, path, room, self._made[path.rpartition("/")[0]]))
        return f"{room}/staging/{path}"

    def plan(self, plan: Plan, store: Store) -> None:
        """Stages every file that the plan places or replaces."""
        inside = self._inside
        for step in plan.changes:
            if step.action == "remove":
                self.entries.append(_Entry("remove", step.path, self._room(step.path)))
                continue
            owner = inside.owner_at(step.path)  # refuses what could not be kept, before anything is changed
            target = self._target("place" if step.action == "place" else "replace", step.path)
            if step.path in plan.contents:
                written = plan.contents[step.path]
                inside.write_new(target, written.data, written.mode, owner)
            elif step.wanted is not None:
                mode = self._mode(step)
                store.lay_out(step.wanted, inside, target, mode=mode, owner=owner)

    def _mode(self, step: Step) -> int | None:
        """The mode that a person gave to the file that is replaced; None where it has one of ours."""
        facts = self._inside.lstat(step.path) if step.action == "replace" else None
        if facts is None or stat.S_IMODE(facts.st_mode) in _OWN_MODES:
            return None
        assert step.wanted is not None
        return stat.S_IMODE(facts.st_mode) & 0o777 | (0o100 if step.wanted.executable else 0)

    def trees(self, trees: Mapping[RelPath, MakeTree]) -> None:
        """Stages whole folders."""
        for path, make in trees.items():
            there = self._inside.lstat(path) is not None
            make(self._inside, RelPath(self._target("replace" if there else "place", path)))

    def blobs(self, blobs: Mapping[str, RelPath]) -> None:
        """Stages copies of files under their hash."""
        for sha256, path in blobs.items():
            kept = f"{RHIZON}/{BLOBS}/{sha256}"
            if self._inside.lstat(kept) is None:
                _keep(self._inside, path, self._target("place", kept), sha256)

    def records(self, records: Mapping[str, bytes]) -> None:
        """Stages documents of the instance."""
        for name, data in records.items():
            path = f"{RHIZON}/{name}"
            there = self._inside.lstat(path) is not None
            owner = self._inside.owner_at(path)
            self._inside.write_new(self._target("replace" if there else "place", path), data, 0o644, owner)


def _keep(inside: Inside, path: str, kept: str, sha256: str) -> None:
    """A copy of a file as it is now; another name for it where no one writes into it (content in the store)."""
    facts = inside.lstat(path)
    assert facts is not None
    if facts.st_nlink > 1 and not facts.st_mode & 0o222:
        with contextlib.suppress(OSError):
            inside.link(path, kept)
            return
    data = inside.read(path)
    if hashlib.sha256(data).hexdigest() != sha256:
        raise StateError(
            "file-changing",
            f"{inside.root / path} changed while it was being saved for undo",
            hint="Stop the program that writes to it, then run the same command again.",
        )
    inside.write_new(kept, data, 0o600 | facts.st_mode & 0o100, inside.owner_at(kept))


def _switch(inside: Inside, entries: list[_Entry], reached: Callable[[str], None]) -> None:
    """Renames every staged file into place; what it replaces gets a second name first."""
    touched = set()
    for entry in entries:
        final, old, staged = entry.path, f"{entry.room}/undo/{entry.path}", f"{entry.room}/staging/{entry.path}"
        touched.add(final.rpartition("/")[0])
        by_one_rename = entry.action == "replace" and not inside.is_folder(staged) and _linked(inside, final, old)
        if entry.action != "place" and not by_one_rename:
            inside.rename(final, old)
            reached(f"away {final}")
        if entry.action != "remove":
            inside.rename(staged, final)
            reached(f"in {final}")
    for parent in sorted(touched):
        inside.sync(parent)


def _linked(inside: Inside, final: str, old: str) -> bool:
    """Gives the file a second name; False where that cannot be: it is a folder, or the system knows no hard links."""
    try:
        inside.link(final, old)
    except (OSError, NotImplementedError):
        return False
    return True


def _take_back(inside: Inside, entry: _Entry) -> None:
    """Undoes one entry of the journal; harmless where it was never done or is undone already."""
    path, old, staged = entry.path, f"{entry.room}/undo/{entry.path}", f"{entry.room}/staging/{entry.path}"
    if entry.action == "place":
        if inside.lstat(staged) is None:
            inside.remove(path)
        drop_empty(inside, safe_path(path), entry.made)
        return
    before = inside.lstat(old)
    if before is None:
        return
    now = inside.lstat(path)
    if now is not None and (now.st_dev, now.st_ino) == (before.st_dev, before.st_ino):
        inside.unlink(old)  # it has its second name and was not replaced yet
        return
    if now is not None and (stat.S_ISDIR(now.st_mode) or stat.S_ISDIR(before.st_mode)):
        inside.remove(path)  # a rename replaces a file, not a folder
    inside.rename(old, path)


def _clear(inside: Inside, rooms: set[str]) -> None:
    """Removes what was staged and what was put aside, once nothing needs it."""
    for room in rooms:
        for name in ("staging", "undo"):
            inside.remove(f"{room}/{name}")
        if room != RHIZON and inside.is_folder(room):
            inside.remove_folder(room)


def drop_empty(inside: Inside, path: RelPath, least: int = 1) -> None:
    """Removes the folders of a file that is gone, as far as they are empty and at least so deep (1: in the instance's
    own)."""
    parts = path.split("/")[:-1]
    while len(parts) >= least and parts != [RHIZON]:
        try:
            inside.remove_folder("/".join(parts))
        except OSError:
            return
        parts.pop()


def _read_journal(inside: Inside) -> list[_Entry]:
    try:
        return msgspec.json.decode(inside.read(f"{RHIZON}/{JOURNAL}"), type=list[_Entry])
    except msgspec.MsgspecError:
        where = inside.root / RHIZON
        raise StateError(
            "journal-damaged",
            f"the journal of an unfinished change is damaged: {where / JOURNAL}",
            hint=f"The old files are in {where / 'undo'}, the new ones in {where / 'staging'}: move back by hand what "
            "is missing, then delete the journal.",
        ) from None
