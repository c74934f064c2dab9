"""A folder as one tar file: the same bytes for the same files."""

import tarfile
from pathlib import Path

from rhizon.adapters.files import translated

__all__ = ["pack_folder"]


def pack_folder(folder: Path, target: Path) -> None:
    """Writes all files of a folder, in the order of their names, without times and owners. Raises StateError."""

    def plain(entry: tarfile.TarInfo) -> tarfile.TarInfo:
        entry.mtime, entry.uid, entry.gid, entry.uname, entry.gname = 0, 0, 0, "", ""
        entry.mode = 0o755 if entry.isdir() else 0o644
        return entry

    with translated("pack the folder", target), tarfile.open(target, "w") as tar:
        for path in sorted(folder.rglob("*")):
            tar.add(path, path.relative_to(folder).as_posix(), recursive=False, filter=plain)
