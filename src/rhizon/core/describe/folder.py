"""A folder as far as it is looked at: names, sizes, and the texts of small files."""

from typing import NamedTuple

__all__ = ["FileFacts", "FolderFacts"]


class FileFacts(NamedTuple):
    """One file: its path, its size in bytes, whether it may be executed, its first bytes, and its text where it is a
    small one."""

    path: str
    size: int
    executable: bool
    head: bytes
    data: bytes | None = None

    @property
    def name(self) -> str:
        """Without its folder."""
        return self.path.rpartition("/")[2]

    @property
    def folder(self) -> str:
        """The folder that it is in, "" for the server's own."""
        return self.path.rpartition("/")[0]

    @property
    def ending(self) -> str:
        """In small letters, without the dot."""
        return self.name.rpartition(".")[2].lower() if "." in self.name else ""


class FolderFacts(NamedTuple):
    """Files in the order of their paths, and every folder."""

    files: tuple[FileFacts, ...]
    folders: tuple[str, ...]

    def file(self, path: str) -> FileFacts | None:
        """The file of a path."""
        return next((one for one in self.files if one.path == path), None)
