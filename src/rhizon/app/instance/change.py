"""Carrying out a planned change of an instance, with the state before it kept for ``rhizon undo``."""

import contextlib
import stat
from collections.abc import Mapping

from rhizon.adapters.files import translated
from rhizon.adapters.host import now
from rhizon.adapters.inside import Inside
from rhizon.adapters.store import Store
from rhizon.adapters.transact import Extras, MakeTree, apply
from rhizon.adapters.undo_history import KeptStates, state_name
from rhizon.adapters.verified import Verified
from rhizon.app.instance.edited_files import FileDiff, Insisted, merge_edited, settings_paths, shown_diff
from rhizon.app.instance.state import InstanceState
from rhizon.core.errors import StateError
from rhizon.core.model.decode import encode_json
from rhizon.core.model.kept import KeptFile, KeptState
from rhizon.core.names import RelPath
from rhizon.core.plan import Plan, make_plan

__all__ = [
    "apply_change",
    "settings_change",
    "snapshot",
]


def settings_change(
    store: Store,
    before: InstanceState,
    after: InstanceState,
    typed: Mapping[str, str | int | bool],
    *,
    ports: bool,
) -> tuple[Plan, tuple[FileDiff, ...]]:
    """What it takes to write just the ``typed`` settings, and where ``ports`` says so the ports of ``after`` (else a
    number that was changed by hand stays), and how that changes each file. Raises
    :class:`~rhizon.core.errors.StateError` for a file that cannot be understood."""
    settled = merge_edited(store, before, after, {}, Insisted(typed, only=True, ports=ports))
    made = make_plan({}, {}, None, after.game.world, settled)
    diffs = tuple(
        shown_diff(step.path, after.home.read(step.path) or b"", made.contents[step.path].data, after.game)
        for step in made.steps
        if step.action == "merge"
    )
    return Plan(steps=made.steps, inventory=before.inventory, contents=made.contents), diffs


def apply_change(
    store: Store,
    before: InstanceState | None,
    after: InstanceState,
    plan: Plan,
    why: str,
    *,
    backup: str | None = None,
    trees: Mapping[RelPath, MakeTree] | None = None,
) -> int | None:
    """Makes the instance ``after`` as the plan says, in one transaction, and answers the number under which the state
    before it is kept; None where nothing changed or nothing was. ``why`` says what the change is ("update to ..."),
    ``backup`` is the time of the backup of the world that belongs to the state before."""
    if after.has_same_documents(before) and not plan.changes and not trees:
        return None
    home = after.home
    records = home.records(after.lock, after.instance, after.inventory)
    number = None
    blobs: dict[str, RelPath] = {}
    if before is not None:
        kept = KeptStates(home.folder)
        number = max(kept.numbers(), default=0) + 1
        touched = frozenset(step.path for step in plan.changes)
        files, blobs = snapshot(before, touched, store.verified)
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
    apply(home.folder, plan, records, store, Extras(blobs=blobs, trees=trees or {}, linked=home.linked))
    if number is not None:
        with contextlib.suppress(StateError):  # the change is made; the next one trims too
            KeptStates(home.folder).trim()
    return number


def snapshot(
    before: InstanceState, touched: frozenset[RelPath], verified: Verified
) -> tuple[dict[str, KeptFile], dict[str, RelPath]]:
    """Every file of the state, and by hash those whose bytes only the folder has, or will soon have no more since they
    are ``touched``."""
    files: dict[str, KeptFile] = {}
    blobs: dict[str, RelPath] = {}
    with translated("read the instance", before.home.folder), before.home.inside() as inside:
        for name, owned in before.inventory.files.items():
            kept = None if owned.edited else _kept_file(inside, name, verified, settings=False)
            if kept is None:
                continue
            files[name] = kept
            if RelPath(name) in touched or kept.sha256 != owned.sha256:
                blobs[kept.sha256] = RelPath(name)
        for path in settings_paths(before):
            kept = _kept_file(inside, path, None, settings=True)
            if kept is not None:
                files[path] = kept
                blobs[kept.sha256] = path
    return dict(sorted(files.items())), blobs


def _kept_file(inside: Inside, path: str, verified: Verified | None, *, settings: bool) -> KeptFile | None:
    """A file as it is now; None for one that is gone or is not an ordinary file."""
    facts = inside.lstat(path)
    if facts is None or not stat.S_ISREG(facts.st_mode):
        return None
    return KeptFile(
        sha256=inside.hashes([path], verified)[path],
        size=facts.st_size,
        executable=bool(facts.st_mode & 0o100),
        private=not facts.st_mode & 0o044,
        settings=settings,
    )
