"""Back to a kept state of an instance."""

from pathlib import Path
from typing import NamedTuple

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.transact import BLOBS, RHIZON
from rhizon.adapters.undo_history import KeptStates
from rhizon.app.host import Host
from rhizon.app.instance.exclusive import exclusive, require_stopped
from rhizon.app.instance.state import compare_states, require_instance_state
from rhizon.app.keep.backup_keys import Opening
from rhizon.app.keep.find_backup import Sought, find_backup
from rhizon.app.keep.roll_back import RollBackResult, RollBackTarget, WorldCopy, roll_back
from rhizon.app.reporter import Reporter
from rhizon.core.changes import Changes
from rhizon.core.errors import InputError
from rhizon.core.finding import Finding
from rhizon.core.model.kept import KeptFile, KeptState
from rhizon.core.words import command_line

__all__ = ["KeptLine", "KeptStateList", "UndoWishes", "list_kept_states", "undo"]


class KeptLine(msgspec.Struct, frozen=True, kw_only=True):
    """A kept state in a list: before which change it was kept, and what going back to it would change."""

    number: int
    kept_at: str
    before: str
    backup: str | None
    changes: Changes


class KeptStateList(msgspec.Struct, frozen=True, kw_only=True):
    """The kept states of a server, newest first; findings are those that cannot be read."""

    folder: str
    name: str
    states: tuple[KeptLine, ...]
    findings: tuple[Finding, ...]


def list_kept_states(host: Host, folder: Path) -> KeptStateList:
    """Raises :class:`~rhizon.core.errors.StateError`."""
    home = host.home(folder)
    now = require_instance_state(host, home)
    kept = KeptStates(home.folder)
    readable = kept.readable()
    broken = [
        Finding(
            code="kept-state-broken",
            severity="error",
            subject=f"state {number}",
            what="it cannot be read",
            remedy="The other states are not affected. A backup may have what you need: "
            + command_line("rhizon", "backup", home.folder, "--list"),
        )
        for number in sorted(set(kept.numbers()) - {one.number for one in readable})
    ]
    lines = [
        KeptLine(
            number=one.number,
            kept_at=one.kept_at,
            before=one.before,
            backup=one.backup,
            changes=compare_states(now, one),
        )
        for one in reversed(readable)
    ]
    return KeptStateList(folder=str(home.folder), name=now.instance.name, states=tuple(lines), findings=tuple(broken))


class UndoWishes(NamedTuple):
    """What a person asks for: a kept state by ``number`` (None: that before the last change), whether the world comes
    back too, and what opens its backup if that is encrypted."""

    number: int | None = None
    with_world: bool = False
    stop_first: bool = False
    dry_run: bool = False
    opening: Opening = Opening()


def undo(host: Host, folder: Path, reporter: Reporter, wishes: UndoWishes) -> RollBackResult:
    """Back to a kept state. Raises InputError (no such state) and what :func:`roll_back` raises."""
    home = host.home(folder).required()
    if wishes.dry_run:
        return _undo(host, home, reporter, wishes)
    with exclusive(host, home, reporter):
        require_stopped(host, home, reporter, stop_first=wishes.stop_first)
        return _undo(host, home, reporter, wishes)


def _undo(host: Host, home: InstanceFolder, reporter: Reporter, wishes: UndoWishes) -> RollBackResult:
    """Goes back to the kept state that is wished for. Raises InputError where nothing is kept."""
    kept = KeptStates(home.folder)
    numbers = kept.numbers()
    if not numbers:
        raise InputError(
            "nothing-kept",
            f"nothing to undo in {home.folder}",
            hint="History starts with the first change after provisioning.",
        )
    state = kept.read(wishes.number if wishes.number is not None else numbers[-1])

    def bytes_of(_path: str, file: KeptFile) -> bytes | None:
        return home.read(f"{RHIZON}/{BLOBS}/{file.sha256}")

    target = RollBackTarget(
        state=state,
        to=str(state.number),
        why=f"undo: {state.before}",
        bytes_of=bytes_of,
        world=_world(host, home, state, wishes.opening) if wishes.with_world else None,
    )
    return roll_back(host, require_instance_state(host, home), target, reporter, dry_run=wishes.dry_run)


def _world(host: Host, home: InstanceFolder, state: KeptState, opening: Opening) -> WorldCopy:
    if state.backup is None:
        raise InputError(
            "no-such-backup",
            f"no backup of the world was made with state {state.number}",
            hint=f"See all backups: {command_line('rhizon', 'backup', home.folder, '--list')}",
        )
    return WorldCopy(*find_backup(host, home.folder, Sought(when=state.backup, opening=opening)))
