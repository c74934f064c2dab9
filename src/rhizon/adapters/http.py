"""HTTP as Rhizon uses it: one client for a command, with limits, retries, redirects, proxies and credentials.

Only this module speaks to the network for catalogs. Redirects go to http and https alone and never from https to http;
credentials go to the origin that they are for and to no other. Proxies and certificate authorities are those of the
environment (``HTTPS_PROXY``, ``NO_PROXY``, ``SSL_CERT_FILE``, ``SSL_CERT_DIR``).
"""

import contextlib
import os
import random
import time
import urllib.parse
from collections.abc import Generator, Mapping
from typing import Any, NamedTuple

from rhizon.adapters.credentials import Credentials
from rhizon.adapters.http_cache import Copies
from rhizon.core.errors import RemoteError, TrustError
from rhizon.core.names import printable

__all__ = [
    "LIMITS",
    "BrokenError",
    "HttpTransport",
    "Limits",
    "Network",
    "Piece",
    "Stream",
    "not_given",
    "unreachable",
]

LARGEST_DOCUMENT = 256 << 20
REDIRECTS = 5
CHUNK = 1 << 18
MOST_DRAINED = 1 << 16
_HEADERS = {"User-Agent": "rhizon", "Accept-Encoding": "identity"}
_MOVED = (301, 302, 303, 307, 308)
_LATER = (408, 425, 429, 500, 502, 503, 504)


class Limits(NamedTuple):
    """Bounds on what another side may cost: seconds, bytes per second, connections to one host at once, tries."""

    connect_seconds: float = 10.0
    answer_seconds: float = 20.0  # from the request to the last header, redirects included
    stall_seconds: float = 20.0  # without one byte
    slow_seconds: float = 20.0  # in which at least lowest_speed is expected on average
    lowest_speed: float = 1_000.0  # bytes per second
    document_seconds: float = 60.0  # of one document, and one more for every 100 kB of it
    whole_seconds: float = 900.0  # of one artefact, and as much again for every 50 MB of it
    connections: int = 16
    tries: int = 4
    pause_seconds: float = 0.3  # before the second try; doubled each time
    longest_pause_seconds: float = 60.0

    def whole(self, size: int) -> float:
        """Seconds that a transfer of that many bytes may take."""
        return self.whole_seconds * (1 + size / 50_000_000)


LIMITS = Limits()


class _Pace:
    """Whether bytes come fast enough to be of use."""

    def __init__(self, limits: Limits) -> None:
        self._limits = limits
        self._begun = self._since = time.monotonic()
        self._total = self._bytes = 0

    def came(self, size: int) -> str:
        """Why to give up, "" where it goes on."""
        self._total += size
        self._bytes += size
        now = time.monotonic()
        window = now - self._since
        if window >= self._limits.slow_seconds:
            if self._bytes / window < self._limits.lowest_speed:
                return f"it arrives too slowly ({self._bytes / window:.0f} bytes per second)"
            self._since, self._bytes = now, 0
        return ""

    def document_late(self) -> bool:
        """Whether a document takes longer than one of its size may."""
        return time.monotonic() - self._begun > self._limits.document_seconds + self._total / 100_000


class Piece(NamedTuple):
    """What a stream begins with: the offset of its first byte, and what says that the rest belongs to it (a strong
    entity tag or a date, RFC 9110 section 8.8; empty where there is neither)."""

    offset: int
    validator: str


class Stream(NamedTuple):
    """Bytes of an artefact from an offset on. ``total`` is the whole size, where the other side told it."""

    piece: Piece
    total: int | None
    chunks: Generator[bytes, None, None]


class BrokenError(Exception):
    """A try that failed and may succeed next time; ``wait`` is how long the other side asks to be left alone."""

    def __init__(self, error: RemoteError, wait: float = 0.0) -> None:
        super().__init__(error.message)
        self.error = error
        self.wait = wait


class Network:
    """What all catalogs of a command share. ``offline`` asks no one: documents come from the copies or not at all."""

    def __init__(
        self,
        copies: Copies | None = None,
        credentials: Credentials | None = None,
        *,
        offline: bool = False,
        limits: Limits = LIMITS,
    ) -> None:
        self.copies = copies
        self.offline = offline
        self.limits = limits
        self._credentials = credentials or Credentials(None, os.environ)
        self._proxies: dict[str, str] | None = None
        self._pools: dict[str, Any] = {}

    def _pool(self, url: str) -> Any:
        """The pool for an address: of the proxy that the environment names for it, or without one."""
        import urllib.request  # slow to import, and a catalog in a folder needs none of it

        import urllib3

        from rhizon.adapters.watched import pool_classes

        proxy = ""
        if self._proxies is None:
            self._proxies = urllib.request.getproxies()
        if self._proxies:
            parts = urllib.parse.urlsplit(url)
            proxy = self._proxies.get(parts.scheme, "")
            if proxy and urllib.request.proxy_bypass(parts.hostname or ""):
                proxy = ""
        if proxy not in self._pools:
            options: dict[str, Any] = {
                "maxsize": self.limits.connections,
                "block": True,
                "retries": False,
                "timeout": urllib3.Timeout(connect=self.limits.connect_seconds, read=self.limits.stall_seconds),
            }
            made = urllib3.ProxyManager(proxy, **options) if proxy else urllib3.PoolManager(**options)
            made.pool_classes_by_scheme = pool_classes()
            self._pools[proxy] = made
        return self._pools[proxy]

    def open(self, address: str, url: str, headers: Mapping[str, str]) -> Any:
        """One try of a request, redirects followed. Raises :class:`BrokenError`, TrustError, RemoteError."""
        from rhizon.adapters.watched import Watch

        with Watch(self.limits.answer_seconds) as watch:
            try:
                answer = self._followed(address, url, headers)
            except BrokenError:
                if watch.expired:
                    raise _too_late(address, self.limits.answer_seconds) from None
                raise
        if watch.expired:  # headers that were cut off look like all of them
            answer.close()
            raise _too_late(address, self.limits.answer_seconds)
        return answer

    def _followed(self, address: str, url: str, headers: Mapping[str, str]) -> Any:
        """The answer after at most ``MOST_REDIRECTS`` redirects, each only to http or https and never from https to
        http. Raises RemoteError, TrustError."""
        import http.client

        import urllib3

        secure = url.startswith("https:")
        for _ in range(REDIRECTS + 1):
            own = self._credentials.header_for(url)
            try:
                answer = self._pool(url).request(
                    "GET", url, headers={**_HEADERS, **headers, **own}, preload_content=False, redirect=False
                )
            except urllib3.exceptions.LocationValueError:
                raise _bad_redirect(address, url) from None
            except (urllib3.exceptions.HTTPError, http.client.HTTPException, OSError) as broken:
                raise BrokenError(unreachable(address, broken)) from None
            except ValueError:  # a name or a header that cannot be; its text may hold a secret
                raise not_given(address, url, "the request or its answer is malformed") from None
            if answer.status in _LATER:
                wait = _retry_after(answer.headers.get("Retry-After", ""))
                _done_with(answer)
                raise BrokenError(not_given(address, url, f"HTTP {answer.status}"), wait)
            if answer.status not in _MOVED:
                return answer
            _done_with(answer)
            url = _redirected(address, url, answer.headers.get("Location", ""), secure=secure)
            secure = url.startswith("https:")
        raise RemoteError(
            "redirect-loop",
            f"the catalog at {address} redirects in a circle",
            hint="Report it to the catalog's maintainer.",
        )

    def pause(self, number: int, broken: BrokenError) -> None:
        """Waits before the next try. Raises the error when that was the last, or when it is asked to wait too long."""
        limits = self.limits
        if number + 1 >= limits.tries or broken.wait > limits.longest_pause_seconds:
            if broken.wait > limits.longest_pause_seconds:
                broken.error.hint = f"It asks to wait {broken.wait:.0f} s. Try again then."
            raise broken.error from None
        grown = limits.pause_seconds * 2**number
        time.sleep(max(broken.wait, grown * random.uniform(0.5, 1.0)))


class HttpTransport:
    """A catalog at ``http://`` or ``https://``. A document that is known is asked for only if it changed, and not at
    all when it is known by hash."""

    def __init__(self, address: str, network: Network) -> None:
        self.address = address.rstrip("/")
        self._network = network

    def _url(self, path: str) -> str:
        return f"{self.address}/{urllib.parse.quote(path)}"

    def read(self, path: str, sha256: str | None = None, /) -> bytes | None:
        """A document whole; None when it is not there. Raises RemoteError, TrustError."""
        copies = self._network.copies
        known = copies.get(self.address, path) if copies is not None else None
        if known is not None and (known.sha256 == sha256 or self._network.offline):
            return known.body
        if self._network.offline:
            raise RemoteError(
                "offline",
                f"{path} of the catalog at {self.address} is not on this machine",
                hint="Run the command once without --offline; what it downloads is kept.",
            )
        headers = {}
        if known is not None and known.tag:
            headers["If-None-Match"] = known.tag
        elif known is not None and known.modified:
            headers["If-Modified-Since"] = known.modified
        number = 0
        while True:
            try:
                answer = self._network.open(self.address, self._url(path), headers)
                if answer.status == 304 and known is not None:
                    _done_with(answer)
                    return known.body
                if answer.status == 404:
                    _done_with(answer)
                    return None
                body = b"".join(self._chunks(answer, path, document=True))
                break
            except BrokenError as broken:
                self._network.pause(number, broken)
                number += 1
        if copies is not None:
            tag, modified = (answer.headers.get(name, "") for name in ("ETag", "Last-Modified"))
            copies.put(self.address, path, tag, modified, body)
        return body

    def stream(self, path: str, piece: Piece = Piece(0, "")) -> Stream:
        """One try to get an artefact from an offset on; where the other side has another one by now, or does not know
        ranges, it begins again. Raises :class:`BrokenError`, RemoteError, TrustError."""
        if self._network.offline:
            raise RemoteError(
                "offline",
                f"{path} from {self.address} is not in the store of this machine",
                hint="Run the command once without --offline; what it downloads is kept.",
            )
        headers = {"Range": f"bytes={piece.offset}-"} if piece.offset else {}
        if piece.offset and piece.validator:
            headers["If-Range"] = piece.validator
        answer = self._network.open(self.address, self._url(path), headers)
        if answer.status == 416:  # what we have is not shorter than what is there
            _done_with(answer)
            answer = self._network.open(self.address, self._url(path), {})
        if answer.status not in (200, 206):
            answer.close()
            raise self._refused(answer.status, path)
        tag = answer.headers.get("ETag", "")
        validator = tag if tag and not tag.startswith("W/") else answer.headers.get("Last-Modified", "")
        offset = 0
        if answer.status == 206:
            offset = piece.offset
            told = answer.headers.get("Content-Range", "").removeprefix("bytes ").partition("-")[0]
            if told != str(offset):
                answer.close()
                raise not_given(self.address, path, "it returned another part than the one requested")
        length = _length(answer)
        total = offset + length if length is not None else None
        return Stream(Piece(offset, validator), total, self._chunks(answer, path))

    def _chunks(self, answer: Any, path: str, *, document: bool = False) -> Generator[bytes, None, None]:
        """The body as it comes. Raises BrokenError (worth another try), RemoteError (too long, too slow)."""
        import http.client

        import urllib3

        if answer.status not in (200, 206):
            answer.close()
            raise self._refused(answer.status, path)
        total = 0
        whole = False
        pace = _Pace(self._network.limits)
        try:
            if document and (_length(answer) or 0) > LARGEST_DOCUMENT:
                raise not_given(self.address, path, f"it is longer than {LARGEST_DOCUMENT} bytes")
            while chunk := answer.read1(CHUNK, decode_content=False):
                total += len(chunk)
                if document and total > LARGEST_DOCUMENT:
                    raise not_given(self.address, path, f"it is longer than {LARGEST_DOCUMENT} bytes")
                slow = pace.came(len(chunk)) or ("it takes too long" if document and pace.document_late() else "")
                if slow:
                    raise not_given(self.address, path, slow)
                yield chunk
            whole = True
        except (urllib3.exceptions.HTTPError, http.client.HTTPException, OSError) as broken:
            raise BrokenError(unreachable(self.address, broken)) from None
        except ValueError:
            raise not_given(self.address, path, "its answer is malformed") from None
        finally:
            if whole:
                answer.release_conn()
            else:
                answer.close()

    def _refused(self, status: int, path: str) -> RemoteError:
        if status in (401, 403, 407):
            return RemoteError(
                "catalog-forbidden",
                f"the catalog at {self.address} refused {path} (HTTP {status})",
                hint="It requires credentials: rhizon help formats",
            )
        return not_given(self.address, path, f"HTTP {status}")


def _redirected(address: str, url: str, location: str, *, secure: bool) -> str:
    """Where a redirect leads. Raises TrustError for what is not followed."""
    try:
        target = urllib.parse.urljoin(url, location)
        port = urllib.parse.urlsplit(target).port  # a ValueError where it does not exist
    except ValueError:
        raise _bad_redirect(address, location) from None
    allowed = ("https://",) if secure else ("http://", "https://")
    if not target.startswith(allowed) or port == 0 or not target.isprintable():
        raise _bad_redirect(address, target)
    return target


def _bad_redirect(address: str, target: str) -> TrustError:
    return TrustError(
        "bad-redirect",
        f"the catalog at {address} redirects to {printable(target, 200)}",
        hint="Only http and https are followed, and never from https to http. Report it to the catalog's maintainer.",
    )


def _too_late(address: str, seconds: float) -> RemoteError:
    return RemoteError(
        "catalog-unreachable",
        f"the catalog at {address} did not answer within {seconds:.0f} s",
        hint="Check the address and the network; a folder works as a catalog too.",
    )


def _length(answer: Any) -> int | None:
    """The length that an answer says it has, as far as that can be."""
    text = answer.headers.get("Content-Length", "").strip()
    return int(text) if text.isascii() and text.isdecimal() and len(text) < 19 else None


def unreachable(address: str, broken: Exception) -> RemoteError:
    """The network, a name, a certificate or the other side's program is in the way."""
    reason = getattr(broken, "reason", None) or broken
    while isinstance(reason, Exception) and reason.args and isinstance(reason.args[-1], Exception):
        reason = reason.args[-1]  # the library wraps what the system said
    return RemoteError(
        "catalog-unreachable",
        f"the catalog at {address} cannot be reached",
        details=[printable(str(reason).rpartition(": ")[2], 200)],
        hint="Check the address and the network; a folder works as a catalog too.",
    )


def not_given(address: str, path: str, why: str) -> RemoteError:
    """The catalog promises something and does not give it."""
    return RemoteError(
        "catalog-incomplete",
        f"the catalog at {address} failed to serve {path}: {why}",
        hint="Report it to the catalog's maintainer; another catalog may have it (--catalog).",
    )


def _done_with(answer: Any) -> None:
    """Gives the connection back where little is left to read, else ends it."""
    length = _length(answer)
    if answer.status == 304 or (length is not None and length <= MOST_DRAINED):
        answer.drain_conn()
    else:
        answer.close()


def _retry_after(text: str) -> float:
    """Seconds that a ``Retry-After`` asks for (RFC 9110 section 10.2.3), 0 where it says nothing."""
    if text.strip().isascii() and text.strip().isdecimal() and len(text) < 12:
        return float(text)
    with contextlib.suppress(ValueError, TypeError, OverflowError):
        from email.utils import parsedate_to_datetime

        return max(parsedate_to_datetime(text).timestamp() - time.time(), 0.0)
    return 0.0
