"""Back to what a backup holds: all of it, the world or the settings, in place or in a new folder."""

import contextlib
from pathlib import Path

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.app.backup import find_backup
from rhizon.app.changing import Whole, carry_out
from rhizon.app.context import Host, open_ledger
from rhizon.app.entering import entered, stopped
from rhizon.app.holding import ports_for, record
from rhizon.app.reporter import Reporter
from rhizon.app.returning import Part, Returned, WorldCopy, go_back, plan_anew, world_trees
from rhizon.core.changes import Changes
from rhizon.core.errors import InputError, StateError
from rhizon.core.model.kept import KeptFile

__all__ = ["restore"]


def restore(
    host: Host,
    folder: Path,
    reporter: Reporter,
    *,
    when: str | None,
    of: str | None,
    place: Path | None,
    part: Part,
    stop_first: bool,
    dry_run: bool,
) -> Returned:
    """Takes the newest backup, or the one whose time begins with ``when``. A folder that is no instance becomes one,
    with ports of its own. Raises InputError (no such backup), TrustError (it is damaged) and what :func:`go_back`
    raises."""
    home = InstanceFolder(folder)
    copy = WorldCopy(*find_backup(host, folder, when, of, place))
    if part == "world" and not copy.backup.world:
        raise InputError(
            "no-such-backup",
            f"the backup of {copy.backup.when} holds no world",
            hint="rhizon backup DIR --list shows them all; take an earlier or a later one.",
        )
    if not home.is_ours:
        return _anew(host, home, copy, part, reporter, dry_run=dry_run)
    with contextlib.ExitStack() as stack:
        if not dry_run:
            stack.enter_context(entered(home, reporter))
            stopped(host, home, reporter, stop_first=stop_first)
        settings = copy.backup.settings

        def bytes_of(path: str, _file: KeptFile) -> bytes | None:
            return copy.repository.bytes_of(settings[path]) if path in settings else None

        return go_back(
            host,
            home,
            copy.backup.state,
            to=copy.backup.when,
            why=f"restore {'all' if part == 'all' else 'the ' + part} of {copy.backup.when}",
            bytes_of=bytes_of,
            world=copy if part in ("all", "world") else None,
            part=part,
            reporter=reporter,
            dry_run=dry_run,
        )


def _anew(
    host: Host, home: InstanceFolder, copy: WorldCopy, part: Part, reporter: Reporter, *, dry_run: bool
) -> Returned:
    if part != "all":
        raise StateError(
            "no-instance",
            f"there is no instance in {home.folder} to put the {part} into",
            hint="Restore all of it (without --only), or name an instance.",
        )
    if home.folder.exists() and any(one.name != ".rhizon" for one in home.folder.iterdir()):
        raise StateError(
            "folder-not-ours",
            f"{home.folder} is not empty, and it is not an instance of Rhizon's",
            hint="Name a new folder; Rhizon does not mix its files with others.",
        )
    backup = copy.backup
    game = host.game_of(backup.state.instance, backup.state.lock)
    with contextlib.ExitStack() as stack:
        if not dry_run:
            stack.enter_context(entered(home, reporter))
        ledger = stack.enter_context(open_ledger(host))
        with ledger.claim():
            others = [one for one in ledger.entries() if one.folder != str(home.folder)]
            ports = ports_for(host, game, backup.state.lock, backup.state.instance.ports, others)
            instance = msgspec.structs.replace(backup.state.instance, ports=ports)
            after = Whole(lock=backup.state.lock, instance=instance, inventory=backup.state.inventory)
            if not dry_run:
                record(ledger, game, after.lock, home, instance)
        try:
            texts = {path: copy.repository.bytes_of(file) for path, file in backup.settings.items()}
            plan = plan_anew(host, game, backup.state, after, texts, reporter)
            if not dry_run:
                reporter.step(f"restoring {backup.name} of {backup.when}")
                carry_out(host.store, home, game, None, after, plan, "restore", trees=world_trees(home, game, copy))
                reporter.done(f"files: {len(plan.steps)} placed")
        except BaseException:
            with ledger.claim():
                ledger.forget(str(home.folder))
            raise
    return Returned(
        folder=str(home.folder),
        name=instance.name,
        to=backup.when,
        planned=dry_run,
        steps=plan.steps,
        diffs=(),
        changes=Changes(),
        kept=None,
        backup=None,
        world=f"as it was on {backup.when}",
    )
