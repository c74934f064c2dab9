"""Back to a kept state of an instance."""

from pathlib import Path

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.kept import KeptStates
from rhizon.adapters.transact import BLOBS, RHIZON
from rhizon.app.backup import find_backup
from rhizon.app.changing import Whole, between, needed_whole
from rhizon.app.context import Host
from rhizon.app.exclusive import exclusive, require_stopped
from rhizon.app.reporter import Reporter
from rhizon.app.returning import Returned, WorldCopy, go_back
from rhizon.core.changes import Changes
from rhizon.core.errors import InputError
from rhizon.core.finding import Finding
from rhizon.core.model.kept import KeptFile, KeptState

__all__ = ["KeptLine", "kept_states", "undo"]


class KeptLine(msgspec.Struct, frozen=True, kw_only=True):
    """A kept state in a list: before which change it was kept, and what going back to it would change."""

    number: int
    kept_at: str
    before: str
    backup: str | None
    changes: Changes


def kept_states(host: Host, folder: Path) -> tuple[list[KeptLine], list[Finding]]:
    """Those of an instance, newest first, and which cannot be read. Raises :class:`~rhizon.core.errors.StateError`."""
    home = host.home(folder)
    now = needed_whole(home)
    kept = KeptStates(home.folder)
    readable = kept.readable()
    broken = [
        Finding(
            code="kept-state-broken",
            severity="error",
            subject=f"state {number}",
            what="it cannot be read, and nobody can go back to it",
            remedy="The others are as good as before; a backup may have what you need: rhizon backup DIR --list",
        )
        for number in sorted(set(kept.numbers()) - {one.number for one in readable})
    ]
    lines = [
        KeptLine(
            number=one.number,
            kept_at=one.kept_at,
            before=one.before,
            backup=one.backup,
            changes=between(now, Whole(lock=one.lock, instance=one.instance, inventory=one.inventory)),
        )
        for one in reversed(readable)
    ]
    return lines, broken


def undo(
    host: Host,
    folder: Path,
    reporter: Reporter,
    *,
    number: int | None,
    with_world: bool,
    stop_first: bool,
    dry_run: bool,
) -> Returned:
    """Back to the kept state ``number``, or to the one before the last change. The world comes back only where
    ``with_world`` asks for it. Raises InputError (no such state) and what :func:`go_back` raises."""
    home = host.home(folder).required()
    if dry_run:
        return _undo(host, home, reporter, number, with_world=with_world, dry_run=True)
    with exclusive(host, home, reporter):
        require_stopped(host, home, reporter, stop_first=stop_first)
        return _undo(host, home, reporter, number, with_world=with_world, dry_run=False)


def _undo(
    host: Host, home: InstanceFolder, reporter: Reporter, number: int | None, *, with_world: bool, dry_run: bool
) -> Returned:
    kept = KeptStates(home.folder)
    numbers = kept.numbers()
    if not numbers:
        raise InputError(
            "nothing-kept", f"no change of {home.folder} has been kept yet", hint="There is nothing to undo."
        )
    state = kept.read(number if number is not None else numbers[-1])

    def bytes_of(_path: str, file: KeptFile) -> bytes | None:
        return home.read(f"{RHIZON}/{BLOBS}/{file.sha256}")

    return go_back(
        host,
        home,
        state,
        to=str(state.number),
        why=f"undo: {state.before}",
        bytes_of=bytes_of,
        world=_world(host, home, state) if with_world else None,
        part="all",
        reporter=reporter,
        dry_run=dry_run,
    )


def _world(host: Host, home: InstanceFolder, state: KeptState) -> WorldCopy:
    if state.backup is None:
        raise InputError(
            "no-such-backup",
            f"no backup of the world was made with the state {state.number}",
            hint="rhizon backup DIR --list shows all of them; rhizon restore DIR WHEN --only world takes one back.",
        )
    return WorldCopy(*find_backup(host, home.folder, state.backup))
