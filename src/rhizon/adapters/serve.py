"""A folder over HTTP, a catalog or a page: GET and HEAD, entity tags, conditional requests and ranges (RFC 9110)."""

import contextlib
import hashlib
import re
import threading
from collections.abc import Callable, Iterator
from http import HTTPStatus
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from urllib.parse import unquote, urlsplit

from rhizon.core.errors import StateError
from rhizon.core.names import UnsafeNameError, printable, safe_path

__all__ = ["CatalogServer", "serving"]

TYPES = {
    ".json": "application/json",
    ".toml": "application/toml",
    ".jar": "application/java-archive",
    ".zip": "application/zip",
    ".html": "text/html; charset=utf-8",
}
INDEX = "index.html"


class CatalogServer(ThreadingHTTPServer):
    """Serves one folder; nothing outside of it and no name that could leave it."""

    daemon_threads = True

    def __init__(self, folder: Path, address: str, port: int, told: Callable[[str], None]) -> None:
        self.folder = folder.absolute()
        self.told = told
        try:
            super().__init__((address, port), _Handler)
        except OSError as broken:
            raise StateError(
                "port-taken",
                f"port {port} on {address} is not available: {broken.strerror}",
                hint="Choose another port with --listen; port 0 takes a free one.",
            ) from None

    @property
    def url(self) -> str:
        """Where it is reached."""
        host, port = self.server_address[:2]
        return f"http://{host!s}:{port}"

    def handle_error(self, request: object, client_address: object) -> None:
        """A client that hangs up is not our problem."""


class _Handler(BaseHTTPRequestHandler):
    """One request: GET or HEAD of a file below the folder, with ranges and ETags (RFC 9110)."""

    server: CatalogServer
    protocol_version = "HTTP/1.1"
    # heads and short bodies leave in one packet and at once: else each answer waits for a delayed acknowledgement
    wbufsize = 1 << 16
    disable_nagle_algorithm = True
    server_version = "rhizon-catalog"
    sys_version = ""

    def do_GET(self) -> None:
        self._answer(body=True)

    def do_HEAD(self) -> None:
        self._answer(body=False)

    def _answer(self, *, body: bool) -> None:
        """Sends a file, the range that was asked for, "not modified" or "not found"."""
        file = self._file()
        if file is None:
            self.send_error(HTTPStatus.NOT_FOUND)
            return
        facts = file.stat()
        tag = '"' + hashlib.sha256(f"{facts.st_mtime_ns}:{facts.st_size}".encode()).hexdigest()[:24] + '"'
        known = [one.strip() for one in self.headers.get("If-None-Match", "").split(",")]
        if tag in known or known == ["*"]:
            self._head(HTTPStatus.NOT_MODIFIED, tag, file, None)
            return
        first, last = self._range(facts.st_size, tag)
        if first > last and facts.st_size:
            self.send_response(HTTPStatus.REQUESTED_RANGE_NOT_SATISFIABLE)
            self.send_header("Content-Range", f"bytes */{facts.st_size}")
            self.send_header("Content-Length", "0")
            self.end_headers()
            return
        length = last - first + 1
        part = length != facts.st_size
        status = HTTPStatus.PARTIAL_CONTENT if part else HTTPStatus.OK
        self._head(status, tag, file, length, f"bytes {first}-{last}/{facts.st_size}" if part else "")
        if body:
            self._send(file, first, length)

    def _file(self) -> Path | None:
        try:
            path = safe_path(unquote(urlsplit(self.path).path).lstrip("/") or INDEX)
        except (UnsafeNameError, ValueError):
            return None
        file = (self.server.folder / path).resolve()
        return file if file.is_file() and file.is_relative_to(self.server.folder.resolve()) else None

    def _range(self, size: int, tag: str) -> tuple[int, int]:
        """First and last byte to send; first > last when the range cannot be met."""
        asked = re.fullmatch(r"bytes=(\d*)-(\d*)", self.headers.get("Range", ""))
        if not asked or asked[1] == asked[2] == "" or self.headers.get("If-Range", tag) != tag:
            return 0, size - 1
        if not asked[1]:
            return max(size - int(asked[2]), 0), size - 1
        last = int(asked[2]) if asked[2] else size - 1
        return int(asked[1]), min(last, size - 1)

    def _head(self, status: HTTPStatus, tag: str, file: Path, length: int | None, span: str = "") -> None:
        self.send_response(status)
        self.send_header("ETag", tag)
        self.send_header("Cache-Control", "no-cache")
        self.send_header("Accept-Ranges", "bytes")
        self.send_header("X-Content-Type-Options", "nosniff")
        if length is not None:
            self.send_header("Content-Type", TYPES.get(file.suffix, "application/octet-stream"))
            self.send_header("Content-Length", str(length))
        if span:
            self.send_header("Content-Range", span)
        self.end_headers()

    def _send(self, file: Path, first: int, length: int) -> None:
        with file.open("rb") as source, contextlib.suppress(ConnectionError):
            source.seek(first)
            while length > 0 and (chunk := source.read(min(length, 1 << 18))):
                self.wfile.write(chunk)
                length -= len(chunk)

    def log_message(self, format: str, *args: object) -> None:
        """One plain line for each request, for those who want it."""
        self.server.told(printable(f"{self.address_string()} {format % args}"))


@contextlib.contextmanager
def serving(
    folder: Path, address: str = "127.0.0.1", port: int = 0, told: Callable[[str], None] = lambda _line: None
) -> Iterator[CatalogServer]:
    """The folder served from another thread until the end of the ``with``; port 0 takes a free one."""
    server = CatalogServer(folder, address, port, told)
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.1}, daemon=True)
    thread.start()
    try:
        yield server
    finally:
        server.shutdown()
        server.server_close()
        thread.join()
