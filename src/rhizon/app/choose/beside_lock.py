"""Files that a lock names and no catalog has: kept in a folder beside the lock, and found there by their hash."""

import hashlib
from collections.abc import Iterable
from pathlib import Path

from rhizon.adapters.files import make_folders, translated, write_atomic
from rhizon.app.host import Host
from rhizon.app.instance.server_tree import read_tree
from rhizon.core.model.catalog import LOCAL
from rhizon.core.model.lock import LaidFile, Lock, LockedFile

__all__ = ["archives_beside", "put_beside", "take_beside"]


def archives_beside(file: Path) -> Path:
    """The folder of a lock's file: ``marsh.archives`` of ``marsh.lock.json``."""
    return file.with_name(file.name.removesuffix(".json").removesuffix(".lock") + ".archives")


def _own(lock: Lock) -> dict[str, tuple[str, int]]:
    """Hash to name and size of what no catalog has: a person's own archives and a pack's files."""
    files: list[LockedFile | LaidFile] = [one.file for one in lock.releases if one.file.catalog == LOCAL]
    return {one.sha256: (one.path, one.size) for one in (*files, *lock.overlay, *lock.player_overlay)}


def _whole(host: Host, lock: Lock) -> dict[str, tuple[str, int]]:
    """The same of everything that the lock names; of server files in a folder those that the document about them lists,
    once the store has that document."""
    loader = [lock.loader.file] if lock.loader is not None else []
    files = [lock.server, *loader, *(one.file for one in lock.releases)]
    found = _own(lock) | {one.sha256: (one.path, one.size) for one in files}
    if lock.server_tree is not None and host.store.has(lock.server.sha256, lock.server.size):
        tree = read_tree(host.store, lock)
        found |= {one.sha256: (path, one.size) for path, one in tree.files.items()} if tree is not None else {}
    return found


def put_beside(host: Host, lock: Lock, file: Path, *, write: bool, whole: bool = False) -> int:
    """Copies what no catalog has, or the ``whole`` that the lock names, into the folder beside the lock's file; answers
    how many files that are. What the store has lost is left out. Raises StateError where it cannot be written."""
    folder = archives_beside(file)
    count = 0
    for sha256, (path, size) in sorted((_whole(host, lock) if whole else _own(lock)).items()):
        if not host.store.has(sha256, size):
            continue
        count += 1
        if write:
            target = folder / f"{sha256[:12]}-{path.rpartition('/')[2]}"
            with translated("write the archives beside the lock", target):
                make_folders(folder)
                write_atomic(target, host.store.read(sha256, path))
    return count


def take_beside(host: Host, lock: Lock, folders: Iterable[Path]) -> None:
    """Puts what the lock names, and the store lacks, from these folders into the store; names there do not matter."""
    folders = [one for one in folders if one.is_dir()]
    before = None
    while folders:  # a document that lists server files is among them: then those files are taken, too
        wanted = {sha256: size for sha256, (_, size) in _whole(host, lock).items() if not host.store.has(sha256, size)}
        if not wanted or wanted.keys() == before:
            return
        before = wanted.keys()
        _take(host, dict(wanted), folders)


def _take(host: Host, wanted: dict[str, int], folders: Iterable[Path]) -> None:
    for folder in folders:
        with translated("read the archives beside the lock", folder):
            for one in sorted(folder.iterdir()) if wanted else ():
                if not one.is_file() or one.stat().st_size not in wanted.values():
                    continue
                data = one.read_bytes()
                if wanted.pop(hashlib.sha256(data).hexdigest(), None) is not None:
                    host.store.add(data)
