"""The store of this host: what is in it, who uses it, whether it is sound, and what can go."""

import time
from collections.abc import Sequence
from pathlib import Path

import msgspec

from rhizon.adapters.fetching import fetch_all
from rhizon.adapters.undo_history import KeptStates
from rhizon.app.choose.sources import read_lock
from rhizon.app.host import Host
from rhizon.app.instance.reservations import known_servers
from rhizon.app.instance.wanted_files import locked_files
from rhizon.app.reporter import Reporter
from rhizon.core.errors import RhizonError
from rhizon.core.finding import Finding
from rhizon.core.model.lock import LockedFile
from rhizon.core.words import command_line

__all__ = ["PruneResult", "StoreStatus", "Use", "Verified", "prune_store", "store_status", "verify_store"]


class Use(msgspec.Struct, frozen=True, kw_only=True):
    """What one instance has from the store."""

    name: str
    folder: str
    files: int
    bytes: int


class StoreStatus(msgspec.Struct, frozen=True, kw_only=True):
    """Sizes in bytes. ``shared`` is what more than one instance has, ``unused`` what none has."""

    folder: str
    files: int
    bytes: int
    shared_bytes: int
    unused_files: int
    unused_bytes: int
    left_over: int
    used_by: tuple[Use, ...]


class Verified(msgspec.Struct, frozen=True, kw_only=True):
    """Hashes of files that were damaged, and of those that could be fetched again."""

    files: int
    bytes: int
    damaged: tuple[str, ...]
    fetched: tuple[str, ...]
    findings: tuple[Finding, ...]


class PruneResult(msgspec.Struct, frozen=True, kw_only=True):
    """What went, or would go."""

    files: int
    bytes: int
    kept_files: int


class _Needed(msgspec.Struct):
    """What an instance has or would be laid out from, and where that comes from."""

    name: str
    folder: str
    hashes: set[str]
    locked: dict[str, LockedFile]
    catalogs: tuple[str, ...]


def _needed(host: Host) -> list[_Needed]:
    """What each server of the host needs of the store; one that cannot be read is left out."""
    found = []
    folders = [one.entry.folder for one in known_servers(host)[0]]
    for folder in folders:
        home = host.home(Path(folder))
        try:
            lock, inventory, instance = home.lock(), home.inventory(), home.instance()
        except RhizonError:
            continue  # check says what is wrong with it; its files are fetched again when it is fixed
        locked = {file.sha256: file for file in locked_files(lock)}
        hashes = {*locked, *(owned.sha256 for owned in inventory.files.values())}
        for state in KeptStates(home.folder).readable():
            hashes |= {file.sha256 for file in state.files.values() if not file.settings}
        found.append(_Needed(instance.name, folder, hashes, locked, instance.catalogs))
    return found


def store_status(host: Host) -> StoreStatus:
    """Reads sizes only: nothing is hashed."""
    sizes = {entry.name: entry.size for entry in host.store.entries()}
    needed = _needed(host)
    users: dict[str, int] = {}
    for one in needed:
        for name in one.hashes & sizes.keys():
            users[name] = users.get(name, 0) + 1
    unused = sizes.keys() - users.keys()
    return StoreStatus(
        folder="" if host.places.trouble else str(host.places.store),
        files=len(sizes),
        bytes=sum(sizes.values()),
        shared_bytes=sum(sizes[name] for name, count in users.items() if count > 1),
        unused_files=len(unused),
        unused_bytes=sum(sizes[name] for name in unused),
        left_over=sum(1 for _ in host.store.left_over()),
        used_by=tuple(
            Use(
                name=one.name,
                folder=one.folder,
                files=len(one.hashes & sizes.keys()),
                bytes=sum(sizes[name] for name in one.hashes & sizes.keys()),
            )
            for one in needed
        ),
    )


def verify_store(host: Host, reporter: Reporter, *, write: bool = True) -> Verified:
    """Hashes every file. With ``write`` a damaged one is removed, and fetched again where a server's lock says from
    where."""
    entries = list(host.store.entries())
    total = sum(entry.size for entry in entries)
    reporter.step("verifying the store")
    damaged = []
    so_far = 0
    for entry in entries:
        if not host.store.sound(entry.name):
            damaged.append(entry)
        so_far += entry.size
        reporter.progress("verifying", so_far / max(total, 1))
    needed = _needed(host)
    fetched: list[str] = []
    findings = []
    for entry in damaged:
        users = [one.folder for one in needed if entry.name in one.hashes]
        came = False
        if write:
            host.store.drop(entry.name)
            came = _fetched_again(host, needed, entry.name)
        fetched += [entry.name] if came else []
        linked = f"; {', '.join(users)} may have the damaged bytes too" if users and entry.links else ""
        findings.append(
            Finding(
                code="store-file-damaged",
                severity="error",
                subject=entry.name[:16],
                what=("damaged; removed" if write else "damaged") + (", and fetched again" if came else "") + linked,
                remedy=f"Check that server: {command_line('rhizon', 'check', users[0])}" if linked else "",
            )
        )
    return Verified(
        files=len(entries),
        bytes=total,
        damaged=tuple(entry.name for entry in damaged),
        fetched=tuple(fetched),
        findings=tuple(findings),
    )


def _fetched_again(host: Host, needed: Sequence[_Needed], name: str) -> bool:
    for one in needed:
        file = one.locked.get(name)
        if file is not None and one.catalogs:
            try:
                catalogs = host.open_catalogs(one.catalogs, Path(one.folder))
                fetch_all(catalogs, [file], host.store, lambda _progress: None)
            except RhizonError:
                continue
            return True
    return False


def prune_store(host: Host, keep: Sequence[Path], since_seconds: float, *, write: bool) -> PruneResult:
    """Removes what no server and none of the locks in ``keep`` needs, unless it was added within the last
    ``since_seconds``: another command may have fetched it just now. Raises DocumentError, InputError for a lock that
    cannot be read."""
    wanted = {name for one in _needed(host) for name in one.hashes}
    for file in keep:
        lock = read_lock(file)
        wanted |= {one.sha256 for one in locked_files(lock)} | {
            one.sha256 for one in (*lock.overlay, *lock.player_overlay)
        }
    before = time.time() - since_seconds
    gone = [one for one in host.store.entries() if one.name not in wanted and one.since <= before]
    gone += [one for one in host.store.left_over() if one.since <= before]
    kept = sum(1 for _ in host.store.entries()) - sum(not one.name.startswith("incoming-") for one in gone)
    for one in gone if write else ():
        host.store.drop(one.name)
    return PruneResult(files=len(gone), bytes=sum(one.size for one in gone), kept_files=kept)
