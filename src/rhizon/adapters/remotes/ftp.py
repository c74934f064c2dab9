"""A rented server over FTP (RFC 959, 2428, 3659) or FTPS (RFC 4217), by the standard library's ftplib.

Hosts differ: without MLSD there is LIST, whose sizes are used and whose times are not; where a rename does not replace,
the file there is removed first; a data connection goes on with the TLS session of its control connection, as hosts
require. Several connections send at once, as many as the host allows.
"""

import contextlib
import ftplib
import io
import posixpath
import re
import ssl
import threading
from collections.abc import Callable, Collection, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import BinaryIO

from rhizon.adapters.files import translated
from rhizon.adapters.remotes.files import Download, Upload
from rhizon.adapters.remotes.login import password_of
from rhizon.core.errors import RemoteError, TrustError
from rhizon.core.model.remote import Reach
from rhizon.core.remote.push_plan import ThereFile

__all__ = ["FtpFiles"]

SECONDS = 30
AT_ONCE = 4
DEEPEST = 30
_LINE = re.compile(r"(?P<type>[-dl])[-rwxsStT]{9}\S?\s+\d+\s+\S+\s+\S+\s+(?P<size>\d+)\s+\S+\s+\S+\s+\S+\s(?P<name>.+)")


class _Tls(ftplib.FTP_TLS):
    """Data connections resume the control connection's session; ``implicit``: TLS from the first byte."""

    implicit = False

    def connect(self, host: str = "", port: int = 0, timeout: float = -999, source_address: object = None) -> str:  # noqa: ARG002
        if not self.implicit:
            return super().connect(host, port, timeout)
        import socket

        self.host, self.port = host, port
        plain = socket.create_connection((host, port), SECONDS)
        self.af = plain.family
        self.sock = self.context.wrap_socket(plain, server_hostname=host)
        self.file = self.sock.makefile("r", encoding=self.encoding)
        self.welcome = self.getresp()
        return self.welcome

    def ntransfercmd(self, cmd: str, rest: int | str | None = None) -> "tuple[ssl.SSLSocket, int | None]":
        connection, size = ftplib.FTP.ntransfercmd(self, cmd, rest)
        session = self.sock.session if isinstance(self.sock, ssl.SSLSocket) else None
        return self.context.wrap_socket(connection, server_hostname=self.host, session=session), size


class FtpFiles:
    """Files over one control connection, and some more for uploads."""

    def __init__(self, reach: Reach) -> None:
        self._reach = reach
        self._made: set[str] = set()
        self.replaces = True
        with self._translated():
            self._ftp = self._connected()
            self._lists = self._knows_mlsd()

    def _connected(self) -> ftplib.FTP:
        reach = self._reach
        if reach.by == "ftp":
            ftp: ftplib.FTP = ftplib.FTP(timeout=SECONDS, encoding="utf-8")
        else:
            context = ssl.create_default_context(cafile=reach.certificate or None)
            made = _Tls(context=context, timeout=SECONDS, encoding="utf-8")
            made.implicit = reach.implicit
            ftp = made
        ftp.connect(reach.host, reach.port or (990 if reach.implicit else 21), SECONDS)
        ftp.login(reach.user, password_of(reach))
        if isinstance(ftp, ftplib.FTP_TLS):
            ftp.prot_p()
        ftp.voidcmd("TYPE I")
        return ftp

    def _knows_mlsd(self) -> bool:
        with contextlib.suppress(ftplib.error_perm):
            return any(line.strip().upper().startswith("MLST") for line in self._ftp.sendcmd("FEAT").splitlines())
        return False

    @contextlib.contextmanager
    def _translated(self) -> Iterator[None]:
        host = self._reach.host
        try:
            yield
        except ssl.SSLCertVerificationError as wrong:
            raise TrustError(
                "host-key-changed",
                f"the certificate of {host} is not trusted: {wrong.verify_message}",
                hint="If it signs its own, name its certificate in the remote file: `certificate`.",
            ) from None
        except ftplib.error_perm as refused:
            said = str(refused)[:200]
            if said.startswith("530"):
                raise RemoteError(
                    "remote-login", f"{host} does not accept the login: {said}", hint="Check user and password."
                ) from None
            raise RemoteError(
                "remote-refused", f"{host}: {said}", hint="The disk may be full, or the file protected."
            ) from None
        except (OSError, EOFError, ftplib.Error) as broken:
            raise RemoteError(
                "remote-unreachable",
                f"the connection to {host} failed: {str(broken) or 'it was closed'}",
                hint="Run the same command again: what was sent is continued.",
            ) from None

    def _at(self, path: str) -> str:
        return posixpath.join(self._reach.folder, path) if path else self._reach.folder

    # ---- reading

    def listing(self, leave: Sequence[str] = (), exact: Collection[str] = ()) -> dict[str, ThereFile]:
        with self._translated():
            found = dict(self._below("", leave, 0))
            if not self._lists:
                for path in sorted(set(exact) & found.keys()):
                    with contextlib.suppress(ftplib.error_perm):
                        said = self._ftp.sendcmd(f"MDTM {self._at(path)}").split()[-1]
                        found[path] = ThereFile(size=found[path].size, mtime=_seconds(said))
            return found

    def _below(self, folder: str, leave: Sequence[str], depth: int) -> Iterator[tuple[str, ThereFile]]:
        if depth > DEEPEST:
            return
        for name, is_folder, size, mtime in self._entries(folder, top=depth == 0):
            path = f"{folder}/{name}" if folder else name
            if not is_folder:
                yield path, ThereFile(size=size, mtime=mtime)
            elif path not in leave:
                yield from self._below(path, leave, depth + 1)

    def _entries(self, folder: str, *, top: bool) -> list[tuple[str, bool, int, int]]:
        """Name, whether it is a folder, size, time, of ordinary files and folders. The ``top`` need not be there."""
        try:
            if self._lists:
                facts = [(name, said) for name, said in self._ftp.mlsd(self._at(folder)) if name not in (".", "..")]
                return [
                    (name, said["type"] == "dir", int(said.get("size", 0)), _seconds(said.get("modify", "")))
                    for name, said in facts
                    if said.get("type") in ("dir", "file")
                ]
            lines: list[str] = []
            self._ftp.cwd(self._at(folder))
            self._ftp.retrlines("LIST -a", lines.append)  # without a path: some take the two for one name
            self._ftp.voidcmd("TYPE I")  # lines came in the other type
        except ftplib.error_perm as refused:
            if top and str(refused).startswith("550"):
                return []
            raise  # its parent lists it: what is in it must not be taken for missing
        matches = [match for line in lines if (match := _LINE.fullmatch(line)) is not None]
        return [
            (one["name"], one["type"] == "d", int(one["size"]), 0)
            for one in matches
            if one["type"] != "l" and one["name"] not in (".", "..")
        ]

    def read(self, path: str, most: int) -> bytes | None:
        data = io.BytesIO()

        def take(chunk: bytes) -> None:
            data.write(chunk[: max(0, most - data.tell())])

        with self._translated():
            try:
                self._ftp.retrbinary(f"RETR {self._at(path)}", take)
            except ftplib.error_perm as refused:
                if str(refused).startswith("550"):
                    return None
                raise
        return data.getvalue()

    def download(self, files: Sequence[Download], told: Callable[[int], None]) -> None:
        with self._translated():
            for one in files:
                try:
                    with one.to.open("wb") as file:
                        self._ftp.retrbinary(f"RETR {self._at(one.path)}", partial(_keep, file, one.to, told), 1 << 16)
                except ftplib.error_perm as refused:
                    if not str(refused).startswith("550"):
                        raise
                    one.to.unlink()

    def free_mib(self) -> int | None:
        return None

    # ---- writing

    def write(self, path: str, data: bytes) -> None:
        with self._translated():
            self._folder_for(self._ftp, path)
            self._ftp.storbinary(f"STOR {self._at(path)}", io.BytesIO(data))

    def _folder_for(self, ftp: ftplib.FTP, path: str) -> None:
        """Makes the folders of a path, each but once: hosts answer 550 for one that is there."""
        parts = posixpath.dirname(path).split("/")
        for count in range(1, len(parts) + 1):
            folder = "/".join(parts[:count])
            if folder and folder not in self._made:
                with contextlib.suppress(ftplib.error_perm):
                    ftp.mkd(self._at(folder))
                self._made.add(folder)

    def create(self, path: str, data: bytes) -> bool:
        if self.read(path, 1) is not None:  # FTP has no way to ask for both at once
            return False
        self.write(path, data)
        return True

    def upload(self, files: Sequence[Upload], told: Callable[[int], None]) -> None:
        local = threading.local()
        lock = threading.Lock()
        more: list[ftplib.FTP] = []

        def mine() -> ftplib.FTP:
            if not hasattr(local, "ftp"):
                with lock:
                    try:
                        local.ftp = self._connected()
                        more.append(local.ftp)
                    except ftplib.Error:
                        if not more:
                            raise
                        raise _NoMoreError from None  # the host allows no more connections
            found: ftplib.FTP = local.ftp
            return found

        def send(one: Upload) -> Upload | None:
            try:
                self._send(mine(), one, told)
            except _NoMoreError:
                return one
            return None

        with self._translated():
            for one in files:
                self._folder_for(self._ftp, one.path)
            try:
                with ThreadPoolExecutor(AT_ONCE) as pool:
                    left = [one for one in pool.map(send, files) if one is not None]
                for one in left:
                    self._send(more[0], one, told)
            finally:
                for ftp in more:
                    with contextlib.suppress(OSError, EOFError, ftplib.Error):
                        ftp.quit()

    def _send(self, ftp: ftplib.FTP, one: Upload, told: Callable[[int], None]) -> None:
        """Sends a file; what lies there of it is continued where the host can."""
        place = self._at(one.path)
        begun = 0
        with contextlib.suppress(ftplib.error_perm):
            begun = ftp.size(place) or 0
        begun = begun if begun <= one.size else 0
        with one.open() as source:
            source.seek(begun)
            try:
                _store(ftp, place, source, begun, told)
            except ftplib.error_perm as refused:
                if not begun or not str(refused).startswith(("501", "502", "504", "551", "554")):
                    raise
                source.seek(0)
                _store(ftp, place, source, 0, told)
        if one.executable:
            with contextlib.suppress(ftplib.error_perm):
                ftp.sendcmd(f"SITE CHMOD 755 {place}")

    def rename(self, before: str, after: str) -> None:
        with self._translated():
            self._renamed(before, after)

    def _renamed(self, before: str, after: str) -> None:
        self._folder_for(self._ftp, after)
        try:
            self._ftp.rename(self._at(before), self._at(after))
        except ftplib.error_perm:
            self._ftp.size(self._at(before))  # raises where that is what is missing: then nothing is removed
            with contextlib.suppress(ftplib.error_perm):
                self._ftp.delete(self._at(after))
            self._ftp.rename(self._at(before), self._at(after))
            self.replaces = False

    def rename_all(self, pairs: Sequence[tuple[str, str]]) -> None:
        with self._translated():
            for before, after in pairs:
                self._renamed(before, after)

    def remove(self, path: str) -> None:
        with self._translated(), contextlib.suppress(ftplib.error_perm):
            self._ftp.delete(self._at(path))

    def close(self) -> None:
        with contextlib.suppress(OSError, EOFError, ftplib.Error):
            self._ftp.quit()
        self._ftp.close()


class _NoMoreError(Exception):
    """The host allows no more connections."""


def _keep(file: BinaryIO, to: Path, told: Callable[[int], None], chunk: bytes) -> None:
    with translated("keep what is fetched", to):
        file.write(chunk)
    told(len(chunk))


def _store(ftp: ftplib.FTP, place: str, source: BinaryIO, begun: int, told: Callable[[int], None]) -> None:
    ftp.storbinary(f"STOR {place}", source, 1 << 16, callback=lambda chunk: told(len(chunk)), rest=begun or None)


def _seconds(text: str) -> int:
    """A time of RFC 3659, in seconds since 1970; 0 where it is none."""
    match = re.match(r"(\d{14})", text)
    if match is None:
        return 0
    try:
        return int(datetime.strptime(match[1], "%Y%m%d%H%M%S").replace(tzinfo=UTC).timestamp())
    except ValueError:
        return 0
