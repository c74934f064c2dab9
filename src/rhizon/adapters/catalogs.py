"""Catalogs behind an address: a folder or any HTTP server. A new transport is one class and one line."""

import hashlib
import urllib.parse
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import IO, Any, Protocol, TypeVar

from rhizon.adapters.copies import Copies
from rhizon.adapters.files import read_bytes
from rhizon.core.errors import InputError, RemoteError, RhizonError, TrustError
from rhizon.core.finding import Finding
from rhizon.core.model.base import Strict
from rhizon.core.model.catalog import CatalogRoot, HostFiles, Item, ItemIndex
from rhizon.core.model.documents import decode
from rhizon.core.model.lock import LockedFile
from rhizon.core.names import plain

__all__ = ["Catalogs", "FolderTransport", "HttpTransport", "LocalTransport", "Transport", "open_catalogs"]

LARGEST_DOCUMENT = 256 << 20
CONNECT_SECONDS = 10.0
STALL_SECONDS = 30.0
RETRIES = 3
CONNECTIONS = 16  # to one catalog at once
PLAIN_HEADERS = {"User-Agent": "rhizon", "Accept-Encoding": "identity"}

T = TypeVar("T", bound=Strict)
Progress = Callable[[int], None]


class Transport(Protocol):
    """Reads files below one address."""

    address: str

    def read(self, path: str, sha256: str | None = None, /) -> bytes | None:
        """A document whole; None when it is not there. ``sha256`` of what is wanted, where that is known."""

    def stream(self, path: str) -> Iterator[bytes]:
        """An artefact in pieces."""


class FolderTransport:
    """A folder on this machine."""

    def __init__(self, address: str) -> None:
        self.address = address
        self._root = Path(address)

    def read(self, path: str, _sha256: str | None = None, /) -> bytes | None:
        file = self._root / path
        return read_bytes(file, "catalog document", LARGEST_DOCUMENT) if file.is_file() else None

    def stream(self, path: str) -> Iterator[bytes]:
        try:
            with (self._root / path).open("rb") as file:
                while chunk := file.read(1 << 18):
                    yield chunk
        except OSError as broken:
            raise _gone(self.address, path, broken.strerror or "it cannot be read") from None


class LocalTransport:
    """A catalog in memory over archives that lie anywhere: ``files`` are they by the path that the catalog gives."""

    def __init__(self, address: str, documents: Mapping[str, bytes], files: Mapping[str, Path]) -> None:
        self.address = address
        self._documents = documents
        self._files = files

    def read(self, path: str, _sha256: str | None = None, /) -> bytes | None:
        return self._documents.get(path)

    def stream(self, path: str) -> Iterator[bytes]:
        if path not in self._files:
            raise _gone(self.address, path, "it is not there any more")
        return FolderTransport(str(self._files[path].parent)).stream(self._files[path].name)


class HttpTransport:
    """``http://`` or ``https://``; redirects only to those, and never from https to http.

    With ``copies`` a document that is known is asked for only if it changed, and not at all when it is known by hash.
    """

    def __init__(self, address: str, copies: Copies | None = None) -> None:
        import urllib3

        self.address = address.rstrip("/")
        self._secure = self.address.startswith("https:")
        self._urllib3 = urllib3
        self._copies = copies
        retries = urllib3.Retry(total=RETRIES, redirect=False, status=RETRIES, backoff_factor=0.2)
        retries = retries.new(status_forcelist=(429, 500, 502, 503, 504), raise_on_status=False)
        self._pool = urllib3.PoolManager(
            maxsize=CONNECTIONS,
            timeout=urllib3.Timeout(connect=CONNECT_SECONDS, read=STALL_SECONDS),
            retries=retries,
            headers=PLAIN_HEADERS,
        )

    def _get(self, path: str, headers: dict[str, str] | None = None) -> Any:
        url = f"{self.address}/{urllib.parse.quote(path)}"
        for _ in range(5):
            try:
                answer = self._pool.request("GET", url, headers=headers, preload_content=False, redirect=False)
            except self._urllib3.exceptions.HTTPError as broken:
                raise self._unreachable(broken) from None
            if answer.status not in (301, 302, 303, 307, 308):
                return answer
            answer.close()
            url = urllib.parse.urljoin(url, answer.headers.get("Location", ""))
            if not url.startswith("https://" if self._secure else ("http://", "https://")):
                raise TrustError(
                    "bad-redirect",
                    f"the catalog at {self.address} redirects to {plain(url, 200)}",
                    hint="Only http and https are followed, and never from https to http. Ask its keeper.",
                )
        raise RemoteError(
            "redirect-loop", f"the catalog at {self.address} redirects in a circle", hint="Ask its keeper."
        )

    def read(self, path: str, sha256: str | None = None, /) -> bytes | None:
        known = self._copies.get(self.address, path) if self._copies is not None else None
        if known is not None and known.sha256 == sha256:
            return known.body
        headers = dict(PLAIN_HEADERS)
        if known is not None and known.tag:
            headers["If-None-Match"] = known.tag
        elif known is not None and known.modified:
            headers["If-Modified-Since"] = known.modified
        answer = self._get(path, headers)
        if answer.status == 304 and known is not None:
            answer.release_conn()
            return known.body
        if answer.status == 404:
            answer.release_conn()
            return None
        body = b"".join(self._body(answer, path, LARGEST_DOCUMENT))
        if self._copies is not None:
            tag, modified = (answer.headers.get(name, "") for name in ("ETag", "Last-Modified"))
            self._copies.put(self.address, path, tag, modified, body)
        return body

    def stream(self, path: str) -> Iterator[bytes]:
        return self._body(self._get(path), path, None)

    def _body(self, answer: Any, path: str, most: int | None) -> Iterator[bytes]:
        if answer.status != 200:
            answer.close()
            raise _gone(self.address, path, f"the answer is {answer.status}")
        total = 0
        try:
            for chunk in answer.stream(1 << 18, decode_content=False):
                total += len(chunk)
                if most is not None and total > most:
                    raise _gone(self.address, path, f"it is longer than {most} bytes")
                yield chunk
        except self._urllib3.exceptions.HTTPError as broken:
            raise self._unreachable(broken) from None
        finally:
            answer.close()

    def _unreachable(self, broken: Exception) -> RemoteError:
        reason = getattr(broken, "reason", None) or broken
        return RemoteError(
            "catalog-unreachable",
            f"the catalog at {self.address} cannot be reached",
            details=[plain(str(reason).rpartition(": ")[2], 200)],
            hint="Check the address and the network; a folder works as a catalog too.",
        )


def _gone(address: str, path: str, why: str) -> RemoteError:
    return RemoteError(
        "catalog-incomplete",
        f"the catalog at {address} does not give {path}: {why}",
        hint="Tell its keeper; another catalog may have it (--catalog).",
    )


# address prefix -> transport; anything else is a folder
TRANSPORTS: dict[str, Callable[[str, Copies | None], Transport]] = {"http://": HttpTransport, "https://": HttpTransport}


def _transport(address: str, beside: Path, copies: Copies | None) -> Transport:
    for prefix, kind in TRANSPORTS.items():
        if address.startswith(prefix):
            parts = urllib.parse.urlsplit(address)
            if parts.username or parts.password:
                raise InputError(
                    "secret-in-address",
                    "a catalog's address must not hold a user name or a password",
                    hint="Take it out of the address.",
                )
            return kind(address, copies)
    if "://" in address:
        raise InputError(
            "bad-address", f"{address} is no address that Rhizon knows", hint="Use http, https or a folder."
        )
    folder = (beside / address).absolute()
    if not folder.is_dir():
        raise RemoteError(
            "catalog-unreachable",
            f"there is no catalog at {folder}: it is not a folder",
            hint="Check the path; make a catalog with: rhizon catalog build DIR",
        )
    return FolderTransport(str(folder))


class _Catalog:
    """One catalog and its documents, each read once."""

    def __init__(self, transport: Transport) -> None:
        self.transport = transport
        root = self._document(CatalogRoot, "catalog.json")
        if root is None:
            raise RemoteError(
                "no-catalog",
                f"there is no catalog at {transport.address}: it has no catalog.json",
                hint="Make one there with: rhizon catalog build DIR",
            )
        self.root: CatalogRoot = root

    def _document(self, kind: type[T], path: str, sha256: str | None = None) -> T | None:
        data = self.transport.read(path, sha256)
        if data is None:
            return None
        source = f"{self.transport.address}/{path}"
        return decode(kind, data, source)

    def needed(self, kind: type[T], path: str, sha256: str | None = None) -> T:
        found = self._document(kind, path, sha256)
        if found is None:
            raise _gone(self.transport.address, path, "it is not there")
        return found


class Catalogs:
    """Several catalogs as the one shelf that the solver asks; the first that has an item wins."""

    def __init__(self, catalogs: list[_Catalog]) -> None:
        self._catalogs = catalogs
        self.findings: list[Finding] = []  # about archives that were put before the catalogs
        self._indexes: dict[tuple[str, str], ItemIndex] = {}
        self._items: dict[tuple[str, str], tuple[str, Item] | None] = {}

    @property
    def addresses(self) -> tuple[str, ...]:
        """Where they are, in order; archives that were put before them are in none."""
        remote = (one.transport for one in self._catalogs)
        return tuple(one.address for one in remote if not isinstance(one, LocalTransport))

    def put_first(self, local: LocalTransport, findings: Sequence[Finding]) -> None:
        """Puts archives before every catalog; findings are about them."""
        self._catalogs = [_Catalog(local), *self._catalogs]
        self.findings += findings

    def _index_of(self, catalog: _Catalog, game: str) -> ItemIndex | None:
        shelf = catalog.root.games.get(game)
        if shelf is None:
            return None
        key = (catalog.root.name, game)
        if key not in self._indexes:
            self._indexes[key] = catalog.needed(ItemIndex, shelf.index)
        return self._indexes[key]

    def index(self, game: str) -> ItemIndex:
        """Every id of the game, over all catalogs."""
        merged = {}
        for catalog in reversed(self._catalogs):
            one = self._index_of(catalog, game)
            merged.update(one.items if one else {})
        return ItemIndex(format="rhizon-index/1", items=dict(sorted(merged.items())))

    def prefetch(self, game: str, names: Sequence[str]) -> None:
        """Reads these items now, several at once; an error waits until its item is asked for."""
        wanted = [name for name in names if (game, name) not in self._items]
        if len(wanted) < 2 or all(
            isinstance(one.transport, FolderTransport | LocalTransport) for one in self._catalogs
        ):
            return  # from a folder one after the other is as fast

        def get(name: str) -> tuple[str, tuple[str, Item] | None] | None:
            try:
                return name, self._read_item(game, name)
            except RhizonError:
                return None

        self.index(game)  # once, before everybody wants it
        with ThreadPoolExecutor(max_workers=CONNECTIONS) as pool:
            for found in pool.map(get, wanted):
                if found is not None:
                    self._items[game, found[0]] = found[1]

    def item(self, game: str, name: str) -> tuple[str, Item] | None:
        """An item and the name of its catalog; each is read once."""
        if (game, name) not in self._items:
            self._items[game, name] = self._read_item(game, name)
        return self._items[game, name]

    def _read_item(self, game: str, name: str) -> tuple[str, Item] | None:
        for catalog in self._catalogs:
            index = self._index_of(catalog, game)
            if index is not None and name in index.items:
                found = catalog.needed(Item, f"{catalog.root.games[game].items}/{name}.json", index.items[name].sha256)
                if found.id != name or found.game != game:
                    raise RemoteError(
                        "catalog-broken",
                        f"the catalog at {catalog.transport.address} answers {found.id} when asked for {name}",
                        hint="Tell its keeper: rhizon catalog build DIR makes it anew.",
                    )
                return catalog.root.name, found
        return None

    def host(self, game: str) -> tuple[str, HostFiles]:
        """The server files and loader builds of the first catalog that has the game."""
        for catalog in self._catalogs:
            shelf = catalog.root.games.get(game)
            if shelf is not None and not isinstance(catalog.transport, LocalTransport):
                return catalog.root.name, catalog.needed(HostFiles, shelf.host)
        raise RemoteError(
            "game-not-in-catalog",
            f"no catalog here has anything for the game {game}",
            details=[f"looked in {', '.join(self.addresses) or 'none'}"],
            hint="Name a catalog that has it: --catalog ADDRESS",
        )

    def other_game(self, game: str, name: str) -> str | None:
        """Another game for which this id is known."""
        for catalog in self._catalogs:
            for other in catalog.root.games:
                index = self._index_of(catalog, other) if other != game else None
                if index is not None and name in index.items:
                    return other
        return None

    def transport_for(self, file: LockedFile) -> Transport:
        """The transport of the catalog that a locked file names."""
        for catalog in self._catalogs:
            if catalog.root.name == file.catalog:
                return catalog.transport
        raise RemoteError(
            "catalog-missing",
            f"{file.path} comes from the catalog {file.catalog}, which was not named",
            hint="Name where it is: --catalog ADDRESS",
        )

    def fetch(self, file: LockedFile, into: IO[bytes], progress: Progress) -> None:
        """Streams a file while it is hashed. Wrong size or hash is a :class:`TrustError`."""
        transport = self.transport_for(file)
        digest = hashlib.sha256()
        total = 0
        for chunk in transport.stream(file.path):
            total += len(chunk)
            if total > file.size:
                raise _wrong(transport.address, file, f"it is longer than the {file.size} bytes that were promised")
            digest.update(chunk)
            into.write(chunk)
            progress(len(chunk))
        if total != file.size:
            raise _wrong(transport.address, file, f"it has {total} bytes, {file.size} were promised")
        if digest.hexdigest() != file.sha256:
            found = digest.hexdigest()
            raise _wrong(transport.address, file, f"its SHA-256 is {found[:16]}…, {file.sha256[:16]}… was promised")


def _wrong(address: str, file: LockedFile, why: str) -> TrustError:
    return TrustError(
        "hash-mismatch",
        f"{file.path} from {address} is not what was promised: {why}",
        hint="Nothing of it was used. Try once more; if it stays so, tell the catalog's keeper.",
    )


def open_catalogs(addresses: tuple[str, ...], beside: Path, copies: Copies | None = None) -> Catalogs:
    """The catalogs at those addresses; relative folders count from ``beside``. ``copies`` keeps what comes."""
    if not addresses:
        raise InputError(
            "no-catalog-named",
            "no catalog was named",
            hint="Name one with --catalog ADDRESS_OR_FOLDER, or in the list: catalogs = [...]",
        )
    catalogs = [_Catalog(_transport(address, beside, copies)) for address in addresses]
    names = [one.root.name for one in catalogs]
    if len(set(names)) != len(names):
        raise InputError(
            "catalogs-clash", f"two of the catalogs have the same name: {', '.join(names)}", hint="Name one of them."
        )
    return Catalogs(catalogs)
