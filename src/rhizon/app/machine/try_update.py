"""An update tried on a copy of a server: nothing of the server itself changes."""

from collections.abc import Callable
from pathlib import Path

import msgspec

from rhizon.adapters.files import translated
from rhizon.app.host import Host, open_ledger
from rhizon.app.machine.clone import clone
from rhizon.app.machine.removal import remove_renamed, rename_away
from rhizon.app.provision.update import UpdateWishes, update
from rhizon.app.provision.wishes import ProvisionResult
from rhizon.app.reporter import Reporter
from rhizon.app.run.start import start
from rhizon.app.run.stop import stop
from rhizon.core.errors import NotReadyError
from rhizon.core.words import free_name

__all__ = ["UpdateTrial", "try_update"]


class UpdateTrial(msgspec.Struct, frozen=True, kw_only=True):
    """What the update did to the copy, and whether that starts: ``why`` it does not, "" where it does. ``copy`` is its
    folder where it was kept."""

    folder: str
    name: str
    update: ProvisionResult
    ready_seconds: float | None
    why: str
    copy: str


def try_update(
    host: Host, wishes: UpdateWishes, reporter: Reporter, stop_asked: Callable[[], bool], *, keep: bool = False
) -> UpdateTrial:
    """Clones the server (also while it runs), updates the clone, starts it with a copy of the world, and removes it
    unless it is to be kept. Raises what :func:`clone` and :func:`update` raise; the copy is removed then, too."""
    home = host.home(wishes.folder).required()
    name = home.instance().name
    taken = [one.name for one in home.folder.parent.iterdir()]
    made = clone(host, home.folder, Path(free_name(f"{name}-trial", taken)), reporter)
    copy = Path(made.folder)
    ready, why = None, ""
    try:
        done = update(host, msgspec.structs.replace(wishes, folder=copy, back_up=False), reporter)
        try:
            ready = start(host, copy, reporter, stop_asked).ready_seconds
        except NotReadyError as wrong:
            why = wrong.message
        stop(host, copy, reporter)
    except BaseException:
        _remove(host, copy, reporter)
        raise
    if not keep:
        _remove(host, copy, reporter)
    return UpdateTrial(
        folder=str(home.folder), name=name, update=done, ready_seconds=ready, why=why, copy=str(copy) if keep else ""
    )


def _remove(host: Host, copy: Path, reporter: Reporter) -> None:
    """A copy away, with its row in the ledger; its world is the server's, as it was a moment ago."""
    if host.home(copy).is_ours:
        stop(host, copy, reporter)
    with open_ledger(host, write=True) as ledger, ledger.claim():
        ledger.drop(str(copy))
    with translated("remove the copy", copy):
        away = rename_away(copy)
    remove_renamed(away)
