"""A rented server's files, whatever they are reached over. Paths are relative to the server's folder there."""

import io
from collections.abc import Callable, Collection, Sequence
from pathlib import Path
from typing import BinaryIO, NamedTuple, Protocol

from rhizon.core.errors import RemoteError
from rhizon.core.remote.push_plan import ThereFile

__all__ = ["CommandResult", "Download", "RemoteFiles", "Upload", "protected"]


class Upload(NamedTuple):
    """What a path gets: a file of here or bytes, and how many. What lies there of them already is continued."""

    path: str
    source: Path | bytes
    size: int
    executable: bool = False

    def open(self) -> BinaryIO:
        """The bytes as a file. Raises OSError."""
        return io.BytesIO(self.source) if isinstance(self.source, bytes) else self.source.open("rb")


class Download(NamedTuple):
    """A file there, and where it goes here; its folder is there."""

    path: str
    to: Path


class CommandResult(NamedTuple):
    """How a command there ended, and what it printed."""

    code: int
    output: str
    errors: str


def protected(host: str, before: str, after: str, why: str) -> RemoteError:
    """That a file cannot be put in the place of another one."""
    return RemoteError(
        "remote-refused",
        f"{host} does not let {before} become {after}: {why}",
        hint="If the host keeps that file as it is, name it in the remote file: read_only.",
    )


class RemoteFiles(Protocol):
    """Every method raises RemoteError where the other side does not answer or refuses."""

    replaces: bool  # whether a rename replaces the file that is there

    @property
    def hashes_there(self) -> str:
        """By what the other side computes a file's SHA-256; "" where it cannot, and files are read back."""

    @property
    def lists_by(self) -> str:
        """By what folders are listed, where there are several ways."""

    def listing(self, leave: Sequence[str] = (), exact: Collection[str] = (), below: str = "") -> dict[str, ThereFile]:
        """Every ordinary file in the folder ``below``, which need not be there; folders in ``leave`` are not gone into.
        Where times cost a question each, only those in ``exact`` have theirs, and others 0."""

    def list_and_read(
        self, leave: Sequence[str], exact: Collection[str], path: str, most: int
    ) -> tuple[dict[str, ThereFile], bytes | None]:
        """A listing and a file, at once where the line can."""

    def read(self, path: str, most: int, begin: int = 0) -> bytes | None:
        """At most so many bytes of a file, from a byte on; None where there is none."""

    def write(self, path: str, data: bytes) -> None:
        """A small file, in place of what is there."""

    def upload(self, files: Sequence[Upload], told: Callable[[int], None]) -> dict[str, str]:
        """Sends files, several at once; ``told`` hears of bytes. Answers the SHA-256 of those that the other side has
        hashed after they came."""

    def download(self, files: Sequence[Download], told: Callable[[int], None]) -> None:
        """Fetches files; one that has gone meanwhile is left out. ``told`` hears of bytes."""

    def hashes(self, paths: Sequence[str], told: Callable[[int], None]) -> dict[str, str]:
        """SHA-256 of files, by the other side or by reading them back; ``told`` hears of bytes that were read."""

    def create(self, path: str, data: bytes) -> bool:
        """A small file that must not be there yet; False where it is."""

    def rename(self, before: str, after: str) -> None:
        """In place of what is there, where ``replaces`` says so."""

    def rename_all(self, pairs: Sequence[tuple[str, str]]) -> None:
        """Several at once."""

    def remove(self, path: str) -> None:
        """A file, if it is there."""

    def make_folder(self, path: str) -> None:
        """A folder with those above it, if it is not there."""

    def remove_all(self, paths: Sequence[str]) -> None:
        """Several at once."""

    def remove_folder(self, path: str) -> None:
        """A folder and all that is in it, if it is there."""

    def free_mib(self) -> int | None:
        """Free space; None where it is not told."""

    def close(self) -> None:
        """Ends the connection."""
