"""Files that a lock names and no catalog has: kept in a folder beside the lock, and found there by their hash."""

import hashlib
from collections.abc import Iterable
from pathlib import Path

from rhizon.adapters.files import make_folders, translated, write_atomic
from rhizon.app.host import Host
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


def put_beside(host: Host, lock: Lock, file: Path, *, write: bool) -> int:
    """Copies what no catalog has into the folder beside the lock's file; answers how many files that are. What the
    store has lost is left out. Raises StateError where it cannot be written."""
    folder = archives_beside(file)
    count = 0
    for sha256, (path, size) in sorted(_own(lock).items()):
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
    wanted = {sha256: size for sha256, (_, size) in _own(lock).items() if not host.store.has(sha256, size)}
    for folder in folders:
        with translated("read the archives beside the lock", folder):
            for one in sorted(folder.iterdir()) if wanted and folder.is_dir() else ():
                if not one.is_file() or one.stat().st_size not in wanted.values():
                    continue
                data = one.read_bytes()
                if wanted.pop(hashlib.sha256(data).hexdigest(), None) is not None:
                    host.store.add(data)
