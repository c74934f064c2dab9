"""Server files that are in a folder of a catalog: making the document that lists them, and what of it must come."""

import hashlib
from collections.abc import Iterable
from pathlib import Path

from rhizon.adapters.fetching import Piecewise
from rhizon.adapters.store import Store
from rhizon.core.errors import InputError, RhizonError
from rhizon.core.model.documents import decode
from rhizon.core.model.lock import Lock, LockedFile
from rhizon.core.model.tree import PIECE_SIZE, FileTree, TreeFile
from rhizon.core.names import RelPath, UnsafeNameError, safe_path

__all__ = ["file_tree", "piecewise", "read_tree", "tree_files", "tree_path"]


def tree_path(game: str, folder: RelPath) -> RelPath:
    """Where the document about a folder is in the catalog."""
    return RelPath(f"{game}/trees/{folder.replace('/', '-')}.json")


def file_tree(folder: Path) -> FileTree:
    """The document about a folder. Raises InputError for links and names that some system cannot hold."""
    files = {}
    for file in sorted(folder.rglob("*")):
        name = file.relative_to(folder).as_posix()
        if file.is_symlink():
            raise InputError(
                "tree-link", f"{file} is a link", hint="Replace it by the file; server files are ordinary files."
            )
        if file.is_file():
            try:
                files[safe_path(name)] = _tree_file(file)
            except UnsafeNameError as why:
                raise InputError("tree-name", f"{file} has a bad name: {why}", hint="Rename it.") from None
    return FileTree(format="rhizon-tree/1", files={str(name): one for name, one in files.items()})


def _tree_file(file: Path) -> TreeFile:
    """A file of a tree with its hash and, where it is long, the hashes of its pieces."""
    whole = hashlib.sha256()
    pieces = []
    size = 0
    with file.open("rb") as source:
        while data := source.read(PIECE_SIZE):
            whole.update(data)
            size += len(data)
            pieces.append(hashlib.sha256(data).hexdigest())
    return TreeFile(
        sha256=whole.hexdigest(),
        size=size,
        executable=bool(file.stat().st_mode & 0o100),
        pieces=tuple(pieces) if len(pieces) > 1 else (),
    )


def read_tree(store: Store, lock: Lock) -> FileTree | None:
    """The tree of a lock's server, from the store; None for a server that comes as an archive."""
    if lock.server_tree is None:
        return None
    server = lock.server
    return decode(FileTree, store.read(server.sha256, server.path), f"{server.catalog}:{server.path}")


def tree_files(lock: Lock, tree: FileTree) -> list[LockedFile]:
    """Every file of a tree as something to fetch."""
    return [
        LockedFile(
            catalog=lock.server.catalog,
            path=safe_path(f"{lock.server_tree}/{path}"),
            sha256=file.sha256,
            size=file.size,
        )
        for path, file in tree.files.items()
    ]


def piecewise(store: Store, tree: FileTree, before: Iterable[Lock]) -> dict[str, Piecewise]:
    """For each long file of a tree how it can be put together from what earlier servers have in the store."""
    here: dict[str, tuple[Path, int]] = {}
    for lock in before:
        try:
            old = read_tree(store, lock)
        except RhizonError:
            continue  # it is not in the store any more: all of the new one comes
        for file in old.files.values() if old is not None and old.piece_size == tree.piece_size else ():
            if file.pieces and store.has(file.sha256, file.size):
                for number, piece in enumerate(file.pieces):
                    here.setdefault(piece, (store.path(file.sha256), number * tree.piece_size))
    return {
        file.sha256: Piecewise(file.pieces, tree.piece_size, here)
        for file in tree.files.values()
        if any(piece in here for piece in file.pieces)
    }
