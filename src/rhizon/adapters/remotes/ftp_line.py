"""One FTP or FTPS connection, by the standard library's ftplib, and what its errors mean.

On the wire every byte is a character of Latin-1, so that no listing in another language is an error; paths are UTF-8
within that (:func:`to_wire`, :func:`from_wire`).
"""

import contextlib
import ftplib
import socket
import ssl
import time
from collections.abc import Callable, Iterator
from typing import BinaryIO

from rhizon.adapters.remotes.login import password_of
from rhizon.core.errors import RemoteError, TrustError
from rhizon.core.model.remote import Reach

__all__ = ["BLOCK", "CANNOT_RESUME", "FtpLine", "from_wire", "ftp_errors", "to_wire"]

SECONDS = 30
LAST_WORDS_SECONDS = 5
IDLE_SECONDS = 10
BLOCK = 1 << 18
NO_ROOM = ("452", "552")
NOT_WRITTEN = ("451", "553")
CANNOT_RESUME = ("501", "502", "504", "551", "554")


def to_wire(path: str) -> str:
    """A path as it is sent."""
    return path.encode("utf-8", "surrogateescape").decode("latin-1")


def from_wire(name: str) -> str:
    """A name as it came; bytes that are no UTF-8 stay what they are."""
    return name.encode("latin-1").decode("utf-8", "surrogateescape")


def _at_once(connection: socket.socket) -> None:
    """Short commands and the end of a file go out at once, instead of waiting for an answer to what went before."""
    connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)


class _Tls(ftplib.FTP_TLS):
    """Data connections resume the control connection's session, as hosts require; ``implicit``: TLS from the first
    byte (RFC 4217 has only the other form; hosts have both)."""

    implicit = False

    def connect(self, host: str = "", port: int = 0, timeout: float = -999, source_address: object = None) -> str:  # noqa: ARG002
        if not self.implicit:
            return super().connect(host, port, timeout)
        self.host, self.port = host, port
        plain = socket.create_connection((host, port), SECONDS)
        self.af = plain.family
        self.sock = self.context.wrap_socket(plain, server_hostname=host)
        self.file = self.sock.makefile("r", encoding=self.encoding)
        self.welcome = self.getresp()
        return self.welcome

    def ntransfercmd(self, cmd: str, rest: int | str | None = None) -> "tuple[ssl.SSLSocket, int | None]":
        connection, size = ftplib.FTP.ntransfercmd(self, cmd, rest)
        _at_once(connection)
        session = self.sock.session if isinstance(self.sock, ssl.SSLSocket) else None
        return self.context.wrap_socket(connection, server_hostname=self.host, session=session), size


class FtpLine:
    """A connection that has logged in. One that was idle is tried before its next use, and made anew where the host has
    ended it. Methods raise the errors of ftplib, OSError and EOFError; see :func:`ftp_errors`."""

    def __init__(self, reach: Reach) -> None:
        self._reach = reach
        self._ftp = self._connected()
        self._used = time.monotonic()

    def _connected(self) -> ftplib.FTP:
        reach = self._reach
        if reach.by == "ftp":
            ftp: ftplib.FTP = ftplib.FTP(timeout=SECONDS, encoding="latin-1")
        else:
            context = ssl.create_default_context(cafile=reach.certificate or None)
            made = _Tls(context=context, timeout=SECONDS, encoding="latin-1")
            made.implicit = reach.implicit
            ftp = made
        ftp.connect(reach.host, reach.port or (990 if reach.implicit else 21), SECONDS)
        if ftp.sock is not None:
            _at_once(ftp.sock)
        ftp.login(reach.user, password_of(reach))
        if isinstance(ftp, ftplib.FTP_TLS):
            ftp.prot_p()
        ftp.voidcmd("TYPE I")
        return ftp

    @property
    def ftp(self) -> ftplib.FTP:
        """The connection, awake."""
        if time.monotonic() - self._used > IDLE_SECONDS:
            try:
                self._ftp.voidcmd("NOOP")
            except (OSError, EOFError, ftplib.Error):  # the host has ended it
                self._ftp.close()
                self._ftp = self._connected()
        self._used = time.monotonic()
        return self._ftp

    def store(self, place: str, source: BinaryIO, begun: int, told: Callable[[int], None]) -> None:
        """Sends a file from ``begun`` on; from its beginning where the host cannot continue it."""
        try:
            self._stored(place, source, begun, told)
        except ftplib.error_perm as refused:
            if not begun or not str(refused).startswith(CANNOT_RESUME):
                raise
            self._stored(place, source, 0, told)

    def _stored(self, place: str, source: BinaryIO, begun: int, told: Callable[[int], None]) -> None:
        ftp = self.ftp
        source.seek(begun)
        try:
            ftp.storbinary(f"STOR {place}", source, BLOCK, callback=lambda part: told(len(part)), rest=begun or None)
        except OSError:  # the data connection ended: the other one may say why (a full disk)
            self._last_words(ftp)
            raise
        finally:
            self._used = time.monotonic()

    def _last_words(self, ftp: ftplib.FTP) -> None:
        """Raises what the host says of a transfer that it ended, if it says something within seconds."""
        with contextlib.suppress(OSError, EOFError, AttributeError):
            assert ftp.sock is not None
            ftp.sock.settimeout(LAST_WORDS_SECONDS)
            ftp.voidresp()

    def close(self) -> None:
        """Ends it."""
        if self._ftp.sock is not None:
            with contextlib.suppress(OSError, EOFError, ftplib.Error):
                self._ftp.quit()
        self._ftp.close()


@contextlib.contextmanager
def ftp_errors(host: str) -> Iterator[None]:
    """Makes Rhizon's errors of those that come from a line to ``host``."""
    try:
        yield
    except ssl.SSLCertVerificationError as wrong:
        raise TrustError(
            "host-key-changed",
            f"the certificate of {host} is not trusted: {wrong.verify_message}",
            hint="If it signs its own, name its certificate in the remote file: `certificate`.",
        ) from None
    except ftplib.Error as refused:
        raise _meaning(host, from_wire(str(refused))[:200], refused) from None
    except (OSError, EOFError) as broken:
        raise _unreachable(host, str(broken) or "it was closed") from None


def _meaning(host: str, said: str, refused: ftplib.Error) -> RemoteError:
    """What a reply means: a login, a full disk, something refused, or a line to be tried again."""
    if said.startswith("530"):
        return RemoteError("remote-login", f"{host} does not accept the login: {said}", hint="Check user and password.")
    if said.startswith(NO_ROOM):
        return RemoteError(
            "remote-full", f"{host} has no room left: {said}", hint="Free some space there, then run it again."
        )
    if isinstance(refused, ftplib.error_perm) or said.startswith(NOT_WRITTEN):
        return RemoteError(
            "remote-refused", f"{host}: {said}", hint="The disk may be full, or the file may be protected."
        )
    return _unreachable(host, said)


def _unreachable(host: str, why: str) -> RemoteError:
    return RemoteError(
        "remote-unreachable",
        f"the connection to {host} failed: {why}",
        hint="Run the same command again: what was sent is continued.",
    )
