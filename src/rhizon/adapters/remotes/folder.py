"""A rented server as a folder of this machine: a mounted share, or a test."""

import contextlib
import hashlib
import os
import shutil
from collections.abc import Callable, Collection, Iterator, Sequence
from pathlib import Path

from rhizon.adapters.remotes.files import Download, Upload
from rhizon.core.errors import RemoteError
from rhizon.core.remote.push_plan import ThereFile

__all__ = ["FolderFiles"]


@contextlib.contextmanager
def _translated(root: Path) -> Iterator[None]:
    try:
        yield
    except OSError as broken:
        what = f"{broken.strerror or broken}: {broken.filename or root}"
        raise RemoteError(
            "remote-refused", what, hint="Check that the share is mounted, and may be written to."
        ) from None


def _refuse(wrong: OSError) -> None:
    """A folder that cannot be read must not be taken for an empty one; one that has gone is."""
    if not isinstance(wrong, FileNotFoundError):
        raise wrong


class FolderFiles:
    """Files below one folder."""

    replaces = True
    hashes_there = "this machine"
    lists_by = ""

    def __init__(self, root: Path) -> None:
        if not root.is_dir():
            raise RemoteError("remote-unreachable", f"there is no folder {root}", hint="Mount it, or correct the path.")
        self._root = root

    def listing(
        self,
        leave: Sequence[str] = (),
        exact: Collection[str] = (),  # noqa: ARG002
        below: str = "",
    ) -> dict[str, ThereFile]:
        found = {}
        with _translated(self._root):
            for folder, names, files in os.walk(self._root / below, onerror=_refuse):
                here = Path(folder).relative_to(self._root)
                names[:] = [one for one in sorted(names) if (here / one).as_posix() not in leave]
                for name in files:
                    path = Path(folder, name)
                    if path.is_file() and not path.is_symlink():
                        facts = path.stat()
                        found[(here / name).as_posix()] = ThereFile(size=facts.st_size, mtime=int(facts.st_mtime))
        return found

    def list_and_read(
        self, leave: Sequence[str], exact: Collection[str], path: str, most: int
    ) -> tuple[dict[str, ThereFile], bytes | None]:
        return self.listing(leave, exact), self.read(path, most)

    def read(self, path: str, most: int, begin: int = 0) -> bytes | None:
        with _translated(self._root):
            try:
                with (self._root / path).open("rb") as file:
                    file.seek(begin)
                    return file.read(most)
            except FileNotFoundError:
                return None

    def write(self, path: str, data: bytes) -> None:
        with _translated(self._root):
            place = self._root / path
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_bytes(data)

    def upload(self, files: Sequence[Upload], told: Callable[[int], None]) -> dict[str, str]:
        with _translated(self._root):
            for one in files:
                place = self._root / one.path
                place.parent.mkdir(parents=True, exist_ok=True)
                begun = place.stat().st_size if place.is_file() else 0
                begun = begun if begun <= one.size else 0
                with one.open() as source, place.open("ab" if begun else "wb") as file:
                    source.seek(begun)
                    shutil.copyfileobj(source, file, 1 << 20)
                    file.flush()
                    os.fsync(file.fileno())
                if one.executable:
                    place.chmod(0o755)
                told(one.size - begun)
        return {}  # read back at once it would come from memory

    def download(self, files: Sequence[Download], told: Callable[[int], None]) -> None:
        with _translated(self._root):
            for one in files:
                with contextlib.suppress(FileNotFoundError):
                    shutil.copyfile(self._root / one.path, one.to)
                    told(one.to.stat().st_size)

    def hashes(self, paths: Sequence[str], told: Callable[[int], None]) -> dict[str, str]:
        found = {}
        with _translated(self._root):
            for path in paths:
                with contextlib.suppress(FileNotFoundError), (self._root / path).open("rb") as file:
                    found[path] = hashlib.file_digest(file, "sha256").hexdigest()
                    told(file.tell())
        return found

    def create(self, path: str, data: bytes) -> bool:
        with _translated(self._root):
            place = self._root / path
            place.parent.mkdir(parents=True, exist_ok=True)
            try:
                with place.open("xb") as file:
                    file.write(data)
            except FileExistsError:
                return False
            return True

    def rename(self, before: str, after: str) -> None:
        with _translated(self._root):
            (self._root / after).parent.mkdir(parents=True, exist_ok=True)
            (self._root / before).replace(self._root / after)

    def rename_all(self, pairs: Sequence[tuple[str, str]]) -> None:
        for before, after in pairs:
            self.rename(before, after)

    def remove(self, path: str) -> None:
        with _translated(self._root):
            (self._root / path).unlink(missing_ok=True)

    def make_folder(self, path: str) -> None:
        with _translated(self._root):
            (self._root / path).mkdir(parents=True, exist_ok=True)

    def remove_all(self, paths: Sequence[str]) -> None:
        for path in paths:
            self.remove(path)

    def remove_folder(self, path: str) -> None:
        with _translated(self._root), contextlib.suppress(FileNotFoundError):
            shutil.rmtree(self._root / path)

    def free_mib(self) -> int | None:
        with _translated(self._root):
            return shutil.disk_usage(self._root).free >> 20

    def close(self) -> None:
        """Nothing is open."""
