"""Another name or note for a server."""

from collections.abc import Sequence
from pathlib import Path

import msgspec

from rhizon.adapters.ledger import Entry
from rhizon.app.host import Host
from rhizon.app.instance.change import apply_change
from rhizon.app.instance.exclusive import exclusive
from rhizon.app.instance.reservations import entry_of, others_than, reserved, server_name
from rhizon.app.instance.state import InstanceState, require_instance_state
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError
from rhizon.core.plan import Plan
from rhizon.core.words import command_line

__all__ = ["RenameResult", "rename"]


class RenameResult(msgspec.Struct, frozen=True, kw_only=True):
    """The name and the note before and after. ``kept`` is the number under which the state before is kept."""

    folder: str
    planned: bool
    before: str
    name: str
    note_before: str
    note: str
    kept: int | None


def rename(
    host: Host,
    folder: Path,
    reporter: Reporter,
    *,
    name: str | None = None,
    note: str | None = None,
    dry_run: bool = False,
) -> RenameResult:
    """Gives a server another name, a note, or both; it may be running. Raises InputError (nothing to change, a name
    that is taken or not valid), :class:`~rhizon.core.errors.StateError`."""
    home = host.home(folder).required()
    if name is None and note is None:
        again = command_line("rhizon", "rename", folder, "other-name")
        raise InputError("usage", "neither a new name nor a note was given", hint=f"Give a name, as in: {again}")

    def decide(others: Sequence[Entry]) -> tuple[InstanceState, Entry]:
        state = require_instance_state(host, home)
        was = state.instance
        given = server_name(name if name != was.name else None, was.name, was.name, others)
        instance = msgspec.structs.replace(was, name=given, note=was.note if note is None else note)
        return state.with_instance(instance), entry_of(state.game, home, instance)

    kept = None
    before = require_instance_state(host, home)
    if dry_run:
        after, _ = decide(others_than(host, home))
    else:
        with exclusive(host, home, reporter), reserved(host, home, decide) as after:
            before = require_instance_state(host, home)
            plan = Plan(steps=(), inventory=before.inventory)
            kept = apply_change(host.store, before, after, plan, f"rename to {after.instance.name}")
    return RenameResult(
        folder=str(home.folder),
        planned=dry_run,
        before=before.instance.name,
        name=after.instance.name,
        note_before=before.instance.note,
        note=after.instance.note,
        kept=kept,
    )
