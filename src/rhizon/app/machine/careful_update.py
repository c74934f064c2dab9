"""An update that is tried on a copy first, and taken back where the server does not start with it."""

from collections.abc import Callable
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.app.host import Host
from rhizon.app.instance.server_state import state_of
from rhizon.app.keep.undo import UndoWishes, undo
from rhizon.app.machine.try_update import UpdateTrial, try_update
from rhizon.app.provision.update import UpdateWishes, update
from rhizon.app.provision.wishes import AskLicence, ProvisionResult
from rhizon.app.reporter import Reporter
from rhizon.app.run.restart import count_down
from rhizon.app.run.start import start
from rhizon.app.run.stop import stop
from rhizon.core.errors import NotReadyError

__all__ = ["CarefulUpdate", "Outcome", "careful_update"]

Outcome = Literal["planned", "nothing", "trial-failed", "updated", "undone"]


class CarefulUpdate(msgspec.Struct, frozen=True, kw_only=True):
    """How it went. "nothing": there was none; "trial-failed": the copy did not start, and the server is as it was;
    "undone": the server did not start, and is as it was before. ``why`` says so then. ``ready_seconds`` is None where
    the server did not run before: then it does not now."""

    folder: str
    name: str
    outcome: Outcome
    update: ProvisionResult
    trial: UpdateTrial | None = None
    ready_seconds: float | None = None
    why: str = ""


def careful_update(
    host: Host,
    wishes: UpdateWishes,
    reporter: Reporter,
    stop_asked: Callable[[], bool],
    *,
    after: float = 0.0,
    ask_licence: AskLicence | None = None,
) -> CarefulUpdate:
    """Updates a copy and starts it; then the server, which is stopped for it ``after`` so many seconds, in which
    players are told, and started again. A server that does not become ready goes back to what it was, with its world.
    Raises what :func:`try_update`, :func:`update`, :func:`undo` and :func:`start` raise."""
    home = host.home(wishes.folder).required()
    planned = update(host, msgspec.structs.replace(wishes, dry_run=True), reporter)
    result = CarefulUpdate(
        folder=str(home.folder), name=home.instance().name, outcome="nothing", update=planned, ready_seconds=None
    )
    if planned.changes_nothing:
        return result
    if wishes.dry_run:
        return msgspec.structs.replace(result, outcome="planned")
    trial = try_update(host, wishes, reporter, stop_asked)
    result = msgspec.structs.replace(result, trial=trial)
    if trial.why:
        return msgspec.structs.replace(result, outcome="trial-failed", why=trial.why)
    ran = state_of(host, home).state == "ready"
    if ran:
        count_down(host, home.folder, reporter, stop_asked, after, "update and restart")
        stop(host, home.folder, reporter)
    done = update(host, msgspec.structs.replace(wishes, back_up=True), reporter, ask_licence)
    result = msgspec.structs.replace(result, outcome="updated", update=done)
    if not ran:
        return result
    try:
        return msgspec.structs.replace(result, ready_seconds=_started(host, home.folder, reporter, stop_asked))
    except NotReadyError as wrong:
        reporter.done(f"the server does not start with the update: {wrong.message}")
        undo(host, home.folder, reporter, UndoWishes(number=done.kept, with_world=done.backup is not None))
        ready = _started(host, home.folder, reporter, stop_asked)
        return msgspec.structs.replace(result, outcome="undone", why=wrong.message, ready_seconds=ready)


def _started(host: Host, folder: Path, reporter: Reporter, stop_asked: Callable[[], bool]) -> float | None:
    return start(host, folder, reporter, stop_asked).ready_seconds
