"""Put back what Rhizon placed and what is not so any more; settings and worlds are left alone."""

from collections.abc import Sequence
from pathlib import Path

import msgspec

from rhizon.adapters.instances import DamagedDocument, InstanceFolder
from rhizon.app.host import Host
from rhizon.app.instance.change import apply_change
from rhizon.app.instance.exclusive import exclusive, require_stopped
from rhizon.app.instance.refetch import refetch
from rhizon.app.instance.state import require_loaded
from rhizon.app.reporter import Reporter
from rhizon.core.model.instance import OwnedFile
from rhizon.core.names import RelPath
from rhizon.core.plan import Plan, Step, WantedFile

__all__ = ["RepairResult", "repair"]


class RepairResult(msgspec.Struct, frozen=True, kw_only=True):
    """How many files were looked at, what was put back, and the number of the state in which damaged ones are kept.
    ``documents`` are Rhizon's own that were damaged, with what they were put back from."""

    folder: str
    name: str
    planned: bool
    files: int
    steps: tuple[Step, ...]
    fetched: int
    kept: int | None
    documents: tuple[DamagedDocument, ...] = ()


def repair(
    host: Host, folder: Path, reporter: Reporter, *, full: bool = False, stop_first: bool = False, dry_run: bool = False
) -> RepairResult:
    """Looks at the size and time of every file that only Rhizon writes (``full``: at every byte), and puts back those
    that are gone or changed. Raises :class:`StateError`, RemoteError when something has to be fetched and cannot."""
    home = host.home(folder).required()
    if dry_run:
        return _repair(host, home, reporter, home.damaged(), full=full, write=False)
    with exclusive(host, home, reporter):
        damaged = home.damaged()
        if any(not one.source for one in damaged):
            home.restore_documents()  # says what is lost
        require_stopped(host, home, reporter, stop_first=stop_first)
        repaired = _repair(host, home, reporter, damaged, full=full, write=True)
        home.restore_documents()  # files and records come back in one transaction; this is for records alone
        return repaired


def _repair(
    host: Host,
    home: InstanceFolder,
    reporter: Reporter,
    documents: Sequence[DamagedDocument],
    *,
    full: bool,
    write: bool,
) -> RepairResult:
    """Verifies the placed files and puts back, with ``write``, what is missing or changed."""
    state = require_loaded(host, home)
    owned = {RelPath(path): one for path, one in state.inventory.files.items() if not one.edited}
    reporter.step("verifying every byte" if full else "verifying")
    present = home.hashes(list(owned), None if full else host.store.verified)
    bad = [
        path
        for path, one in owned.items()
        if present.get(path) != one.sha256 or (one.executable and not _runs(home.folder / path))
    ]
    linked = {one.file.sha256 for one in state.lock.on_server()}
    steps = tuple(
        Step(
            action="replace" if path in present else "place",
            path=path,
            reason=_reason(present.get(path), owned[path]),
            wanted=WantedFile(
                sha256=owned[path].sha256,
                size=owned[path].size,
                origin=owned[path].origin,
                executable=owned[path].executable,
                linked=owned[path].sha256 in linked,
            ),
        )
        for path in sorted(bad)
    )
    reporter.done(f"{len(owned)} files verified, {len(bad)} to restore")
    fetched, kept = 0, None
    if write and bad:
        for path in bad:
            if not host.store.has(owned[path].sha256, owned[path].size):
                host.store.drop(owned[path].sha256)
        wanted = {path: (owned[path].sha256, owned[path].size) for path in bad}
        fetched = refetch(host, state.game, state.lock, state.instance, wanted, reporter)
        plan = Plan(steps=steps, inventory=state.inventory)
        kept = apply_change(host.store, state, state, plan, "repair")
    return RepairResult(
        folder=str(home.folder),
        name=state.instance.name,
        planned=not write,
        files=len(owned),
        steps=steps,
        fetched=fetched,
        kept=kept,
        documents=tuple(documents),
    )


def _runs(file: Path) -> bool:
    return bool(file.stat().st_mode & 0o100)


def _reason(there: str | None, owned: OwnedFile) -> str:
    if there is None:
        return "missing"
    return "changed" if there != owned.sha256 else "no longer executable"
