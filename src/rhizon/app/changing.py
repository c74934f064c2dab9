"""Carrying out a planned change of an instance, with the state before it kept for ``rhizon undo``."""

import os
from collections.abc import Callable, Mapping
from pathlib import Path

import msgspec

from rhizon.adapters.files import has_stamp, hash_file
from rhizon.adapters.host import now
from rhizon.adapters.instances import INVENTORY, LOCK, InstanceFolder
from rhizon.adapters.kept import KeptStates, state_name
from rhizon.adapters.store import Store
from rhizon.adapters.transact import apply
from rhizon.app.settling import Side, Told, settings_paths, settle, shown_diff
from rhizon.core.changes import Changes, changes_between
from rhizon.core.errors import StateError
from rhizon.core.model.decode import encode_json
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance, Inventory
from rhizon.core.model.kept import KeptFile, KeptState
from rhizon.core.model.lock import Lock
from rhizon.core.names import RelPath
from rhizon.core.plan import Plan, make_plan

__all__ = ["Whole", "as_it_is", "between", "carry_out", "needed_whole", "settings_change", "whole"]


class Whole(msgspec.Struct, frozen=True, kw_only=True):
    """All that an instance is, but for the bytes of its files."""

    lock: Lock
    instance: Instance
    inventory: Inventory

    @property
    def side(self) -> Side:
        """As settings are settled against."""
        return Side(instance=self.instance, lock=self.lock)


def settings_change(
    store: Store,
    home: InstanceFolder,
    game: GameDefinition,
    before: Whole,
    after: Whole,
    typed: Mapping[str, str | int | bool],
    *,
    ports: bool,
) -> tuple[Plan, tuple[Told, ...]]:
    """What it takes to write just the ``typed`` settings, and where ``ports`` says so the ports of ``after`` (else a
    number that was changed by hand stays), and how that changes each file. Raises
    :class:`~rhizon.core.errors.StateError` for a file that cannot be understood."""
    settled = settle(
        home, game, store, before.side, after.side, before.inventory, {}, typed, only_typed=True, ports=ports
    )
    made = make_plan({}, {}, None, game.world.folder, settled)
    diffs = tuple(
        shown_diff(step.path, (home.folder / step.path).read_bytes(), made.contents[step.path].data, game)
        for step in made.steps
        if step.action == "merge"
    )
    return Plan(steps=made.steps, inventory=before.inventory, contents=made.contents), diffs


def whole(home: InstanceFolder) -> Whole | None:
    """The instance as it is; None when there is none yet, or when a record of it was lost."""
    if not (home.is_ours and home.has(LOCK) and home.has(INVENTORY)):
        return None
    return Whole(lock=home.lock(), instance=home.instance(), inventory=home.inventory())


def needed_whole(home: InstanceFolder) -> Whole:
    """The instance, which must be whole."""
    state = whole(home.required())
    if state is None:
        raise StateError(
            "instance-damaged",
            f"the instance in {home.folder} has lost its lock or inventory",
            hint="Provision again from the same source: they are written anew, and your worlds and edits stay.",
        )
    return state


def between(before: Whole, after: Whole) -> Changes:
    """What differs between two states of an instance."""
    old, new = before.instance, after.instance
    return changes_between(
        before.lock, after.lock, (old.settings, new.settings), (old.ports, new.ports), (old.heap_mib, new.heap_mib)
    )


def carry_out(
    store: Store,
    home: InstanceFolder,
    game: GameDefinition,
    before: Whole | None,
    after: Whole,
    plan: Plan,
    why: str,
    *,
    backup: str | None = None,
    trees: Mapping[RelPath, Callable[[Path], None]] | None = None,
) -> int | None:
    """Makes the instance ``after`` as the plan says, in one transaction, and answers the number under which the state
    before it is kept; None where nothing changed or nothing was. ``why`` says what the change is ("update to ..."),
    ``backup`` is the time of the backup of the world that belongs to the state before."""
    if before == after and not plan.changes and not trees:
        return None
    records = home.records(after.lock, after.instance, after.inventory)
    number = None
    blobs: dict[str, RelPath] = {}
    if before is not None:
        kept = KeptStates(home.folder)
        number = max(kept.numbers(), default=0) + 1
        files, blobs = as_it_is(home, game, before, frozenset(step.path for step in plan.changes))
        state = KeptState(
            format="rhizon-kept/1",
            number=number,
            kept_at=now(),
            before=why,
            backup=backup,
            lock=before.lock,
            inventory=before.inventory,
            instance=before.instance,
            files=files,
        )
        records[state_name(number)] = encode_json(state)
    apply(home.folder, plan, records, store, blobs=blobs, trees=trees)
    if number is not None:
        KeptStates(home.folder).trim()
    return number


def as_it_is(
    home: InstanceFolder, game: GameDefinition, before: Whole, touched: frozenset[RelPath]
) -> tuple[dict[str, KeptFile], dict[str, RelPath]]:
    """Every file of the state, and by hash those whose bytes only the folder has, or will soon have no more since they
    are ``touched``."""
    files: dict[str, KeptFile] = {}
    blobs: dict[str, RelPath] = {}

    def keep(path: RelPath, sha256: str, facts: os.stat_result, *, settings: bool) -> None:
        files[path] = KeptFile(
            sha256=sha256,
            size=facts.st_size,
            executable=bool(facts.st_mode & 0o100),
            private=not facts.st_mode & 0o044,
            settings=settings,
        )

    root = str(home.folder)
    for path, owned in before.inventory.files.items():
        if owned.edited:
            continue
        try:
            facts = os.lstat(f"{root}/{path}")
        except OSError:
            continue
        stamped = facts.st_size == owned.size and has_stamp(facts, owned.sha256)
        sha256 = owned.sha256 if stamped else hash_file(home.folder / path)[0]
        keep(RelPath(path), sha256, facts, settings=False)
        if RelPath(path) in touched or sha256 != owned.sha256:
            blobs[sha256] = RelPath(path)
    for name in settings_paths(home, game, before.side, before.inventory):
        sha256, _ = hash_file(home.folder / name)
        keep(name, sha256, os.lstat(f"{root}/{name}"), settings=True)
        blobs[sha256] = name
    return dict(sorted(files.items())), blobs
