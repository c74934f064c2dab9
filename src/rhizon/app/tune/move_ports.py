"""Other port numbers for an instance that is there: where somebody else holds one, or where a person wants another."""

from collections.abc import Mapping, Sequence
from pathlib import Path

import msgspec

from rhizon.adapters.host import socket_in_use
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.ledger import Entry
from rhizon.adapters.processes import holder_of
from rhizon.app.foresee.foresee import foresee_after
from rhizon.app.host import Host
from rhizon.app.instance.change import apply_change, settings_change
from rhizon.app.instance.edited_files import FileDiff
from rhizon.app.instance.exclusive import exclusive, require_stopped
from rhizon.app.instance.reservations import entry_of, others_than, ports_for, reserved
from rhizon.app.instance.state import InstanceState, require_instance_state
from rhizon.app.reporter import Reporter
from rhizon.core.allocate.port_roles import every_number, protocols_of
from rhizon.core.changes import ValueChange
from rhizon.core.check.registry import Topic
from rhizon.core.errors import StateError
from rhizon.core.finding import Finding
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance
from rhizon.core.model.lock import Lock
from rhizon.core.words import command_line

__all__ = ["PortsMoved", "TakenPort", "move_now", "move_ports", "taken_ports"]


class TakenPort(msgspec.Struct, frozen=True, kw_only=True):
    """A port of an instance that another program listens on."""

    role: str
    number: int
    protocol: str
    holder: str


class PortsMoved(msgspec.Struct, frozen=True, kw_only=True):
    """What moved, or would, and what that changes in the server's own files."""

    folder: str
    name: str
    planned: bool
    ports: tuple[ValueChange, ...]
    diffs: tuple[FileDiff, ...]
    kept: int | None
    findings: tuple[Finding, ...] = ()


def taken_ports(game: GameDefinition, lock: Lock, instance: Instance) -> list[TakenPort]:
    """The ports of a server that does not run which others listen on."""
    protocols = protocols_of(game, lock)
    return [
        TakenPort(role=role, number=number, protocol=protocol, holder=holder_of(number))
        for role, number in every_number(game, instance.ports).items()
        for protocol in protocols.get(role.partition("+")[0], ())
        if socket_in_use(number, protocol)
    ]


def move_ports(
    host: Host,
    folder: Path,
    fixed: Mapping[str, int],
    reporter: Reporter,
    *,
    stop_first: bool = False,
    dry_run: bool = False,
) -> PortsMoved:
    """Each port that is free stays, unless ``fixed`` names another number for its role; the rest move to the next free
    ones. Written into every place that holds them, in one transaction that ``rhizon undo`` takes back.

    Raises :class:`StateError` (a fixed one is held, none is free), InputError (no such role)."""
    home = host.home(folder).required()
    if dry_run:
        return move_now(host, home, fixed, write=False)
    with exclusive(host, home, reporter):
        require_stopped(host, home, reporter, stop_first=stop_first)
        done = move_now(host, home, fixed, write=True)
        about: tuple[Topic, ...] = ("ports",)
        found = foresee_after(host, home, about)
        return msgspec.structs.replace(done, findings=found)


def move_now(host: Host, home: InstanceFolder, fixed: Mapping[str, int], *, write: bool) -> PortsMoved:
    """The same for a caller that holds the instance already. Raises StateError before the first start, and where no
    port is free."""
    before = require_instance_state(host, home)
    game = before.game
    if not before.instance.first_start_done:
        raise StateError(
            "first-start-pending",
            "the first start is not done yet: the server has not written its own files",
            hint=f"Finish it: {command_line('rhizon', 'provision', before.instance.source, home.folder)}",
        )

    def decide(others: Sequence[Entry]) -> tuple[InstanceState, Entry]:
        ports = ports_for(host, game, before.lock, before.instance.ports, others, fixed)
        after = before.with_instance(msgspec.structs.replace(before.instance, ports=ports))
        return after, entry_of(game, home, after.instance)

    kept = None
    if write:
        with reserved(host, home, decide) as after:
            moved = _moved(before, after)
            plan, diffs = settings_change(host.store, before, after, {}, ports=True)
            if moved or plan.changes:  # a number that was changed by hand is written back where it was asked for
                why = f"move {', '.join(one.name for one in moved)}" if moved else "store the ports again"
                kept = apply_change(host.store, before, after, plan, why)
    else:
        after, _ = decide(others_than(host, home))
        moved = _moved(before, after)
        _, diffs = settings_change(host.store, before, after, {}, ports=True)
    return PortsMoved(
        folder=str(home.folder), name=before.instance.name, planned=not write, ports=moved, diffs=diffs, kept=kept
    )


def _moved(before: InstanceState, after: InstanceState) -> tuple[ValueChange, ...]:
    return tuple(
        ValueChange(name=role, before=before.instance.ports.get(role), after=number)
        for role, number in after.instance.ports.items()
        if before.instance.ports.get(role) != number
    )
