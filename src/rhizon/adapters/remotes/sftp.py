"""A rented server over SFTP (version 3, with the extensions that OpenSSH has), by asyncssh.

asyncssh works on an event loop; that is this object's own, in a thread of its own, and each method waits for it.
"""

import asyncio
import contextlib
import hashlib
import os
import posixpath
import re
import shlex
import stat
import threading
from collections.abc import Callable, Collection, Coroutine, Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from rhizon.adapters.files import translated
from rhizon.adapters.remotes.files import CommandResult, Download, RemoteFiles, Upload, protected
from rhizon.adapters.remotes.host_keys import CONNECT_SECONDS, is_known
from rhizon.adapters.remotes.login import password_of
from rhizon.core.errors import InputError, RemoteError, TrustError
from rhizon.core.model.remote import Reach
from rhizon.core.remote.push_plan import ThereFile

if TYPE_CHECKING:
    import asyncssh

__all__ = ["SftpFiles", "sftp_files"]

ALIVE_SECONDS = 15  # a line that is dead for three times this is given up
FILES_AT_ONCE = 8  # more only fill each other's window
AT_ONCE = 16
FOLDERS_AT_ONCE = 64
READDIRS_AT_ONCE = 4
CHUNK = 1 << 20  # of a file on its way at once, as several requests; servers may answer them in any order
SUMS_AT_ONCE = 200
CIPHERS = ("aes128-gcm@openssh.com", "aes256-gcm@openssh.com", "chacha20-poly1305@openssh.com", "aes128-ctr")

T = TypeVar("T")
_SHA256 = re.compile(r"[0-9a-f]{64}")


def sftp_files(reach: Reach, known_hosts: Path) -> RemoteFiles:
    """Raises RemoteError, TrustError (the key of the other side is not the one that is known), InputError."""
    return SftpFiles(reach, known_hosts)


class SftpFiles:
    """One connection."""

    lists_by = ""

    def __init__(self, reach: Reach, known_hosts: Path) -> None:
        try:
            import asyncssh  # noqa: F401 - slow to import, and an extra
        except ImportError:
            raise InputError(
                "no-asyncssh", "SFTP needs the package asyncssh", hint="Install it: pip install 'rhizon[remote]'"
            ) from None
        self._reach = reach
        self._loop = asyncio.new_event_loop()
        # of several requests that fail at once, one is raised; the others are nobody's business
        self._loop.set_exception_handler(lambda _loop, _context: None)
        self._thread = threading.Thread(target=self._loop.run_forever, daemon=True)
        self._thread.start()
        self.replaces = True
        self._root: asyncio.Future[None] | None = None
        self._made: dict[str, asyncio.Future[None]] = {}  # folders that are there, or are being made
        self._sum: str | None = None
        try:
            with self._translated():
                self._connection, self._sftp = self._run(self._connected(known_hosts))
        except BaseException:
            self._end()
            raise

    def _run(self, work: Coroutine[Any, Any, T]) -> T:
        return asyncio.run_coroutine_threadsafe(work, self._loop).result()

    async def _connected(self, known_hosts: Path) -> "tuple[asyncssh.SSHClientConnection, asyncssh.SFTPClient]":
        import asyncssh

        reach = self._reach
        port = reach.port or 22
        if not known_hosts.is_file() or not is_known(known_hosts, reach.host, port):
            key = await asyncio.wait_for(asyncssh.get_server_host_key(reach.host, port), CONNECT_SECONDS)
            if key is None:
                raise RemoteError("remote-unreachable", f"{reach.host} gives no key", hint="Check host and port.")
            raise TrustError(
                "host-not-known",
                f"{reach.host} is not known yet; its key is {key.get_fingerprint()}",
                hint="Compare that with what your host says; `rhizon remote probe` accepts it with --accept-key.",
            )
        options: dict[str, Any] = {
            "known_hosts": str(known_hosts),
            "username": reach.user,
            "encryption_algs": CIPHERS,
            "connect_timeout": CONNECT_SECONDS,
            "keepalive_interval": ALIVE_SECONDS,
            "config": None,
        }
        if reach.key:
            options |= {"client_keys": [reach.key], "agent_path": None}
        if password := password_of(reach):
            options["password"] = password
        connection = await asyncssh.connect(reach.host, port, **options)
        return connection, await connection.start_sftp_client()

    @contextlib.contextmanager
    def _translated(self) -> Iterator[None]:
        import asyncssh

        host = self._reach.host
        try:
            yield
        except asyncssh.HostKeyNotVerifiable:
            raise TrustError(
                "host-key-changed",
                f"{host} shows another key than before",
                hint="It may be another machine in its place. Ask your host before you accept the new key.",
            ) from None
        except asyncssh.PermissionDenied:
            raise RemoteError(
                "remote-login", f"{host} does not accept the login of {self._reach.user}", hint="Check key or password."
            ) from None
        except asyncssh.SFTPError as broken:
            if isinstance(broken, (asyncssh.SFTPConnectionLost, asyncssh.SFTPNoConnection)):
                raise _unreachable(host, broken) from None
            raise RemoteError(
                "remote-refused",
                f"{host}: {broken.reason or 'the other side refuses it'}",
                hint="The disk may be full, or the file may be protected. What was sent is continued next time.",
            ) from None
        except (TimeoutError, OSError, asyncssh.Error) as broken:
            raise _unreachable(host, broken) from None

    def _at(self, path: str) -> str:
        return posixpath.join(self._reach.folder, path)

    def listing(
        self,
        leave: Sequence[str] = (),
        exact: Collection[str] = (),  # noqa: ARG002
        below: str = "",
    ) -> dict[str, ThereFile]:
        with self._translated():
            return self._run(self._listed(leave, below))

    async def _listed(self, leave: Sequence[str], top: str, *, deep: bool = True) -> dict[str, ThereFile]:
        import asyncssh

        found: dict[str, ThereFile] = {}
        gate = asyncio.Semaphore(FOLDERS_AT_ONCE)

        async def go(folder: str) -> None:
            below = []
            async with gate:
                try:
                    entries = await self._entries(self._at(folder) if folder else self._reach.folder)
                except asyncssh.SFTPNoSuchFile:
                    return
            for one in entries:
                name = os.fsdecode(one.filename)
                if name in (".", ".."):
                    continue
                path = f"{folder}/{name}" if folder else name
                mode = one.attrs.permissions or 0
                if stat.S_ISDIR(mode):
                    below += [path] if deep and path not in leave else []
                elif stat.S_ISREG(mode):
                    found[path] = ThereFile(size=one.attrs.size or 0, mtime=int(one.attrs.mtime or 0))
            await asyncio.gather(*map(go, below))

        await go(top)
        return found

    async def _entries(self, place: str) -> "list[asyncssh.SFTPName]":
        """What is in a folder there. Several questions are on their way at once, where asyncssh's own scandir waits for
        each answer: over a slow line that is most of the time of a push without changes."""
        import asyncssh

        handler = self._sftp._handler
        handle = await handler.opendir(self._sftp.compose_path(place))
        found: list[asyncssh.SFTPName] = []
        more = True
        try:
            while more:
                answers = await asyncio.gather(
                    *(handler.readdir(handle) for _ in range(READDIRS_AT_ONCE)), return_exceptions=True
                )
                for answer in answers:
                    if isinstance(answer, asyncssh.SFTPEOFError):
                        more = False
                    elif isinstance(answer, BaseException):
                        raise answer
                    else:
                        found += answer[0]
                        more = more and not answer[1]
        finally:
            closing = asyncio.ensure_future(handler.close(handle))  # nobody waits for the answer
            closing.add_done_callback(lambda done: done.cancelled() or done.exception())
        return found

    def list_and_read(
        self,
        leave: Sequence[str],
        exact: Collection[str],  # noqa: ARG002
        path: str,
        most: int,
    ) -> tuple[dict[str, ThereFile], bytes | None]:
        async def both() -> tuple[dict[str, ThereFile], bytes | None]:
            return await asyncio.gather(self._listed(leave, ""), self._got(path, most, 0))

        with self._translated():
            return self._run(both())

    def read(self, path: str, most: int, begin: int = 0) -> bytes | None:
        with self._translated():
            return self._run(self._got(path, most, begin))

    async def _got(self, path: str, most: int, begin: int) -> bytes | None:
        import asyncssh

        try:
            async with self._sftp.open(self._at(path), "rb") as file:
                data = await file.read(most, begin)
                return data if isinstance(data, bytes) else data.encode()
        except asyncssh.SFTPNoSuchFile:
            return None

    def write(self, path: str, data: bytes) -> None:
        with self._translated():
            self._run(self._put(Upload(path, data, len(data)), 0, None))

    async def _put(self, one: Upload, begun: int, told: Callable[[int], None] | None) -> None:
        """Sends a file, from ``begun`` on where so much of it is there, less what may have a hole: a line that was cut
        may have brought the later requests of a piece and not the earlier ones."""
        import asyncssh

        await self._folder_for(one.path)
        begun = max(0, begun - CHUNK) if begun <= one.size else 0
        with one.open() as source:
            source.seek(begun)
            async with self._sftp.open(self._at(one.path), "r+b" if begun else "wb") as file:
                at = begun
                while chunk := source.read(CHUNK):
                    try:
                        await file.write(chunk, at)
                    except asyncssh.SFTPFailure as refused:
                        if await self._is_full():
                            raise _full(self._reach.host, refused) from None
                        raise
                    at += len(chunk)
                    if told is not None:
                        told(len(chunk))
        if one.executable:
            with contextlib.suppress(asyncssh.SFTPError):
                await self._sftp.chmod(self._at(one.path), 0o755)

    async def _is_full(self) -> bool:
        """Whether the disk there has no room: a server says but "Failure" of that."""
        import asyncssh

        with contextlib.suppress(asyncssh.SFTPError):
            return (await self._sftp.statvfs(self._reach.folder)).bavail == 0
        return False

    def upload(self, files: Sequence[Upload], told: Callable[[int], None]) -> dict[str, str]:
        with self._translated():
            self._run(self._uploaded(files, told))
        return {}  # the line itself is proof against changed bytes

    async def _uploaded(self, files: Sequence[Upload], told: Callable[[int], None]) -> None:
        """What is there already is continued."""
        begun: dict[str, ThereFile] = {}
        for folder in {posixpath.dirname(one.path) for one in files}:
            begun |= await self._listed((), folder, deep=False)
        works = [partial(self._put, one, begun[one.path].size if one.path in begun else 0, told) for one in files]
        await self._at_once(works, FILES_AT_ONCE)

    def download(self, files: Sequence[Download], told: Callable[[int], None]) -> None:
        with self._translated():
            self._run(self._at_once([partial(self._fetched, one, told) for one in files], FILES_AT_ONCE))

    async def _fetched(self, one: Download, told: Callable[[int], None]) -> None:
        import asyncssh

        with contextlib.suppress(asyncssh.SFTPNoSuchFile):
            async with self._sftp.open(self._at(one.path), "rb") as source:
                with translated("keep what is fetched", one.to), one.to.open("wb") as file:
                    at = 0
                    while chunk := await source.read(CHUNK, at):
                        file.write(chunk if isinstance(chunk, bytes) else chunk.encode())
                        at += len(chunk)
                        told(len(chunk))

    @property
    def hashes_there(self) -> str:
        """Where the login may run commands, sha256sum there reads faster than the line could bring it."""
        if self._sum is None:
            with self._translated():
                self._sum = self._run(self._asked_for_sum())
        return self._sum

    async def _asked_for_sum(self) -> str:
        import asyncssh

        try:
            done = await self._connection.run("sha256sum --version", timeout=CONNECT_SECONDS)
        except (asyncssh.Error, TimeoutError):
            return ""
        return "sha256sum" if done.exit_status == 0 and "sha256sum" in str(done.stdout) else ""

    def hashes(self, paths: Sequence[str], told: Callable[[int], None]) -> dict[str, str]:
        found: dict[str, str] = {}
        by_command = bool(self.hashes_there)
        with self._translated():
            for begin in range(0, len(paths) if by_command else 0, SUMS_AT_ONCE):
                found |= self._run(self._sums(paths[begin : begin + SUMS_AT_ONCE]))
            rest = [one for one in paths if one not in found]
            self._run(self._at_once([partial(self._hash, one, found, told) for one in rest], FILES_AT_ONCE))
        return found

    async def _sums(self, paths: Sequence[str]) -> dict[str, str]:
        """What sha256sum there says; lines of names that it would have to escape are left out."""
        wanted = set(paths)
        command = shlex.join(["sha256sum", "--", *map(self._at, paths)])
        done = await self._connection.run(command, encoding="utf-8", errors="surrogateescape")
        found = {}
        for line in str(done.stdout).splitlines():
            sha256, _, place = line.partition("  ")
            path = posixpath.relpath(place, self._reach.folder) if place else ""
            if path in wanted and _SHA256.fullmatch(sha256):
                found[path] = sha256
        return found

    async def _hash(self, path: str, found: dict[str, str], told: Callable[[int], None]) -> None:
        import asyncssh

        digest = hashlib.sha256()
        with contextlib.suppress(asyncssh.SFTPNoSuchFile):
            async with self._sftp.open(self._at(path), "rb") as source:
                at = 0
                while chunk := await source.read(CHUNK, at):
                    data = chunk if isinstance(chunk, bytes) else chunk.encode()
                    digest.update(data)
                    at += len(data)
                    told(len(data))
            found[path] = digest.hexdigest()

    def run(self, command: Sequence[str], seconds: float) -> CommandResult:
        """Runs a command there, by its shell. Raises RemoteError where the login may run none."""
        import asyncssh

        with self._translated():
            try:
                done = self._run(
                    self._connection.run(shlex.join(command), timeout=seconds, encoding="utf-8", errors="replace")
                )
            except asyncssh.TimeoutError:
                raise RemoteError(
                    "remote-command-time",
                    f"{command[0]} there did not end within {seconds:.0f} s",
                    hint="See what it does there; it may be running still.",
                ) from None
        code = done.exit_status if done.exit_status is not None else 255
        return CommandResult(code, str(done.stdout or ""), str(done.stderr or ""))

    def create(self, path: str, data: bytes) -> bool:
        import asyncssh

        with self._translated():
            try:
                self._run(self._created(path, data))
            except (asyncssh.SFTPFileAlreadyExists, asyncssh.SFTPFailure):
                return False
            return True

    async def _created(self, path: str, data: bytes) -> None:
        await self._folder_for(path)
        async with self._sftp.open(self._at(path), "xb") as file:
            await file.write(data)

    def rename(self, before: str, after: str) -> None:
        with self._translated():
            self._run(self._renamed(before, after))

    async def _renamed(self, before: str, after: str) -> None:
        import asyncssh

        try:
            await self._moved(before, after)
        except (asyncssh.SFTPPermissionDenied, asyncssh.SFTPFailure) as refused:
            raise protected(self._reach.host, before, after, refused.reason or "refused") from None

    async def _moved(self, before: str, after: str) -> None:
        import asyncssh

        await self._folder_for(after)
        if self.replaces:
            try:
                await self._sftp.posix_rename(self._at(before), self._at(after))
            except asyncssh.SFTPOpUnsupported:
                self.replaces = False
            else:
                return
        if await self._sftp.lexists(self._at(before)):  # else the rename says so, and nothing is removed
            await self._removed(after)
        await self._sftp.rename(self._at(before), self._at(after))

    async def _folder_for(self, path: str) -> None:
        """Makes the folder of a path, each but once."""
        folder = posixpath.dirname(path)
        if not folder:
            if self._root is None:
                self._root = asyncio.ensure_future(self._sftp.makedirs(self._reach.folder, exist_ok=True))
            await self._root
            return
        if folder not in self._made:
            self._made[folder] = asyncio.ensure_future(self._make(folder))
        await self._made[folder]

    async def _make(self, folder: str) -> None:
        import asyncssh

        await self._folder_for(folder)
        try:
            await self._sftp.mkdir(self._at(folder))
        except (asyncssh.SFTPFailure, asyncssh.SFTPFileAlreadyExists):
            return  # it is there, or the next step says what is wrong

    def rename_all(self, pairs: Sequence[tuple[str, str]]) -> None:
        with self._translated():
            self._run(self._at_once([partial(self._renamed, *one) for one in pairs]))

    async def _at_once(self, works: Sequence[Callable[[], Coroutine[Any, Any, None]]], most: int = AT_ONCE) -> None:
        """Several at once; the first error ends the others, and is raised."""
        gate = asyncio.Semaphore(most)

        async def go(work: Callable[[], Coroutine[Any, Any, None]]) -> None:
            async with gate:
                await work()

        tasks = [asyncio.create_task(go(work)) for work in works]
        try:
            await asyncio.gather(*tasks)
        except BaseException:
            for task in tasks:
                task.cancel()
            await asyncio.gather(*tasks, return_exceptions=True)
            raise

    def remove(self, path: str) -> None:
        self.remove_all([path])

    def make_folder(self, path: str) -> None:
        with self._translated():
            self._run(self._folder_for(f"{path}/x"))

    def remove_all(self, paths: Sequence[str]) -> None:
        with self._translated():
            self._run(self._at_once([partial(self._removed, one) for one in paths]))

    def remove_folder(self, path: str) -> None:
        import asyncssh

        with self._translated(), contextlib.suppress(asyncssh.SFTPNoSuchFile):
            self._run(self._sftp.rmtree(self._at(path)))
        self._made = {one: made for one, made in self._made.items() if one != path and not one.startswith(f"{path}/")}

    async def _removed(self, path: str) -> None:
        import asyncssh

        with contextlib.suppress(asyncssh.SFTPNoSuchFile):
            await self._sftp.remove(self._at(path))

    def free_mib(self) -> int | None:
        import asyncssh

        with self._translated():
            try:
                found = self._run(self._sftp.statvfs(self._reach.folder))
            except asyncssh.SFTPError:
                return None
            return (found.bavail * found.frsize) >> 20

    def close(self) -> None:
        self._loop.call_soon_threadsafe(self._connection.close)
        with contextlib.suppress(Exception):  # it may be gone already
            self._run(asyncio.wait_for(self._connection.wait_closed(), 5))
        self._end()

    def _end(self) -> None:
        """Ends the loop and its thread."""
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(5)
        if not self._thread.is_alive():
            self._loop.close()


def _unreachable(host: str, broken: Exception) -> RemoteError:
    return RemoteError(
        "remote-unreachable",
        f"the connection to {host} failed: {str(broken) or type(broken).__name__}",
        hint="Run the same command again: what was sent is continued.",
    )


def _full(host: str, refused: Exception) -> RemoteError:
    return RemoteError(
        "remote-full", f"{host} has no room left: {refused}", hint="Free some space there, then run it again."
    )
