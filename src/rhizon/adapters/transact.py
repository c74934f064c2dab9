"""Carrying out a plan: stage, journal, switch, record; or take back.

Layout in the instance's ``.rhizon/``: ``staging/`` holds the new files, ``undo/`` the old ones while the
switch runs, ``journal.json`` is there exactly while a switch has begun and not ended. The same code takes
back a failure and recovers after a crash; running it twice is harmless, since it looks only at where each
file lies.
"""

import contextlib
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.adapters.files import remove_tree, sync_folder, translated, write_atomic
from rhizon.adapters.store import Store
from rhizon.core.errors import StateError
from rhizon.core.model.decode import encode_json
from rhizon.core.names import RelPath, safe_path
from rhizon.core.plan import Plan

__all__ = ["JOURNAL", "RHIZON", "apply", "recover"]

RHIZON = RelPath(".rhizon")
JOURNAL = "journal.json"


class _Entry(msgspec.Struct, frozen=True):
    action: Literal["place", "replace", "remove"]
    path: str


def apply(
    folder: Path,
    plan: Plan,
    records: Mapping[str, bytes],
    store: Store,
    reached: Callable[[str], None] = lambda _point: None,
) -> None:
    """Turns the folder into what the plan says and writes ``records`` (names below ``.rhizon/``) with it.

    Raises :class:`~rhizon.core.errors.StateError` (no room, not allowed) or TrustError (a damaged store);
    the folder is then what it was before. ``reached`` is told each point of the way: "staged", "journalled",
    "away PATH", "in PATH", "ended".
    """
    existed = folder.exists()
    own = folder / RHIZON
    staging = own / "staging"
    try:
        with translated("write the instance", folder):
            own.mkdir(parents=True, exist_ok=True)
            remove_tree(staging)
            entries = _stage(staging, plan, records, store, own)
            reached("staged")
            write_atomic(own / JOURNAL, encode_json(entries))
            reached("journalled")
            _switch(folder, entries, reached)
            (own / JOURNAL).unlink()
            sync_folder(own)
            reached("ended")
    except BaseException:
        recover(folder)
        if not existed:
            remove_tree(folder)
        raise
    remove_tree(staging)
    remove_tree(own / "undo")


def recover(folder: Path) -> bool:
    """Takes back a switch that did not end. True when there was one."""
    own = folder / RHIZON
    journal = own / JOURNAL
    if not journal.is_file():
        if own.is_dir():
            remove_tree(own / "staging")
            remove_tree(own / "undo")
        return False
    with translated("take back an unfinished change", folder):
        entries = _read_journal(journal)
        for entry in reversed(entries):
            path = safe_path(entry.path)
            _take_back(folder / path, own / "staging" / path, own / "undo" / path, entry.action)
            if entry.action == "place":
                _drop_empty(folder, path)
        journal.unlink()
        sync_folder(own)
    remove_tree(own / "staging")
    remove_tree(own / "undo")
    return True


def _stage(staging: Path, plan: Plan, records: Mapping[str, bytes], store: Store, own: Path) -> list[_Entry]:
    entries = []
    for step in plan.changes:
        if step.wanted is not None:
            target = staging / step.path
            target.parent.mkdir(parents=True, exist_ok=True)
            file = step.wanted
            store.lay_out(file.sha256, target, link=file.linked, executable=file.executable, what=file.origin)
        entries.append(_Entry(step.action, step.path))  # type: ignore[arg-type]
    for name, data in records.items():
        path = RHIZON + "/" + name
        write_atomic(staging / path, data)
        entries.append(_Entry("replace" if (own / name).exists() else "place", path))
    return entries


def _switch(folder: Path, entries: list[_Entry], reached: Callable[[str], None]) -> None:
    touched = set()
    for entry in entries:
        final = folder / entry.path
        if entry.action != "place":
            old = folder / RHIZON / "undo" / entry.path
            old.parent.mkdir(parents=True, exist_ok=True)
            final.replace(old)
            reached(f"away {entry.path}")
        if entry.action != "remove":
            final.parent.mkdir(parents=True, exist_ok=True)
            (folder / RHIZON / "staging" / entry.path).replace(final)
            reached(f"in {entry.path}")
        touched.add(final.parent)
    for parent in sorted(touched):
        sync_folder(parent)


def _take_back(final: Path, staged: Path, old: Path, action: str) -> None:
    if action != "remove" and not staged.exists() and (action == "place" or old.exists()):
        final.unlink(missing_ok=True)
    if action != "place" and old.exists():
        old.replace(final)


def _drop_empty(folder: Path, path: RelPath) -> None:
    """Folders that were made for a file that is gone again, as far as they are empty."""
    for parent in Path(path).parents:
        if parent in (Path(), Path(RHIZON)):
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
