"""Getting back into the store what it has lost: from the catalogs, and out of the archives that come from there."""

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from rhizon.adapters.fetching import fetch_all, missing_from
from rhizon.app.host import Host
from rhizon.app.instance.server_tree import read_tree, tree_files
from rhizon.app.instance.wanted_files import locked_files, wanted_files
from rhizon.app.reporter import Reporter
from rhizon.core.content_paths import content_paths
from rhizon.core.errors import RhizonError, StateError
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance
from rhizon.core.model.lock import Lock, LockedFile
from rhizon.core.names import RelPath, printable
from rhizon.core.start_scripts import start_scripts

if TYPE_CHECKING:
    from rhizon.adapters.catalogs import Catalogs

__all__ = ["fetch_locked", "refetch", "refetch_lock"]


def refetch(
    host: Host,
    game: GameDefinition,
    lock: Lock,
    instance: Instance,
    files: Mapping[RelPath, tuple[str, int]],
    reporter: Reporter,
) -> int:
    """Sees that the store has all of ``files`` (path in the instance to hash and size); answers how many had to be
    fetched. Raises :class:`StateError` when some are not available any more."""

    def lacking() -> list[RelPath]:
        return [path for path, (sha256, size) in files.items() if not host.store.has(sha256, size)]

    if not lacking():
        return 0
    reporter.step("fetching what the store has lost")
    came = 0
    why: list[str] = []
    try:
        came = refetch_lock(host, lock, instance.catalogs, reporter)
        content = content_paths(game, lock)
        scripts = start_scripts(game, lock.target.loader, instance.runtime, instance.heap_mib, content)
        for data in scripts.values():
            host.store.add(data)
        if lacking():  # out of the archives that are there again
            wanted_files(lock, game, host.store, instance.runtime, allow_installer=False)
    except RhizonError as broken:
        why.append(printable(broken.message))
    left = lacking()
    if left:
        raise StateError(
            "state-incomplete",
            f"{len(left)} files are no longer available: {', '.join(left[:4])}",
            details=why,
            hint="Nothing was changed. Name a catalog that has them (restore --catalog), or provision again.",
        )
    reporter.done(f"{came} files that the store had lost were fetched")
    return came


def refetch_lock(host: Host, lock: Lock, addresses: tuple[str, ...], reporter: Reporter) -> int:
    """Sees that the store has the archives and server files that a lock names; answers how many had to be fetched.
    Raises RemoteError, TrustError, InputError."""
    if not missing_from(host.store, _archives(host, lock)) and not missing_from(host.store, _tree(host, lock)):
        return 0
    return fetch_locked(host, lock, host.open_catalogs(addresses, Path.cwd()), reporter)


def fetch_locked(host: Host, lock: Lock, catalogs: "Catalogs", reporter: Reporter) -> int:
    """The same from catalogs that are open."""
    came = 0
    for lacking in (_archives, _tree):
        missing = missing_from(host.store, lacking(host, lock))
        if missing:
            came += fetch_all(catalogs, missing, host.store, lambda got: reporter.progress(got.text, got.part))
    return came


def _archives(_: Host, lock: Lock) -> list[LockedFile]:
    return locked_files(lock)


def _tree(host: Host, lock: Lock) -> list[LockedFile]:
    tree = read_tree(host.store, lock)
    return tree_files(lock, tree) if tree is not None else []
