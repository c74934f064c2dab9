"""``rhizon-tree/1``: files that are in a folder of a catalog as they will be placed in the instance."""

from typing import Annotated, Literal

import msgspec

from rhizon.core.model.base import Sha256, Size, Strict
from rhizon.core.names import UnsafeNameError, safe_path

__all__ = ["PIECE_SIZE", "FileTree", "TreeFile"]

PIECE_SIZE = 4 << 20  # bytes


class TreeFile(Strict, frozen=True, kw_only=True):
    """A file of a tree; one that is longer than a piece has the hashes of its pieces, all but the last as long as the
    tree says."""

    sha256: Sha256
    size: Size
    executable: bool = False
    pieces: tuple[Sha256, ...] = ()


class FileTree(Strict, frozen=True, kw_only=True):
    """Every file by its path, so that only what differs need come."""

    format: Literal["rhizon-tree/1"]
    piece_size: Annotated[int, msgspec.Meta(ge=1 << 10, le=1 << 30)] = PIECE_SIZE
    files: dict[str, TreeFile]

    def __post_init__(self) -> None:
        for path, file in self.files.items():
            try:
                safe_path(path)
            except UnsafeNameError as why:
                raise ValueError(f"files: {path!r}: {why}") from None
            if file.pieces and len(file.pieces) != -(-file.size // self.piece_size):
                raise ValueError(f"files: {path!r}: the sizes of its pieces do not add up")
