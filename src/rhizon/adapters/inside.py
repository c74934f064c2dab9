"""Files below one folder, reached part by part from a handle of it, so that no link leads out of the folder.

The user that a server runs as can write into its instance and may put a link anywhere there, at any moment. So every
part of a path is opened by name in the folder before it, without following links (openat(2), O_NOFOLLOW), and files
are created, renamed and removed by name in the folder that was opened. Where a system has no such calls, each part is
looked at before use.

Links to folders that a person named in host.toml (``linked``) are followed, and only there.

What is written keeps the owner, group and mode of the file that it replaces; what is new belongs to the owner of the
folder that it is in, where we may give it away.
"""

import contextlib
import errno
import hashlib
import os
import secrets
import stat
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from rhizon.core.errors import StateError

if TYPE_CHECKING:
    from rhizon.adapters.verified import Verified

__all__ = ["Inside", "Owner", "give_like_folder", "write_all"]

_BY_HANDLE = os.open in os.supports_dir_fd and hasattr(os, "O_NOFOLLOW")
_FOLDER = os.O_RDONLY | getattr(os, "O_DIRECTORY", 0) | getattr(os, "O_CLOEXEC", 0)
_NOFOLLOW = getattr(os, "O_NOFOLLOW", 0)
_CLOEXEC = getattr(os, "O_CLOEXEC", 0)
MOST_HANDLES = 64


class Owner(NamedTuple):
    """Who a file belongs to, by number."""

    uid: int
    gid: int


def _root() -> bool:
    return hasattr(os, "geteuid") and os.geteuid() == 0


def give_like_folder(path: Path) -> None:
    """Gives a new file or folder to the owner of the folder that it is in, when we are the administrator: what root
    writes among the files of another user must stay theirs. Raises OSError."""
    if _root():
        around = os.stat(path.parent)  # noqa: PTH116 - a link to the folder is followed, the file is not
        mine = path.lstat()
        if (mine.st_uid, mine.st_gid) != (around.st_uid, around.st_gid):
            os.chown(path, around.st_uid, around.st_gid, follow_symlinks=False)


class Inside:
    """One folder, open until :meth:`close`. Paths are relative to it, with ``/`` between their parts.

    Every method raises :class:`~rhizon.core.errors.StateError` (``linked-folder``) where a folder on the way is a link
    or no folder, and OSError for the rest.
    """

    def __init__(self, root: Path, linked: tuple[Path, ...] = ()) -> None:
        self.root = root
        self._linked = tuple(one.resolve() for one in linked)
        self._handles: dict[str, int] = {}

    def __enter__(self) -> "Inside":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Gives the handles back."""
        self._forget("")

    # ---- the way to a folder

    def _forget(self, path: str) -> None:
        """Handles of a folder that is renamed or removed, and of all below it, are of no use any more."""
        gone = [one for one in self._handles if not path or one == path or one.startswith(f"{path}/")]
        for one in gone:
            os.close(self._handles.pop(one))

    def _open(self, path: str, *, make: bool = False) -> int:
        """The handle of a folder."""
        known = self._handles.pop(path, None)
        if known is not None:
            self._handles[path] = known  # the one that was used last is given up last
            return known
        if not path:
            handle = os.open(self.root, _FOLDER)
        else:
            parent, _, name = path.rpartition("/")
            around = self._open(parent, make=make)
            handle = self._open_one(around, name, path, make=make)
        if len(self._handles) >= MOST_HANDLES:
            oldest = next((one for one in self._handles if one and not f"{path}/".startswith(f"{one}/")), None)
            if oldest is not None:
                os.close(self._handles.pop(oldest))
        self._handles[path] = handle
        return handle

    def _open_one(self, around: int, name: str, path: str, *, make: bool) -> int:
        """Opens one part of a path relative to its folder, without following a link. Raises StateError for a link that
        host.toml does not allow."""
        try:
            return os.open(name, _FOLDER | _NOFOLLOW, dir_fd=around)
        except FileNotFoundError:
            if not make:
                raise
        except OSError as refused:
            if refused.errno not in (errno.ELOOP, errno.ENOTDIR, errno.EMLINK):
                raise
            return self._through_link(around, name, path)
        os.mkdir(name, 0o777, dir_fd=around)
        handle = os.open(name, _FOLDER | _NOFOLLOW, dir_fd=around)
        if _root():
            facts = os.fstat(around)
            _give(handle, Owner(facts.st_uid, facts.st_gid))
        return handle

    def _through_link(self, around: int, name: str, path: str) -> int:
        """The folder behind a link, where it is one that the person named."""
        if self._linked and stat.S_ISLNK(os.lstat(name, dir_fd=around).st_mode):
            handle = os.open(name, _FOLDER, dir_fd=around)
            there = os.fstat(handle)
            for one in self._linked:
                # the folder that was opened is compared, not its name: names can change meanwhile
                target = Path(os.path.realpath(self.root / path))
                with contextlib.suppress(OSError):
                    facts = target.stat()
                    same = (facts.st_dev, facts.st_ino) == (there.st_dev, there.st_ino)
                    if same and target.is_relative_to(one):
                        return handle
            os.close(handle)
        raise self._refused(path)

    def _refused(self, path: str) -> StateError:
        return StateError(
            "linked-folder",
            f"{self.root / path} is a link or not a folder: Rhizon does not follow links inside a server's folder",
            hint="Put the folder itself there. For a world on another disk, name its folder in host.toml: "
            'linked = ["/that/folder"].',
        )

    def _at(self, path: str, *, make: bool = False) -> tuple[str, int | None]:
        """A path as the calls of the system take it: a name, and the handle of the folder that it is in."""
        parent, _, name = path.rpartition("/")
        if _BY_HANDLE:
            return name, self._open(parent, make=make)
        so_far = self.root
        for part in parent.split("/") if parent else ():
            so_far = so_far / part
            try:
                facts = so_far.lstat()
            except FileNotFoundError:
                if not make:
                    raise
                so_far.mkdir()
                continue
            if not stat.S_ISDIR(facts.st_mode):
                raise self._refused(str(so_far.relative_to(self.root)))
        return str(self.root / path), None

    def handle(self, path: str) -> int:
        """The handle of a folder, open as long as this is."""
        return self._open(path)

    # ---- looking

    def lstat(self, path: str) -> os.stat_result | None:
        """What there is at a path; None for nothing."""
        try:
            name, around = self._at(path)
            return os.stat(name, dir_fd=around, follow_symlinks=False)
        except (FileNotFoundError, NotADirectoryError):
            return None

    def is_file(self, path: str) -> bool:
        """Whether an ordinary file is there."""
        facts = self.lstat(path)
        return facts is not None and stat.S_ISREG(facts.st_mode)

    def is_folder(self, path: str) -> bool:
        """Whether a folder is there that may be entered."""
        try:
            self._open(path) if _BY_HANDLE else self._at(f"{path}/x")
        except (FileNotFoundError, NotADirectoryError, StateError):
            return False
        return True

    def names(self, path: str) -> list[str]:
        """What is in a folder, sorted; nothing where there is no such folder."""
        try:
            if _BY_HANDLE:
                return sorted(os.listdir(self._open(path)))  # noqa: PTH208 - of a handle
            return sorted(one.name for one in (self.root / path).iterdir())
        except (FileNotFoundError, NotADirectoryError):
            return []

    def device(self, path: str) -> int:
        """The file system that a folder is on."""
        return os.fstat(self._open(path)).st_dev if _BY_HANDLE else (self.root / path).stat().st_dev

    def open_read(self, path: str) -> int:
        """A handle to read an ordinary file from. Raises OSError where there is none, StateError for a link or what is
        not an ordinary file."""
        name, around = self._at(path)
        handle = os.open(name, os.O_RDONLY | _NOFOLLOW | _CLOEXEC | getattr(os, "O_NONBLOCK", 0), dir_fd=around)
        if not stat.S_ISREG(os.fstat(handle).st_mode):
            os.close(handle)
            raise OSError(errno.EINVAL, "not an ordinary file", str(self.root / path))
        return handle

    def read(self, path: str, most: int = 512 << 20) -> bytes:
        """A file whole, at most ``most`` bytes of it."""
        with os.fdopen(self.open_read(path), "rb") as file:
            return file.read(most)

    def hashes(self, paths: Iterable[str], verified: "Verified | None" = None) -> dict[str, str]:
        """The SHA-256 of those paths that are files; anything else in the place of a file is a :class:`StateError`.
        Files that ``verified`` knows are not read."""
        found = {}
        for path in paths:
            facts = self.lstat(path)
            if facts is None:
                continue
            if not stat.S_ISREG(facts.st_mode):
                raise StateError(
                    "file-in-the-way",
                    f"{self.root / path} is not an ordinary file",
                    hint="Move it elsewhere; Rhizon does not follow links inside a server's folder.",
                )
            known = verified.sha256_of(facts) if verified is not None else None
            if known is None:
                with os.fdopen(self.open_read(path), "rb") as file:
                    known = hashlib.file_digest(file, "sha256").hexdigest()
                if verified is not None:
                    verified.note(facts, known)
            found[path] = known
        return found

    # ---- changing

    def make_folder(self, path: str) -> None:
        """Makes a folder and those above it, as far as they are not there."""
        self._at(f"{path}/x", make=True)

    def owner_at(self, path: str) -> Owner | None:
        """Who a file at this path is to belong to: whom the one there belongs to, else, when we are the administrator,
        whom the nearest folder above belongs to. None where nothing has to be done.

        Raises :class:`StateError` where we could not keep the owner or group of the file that is there.
        """
        if not hasattr(os, "geteuid"):
            return None
        facts = self.lstat(path)
        if facts is not None:
            if _root():
                return Owner(facts.st_uid, facts.st_gid)
            groups = {os.getegid(), *os.getgroups()}
            if facts.st_uid != os.geteuid() or facts.st_gid not in groups:
                raise StateError(
                    "owner-not-kept",
                    f"{self.root / path} belongs to another user or group, and replacing it would change its owner",
                    hint="Run this as the user that the file belongs to, or as the administrator.",
                )
            return Owner(facts.st_uid, facts.st_gid)
        if not _root():
            return None
        parent = path.rpartition("/")[0]
        while parent and not self.is_folder(parent):
            parent = parent.rpartition("/")[0]
        around = os.fstat(self._open(parent))
        return Owner(around.st_uid, around.st_gid)

    @contextlib.contextmanager
    def new_file(self, path: str, mode: int = 0o644, owner: Owner | None = None) -> Iterator[int]:
        """A handle to write a new file with; at the end it has its mode and owner and is on the disk. The file must not
        be there yet; where something fails it is gone again."""
        name, around = self._at(path, make=True)
        flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | _NOFOLLOW | _CLOEXEC
        handle = os.open(name, flags, 0o600, dir_fd=around)
        try:
            yield handle
            _finish(handle, mode, owner)
        except BaseException:
            os.close(handle)
            with contextlib.suppress(OSError):
                os.unlink(name, dir_fd=around)
            raise
        os.close(handle)

    def open_write(self, path: str, *, append: bool = False) -> int:
        """A handle to write an ordinary file from its beginning, or at its end; it is made where it is not there."""
        fresh = self.lstat(path) is None
        owner = self.owner_at(path) if fresh else None
        name, around = self._at(path, make=True)
        flags = os.O_WRONLY | os.O_CREAT | _NOFOLLOW | _CLOEXEC | (os.O_APPEND if append else os.O_TRUNC)
        handle = os.open(name, flags, 0o644, dir_fd=around)
        if owner is not None:
            _give(handle, owner)
        return handle

    def lock(self, path: str) -> int | None:
        """The handle of a lock file, made where it is not there and locked until it is closed; None where another
        process has it."""
        import fcntl

        fresh = self.lstat(path) is None
        owner = self.owner_at(path) if fresh else None
        name, around = self._at(path, make=True)
        handle = os.open(name, os.O_RDWR | os.O_CREAT | _NOFOLLOW | _CLOEXEC, 0o644, dir_fd=around)
        try:
            if owner is not None:
                _give(handle, owner)
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            os.close(handle)
            return None
        except BaseException:
            os.close(handle)
            raise
        return handle

    def write_new(self, path: str, data: bytes, mode: int = 0o644, owner: Owner | None = None) -> None:
        """A new file whole."""
        with self.new_file(path, mode, owner) as handle:
            write_all(handle, data)

    def replace(self, path: str, data: bytes, mode: int, room: str) -> None:
        """Puts a file in place of what is there, in one rename; its owner and group stay. ``room`` is a folder on the
        same file system to write it in first. The folder is flushed."""
        owner = self.owner_at(path)
        beside = f"{room}/{path.rpartition('/')[2]}-{secrets.token_hex(4)}"
        self.write_new(beside, data, mode, owner)
        try:
            self.rename(beside, path)
        except BaseException:
            with contextlib.suppress(OSError):
                self.unlink(beside)
            raise
        self.sync(path.rpartition("/")[0])

    def rename(self, before: str, after: str) -> None:
        """Moves a file or folder; what is at the new path goes."""
        source, source_around = self._at(before)
        target, target_around = self._at(after, make=True)
        os.replace(source, target, src_dir_fd=source_around, dst_dir_fd=target_around)
        self._forget(before)
        self._forget(after)

    def link(self, before: str, after: str) -> None:
        """Another name for a file."""
        source, source_around = self._at(before)
        target, target_around = self._at(after, make=True)
        os.link(source, target, src_dir_fd=source_around, dst_dir_fd=target_around, follow_symlinks=False)

    def link_from(self, outside: str, path: str) -> None:
        """Another name here for a file that is elsewhere."""
        name, around = self._at(path, make=True)
        os.link(outside, name, dst_dir_fd=around, follow_symlinks=False)

    def unlink(self, path: str) -> None:
        """Removes a file, if it is there."""
        with contextlib.suppress(FileNotFoundError, NotADirectoryError):
            name, around = self._at(path)
            os.unlink(name, dir_fd=around)

    def remove_folder(self, path: str) -> None:
        """Removes an empty folder."""
        self._forget(path)
        name, around = self._at(path)
        os.rmdir(name, dir_fd=around)

    def remove(self, path: str) -> None:
        """Removes whatever is at a path, a folder with all below it and whatever modes its folders have. A link is
        removed, never what it leads to."""
        facts = self.lstat(path)
        if facts is None:
            return
        if not stat.S_ISDIR(facts.st_mode):
            self.unlink(path)
            return
        if facts.st_mode & 0o700 != 0o700 and not _root():  # the administrator need not, and links are followed here
            name, around = self._at(path)
            os.chmod(name, 0o700, dir_fd=around)
        for name in self.names(path):
            self.remove(f"{path}/{name}")
        self.remove_folder(path)

    def sync(self, path: str) -> None:
        """Makes renames in a folder last; file systems that cannot are passed over."""
        with contextlib.suppress(OSError):
            if _BY_HANDLE:
                os.fsync(self._open(path))


def _give(handle: int, owner: Owner) -> None:
    """Gives an open file its owner. A hardened service may not even give it the one it has. Raises OSError."""
    facts = os.fstat(handle)
    if (facts.st_uid, facts.st_gid) != owner:
        os.fchown(handle, *owner)


def _finish(handle: int, mode: int, owner: Owner | None) -> None:
    """Gives an open file its owner and mode, and flushes it. Raises OSError."""
    if owner is not None:
        _give(handle, owner)
    if hasattr(os, "fchmod"):
        os.fchmod(handle, mode)
    os.fsync(handle)


def write_all(handle: int, data: bytes) -> None:
    """Writes all of it, in as many calls as the system takes. Raises OSError."""
    view = memoryview(data)
    while view:
        view = view[os.write(handle, view) :]
