"""Catalogs behind an address: a folder or any HTTP server. A new transport is one class and one line."""

import contextlib
import hashlib
import urllib.parse
from collections.abc import Callable, Generator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Protocol, TypeVar

from rhizon.adapters.files import read_bytes
from rhizon.adapters.http import LARGEST_DOCUMENT, HttpTransport, Network, Piece, Stream, not_given
from rhizon.core.errors import DocumentError, InputError, RemoteError, RhizonError, TrustError
from rhizon.core.finding import Finding
from rhizon.core.model.base import Strict
from rhizon.core.model.catalog import LOCAL, CatalogRoot, HostFiles, Item, ItemIndex, SharedDefinition
from rhizon.core.model.documents import decode
from rhizon.core.model.lock import LockedFile
from rhizon.core.words import command_line

__all__ = ["Catalogs", "FolderTransport", "LocalTransport", "Transport", "open_catalogs"]

T = TypeVar("T", bound=Strict)


class Transport(Protocol):
    """Reads files below one address."""

    address: str

    def read(self, path: str, sha256: str | None = None, /) -> bytes | None:
        """A document whole; None when it is not there. ``sha256`` of what is wanted, where that is known."""

    def stream(self, path: str, piece: Piece = Piece(0, ""), /) -> Stream:
        """An artefact from an offset on, or from its beginning where that cannot be."""


class FolderTransport:
    """A folder on this machine."""

    def __init__(self, address: str) -> None:
        self.address = address
        self._root = Path(address)

    def read(self, path: str, _sha256: str | None = None, /) -> bytes | None:
        file = self._root / path
        return read_bytes(file, "catalog document", LARGEST_DOCUMENT) if file.is_file() else None

    def stream(self, path: str, piece: Piece = Piece(0, ""), /) -> Stream:
        try:
            size = (self._root / path).stat().st_size
        except OSError as broken:
            raise not_given(self.address, path, broken.strerror or "it cannot be read") from None
        begin = min(piece.offset, size)
        return Stream(Piece(begin, ""), size, self._chunks(path, begin))

    def _chunks(self, path: str, begin: int) -> Generator[bytes, None, None]:
        try:
            with (self._root / path).open("rb") as file:
                file.seek(begin)
                while chunk := file.read(1 << 18):
                    yield chunk
        except OSError as broken:
            raise not_given(self.address, path, broken.strerror or "it cannot be read") from None


class LocalTransport:
    """A catalog in memory over archives that are anywhere: ``files`` are they by the path that the catalog gives."""

    def __init__(self, address: str, documents: Mapping[str, bytes], files: Mapping[str, Path]) -> None:
        self.address = address
        self._documents = documents
        self._files = files

    def read(self, path: str, _sha256: str | None = None, /) -> bytes | None:
        return self._documents.get(path)

    def stream(self, path: str, piece: Piece = Piece(0, ""), /) -> Stream:
        if path not in self._files:
            raise not_given(self.address, path, "it no longer exists")
        return FolderTransport(str(self._files[path].parent)).stream(self._files[path].name, piece)


# address prefix -> transport; anything else is a folder
TRANSPORTS: dict[str, Callable[[str, Network], Transport]] = {"http://": HttpTransport, "https://": HttpTransport}


def _transport(address: str, beside: Path, network: Network) -> Transport:
    """What reads from an address: HTTP for an address with a scheme, else a folder. Raises InputError (a bad address,
    or one with a secret), RemoteError (no such folder)."""
    for prefix, kind in TRANSPORTS.items():
        if address.startswith(prefix):
            parts = urllib.parse.urlsplit(address)
            if parts.username or parts.password:
                raise InputError(
                    "secret-in-address",
                    "a catalog's address must not hold a user name or a password",
                    hint="Remove it from the address and put it into credentials.toml: rhizon help formats",
                )
            return kind(address, network)
    if "://" in address:
        raise InputError(
            "bad-address", f"{address} is not an address that Rhizon understands", hint="Use http, https or a folder."
        )
    folder = (beside / address).absolute()
    if not folder.is_dir():
        raise RemoteError(
            "catalog-unreachable",
            f"there is no catalog at {folder}: it is not a folder",
            hint="Check the path; a catalog is a folder or an http(s) address.",
        )
    return FolderTransport(str(folder))


class _Catalog:
    """One catalog and its documents, each read once."""

    def __init__(self, transport: Transport) -> None:
        self.transport = transport
        self.digests: dict[str, str] = {}  # of documents that were read, by path
        root = self._document(CatalogRoot, "catalog.json")
        if root is None:
            raise RemoteError(
                "no-catalog",
                f"there is no catalog at {transport.address}: it has no catalog.json",
                hint=f"Make one there: {command_line('rhizon', 'catalog', 'build', transport.address)}"
                if isinstance(transport, FolderTransport)
                else "Check the address; it should be that of the folder with catalog.json.",
            )
        self.root: CatalogRoot = root

    def _document(self, kind: type[T], path: str, sha256: str | None = None) -> T | None:
        """A document of the catalog, checked against ``sha256`` where the index names one; None where there is none.
        Raises RemoteError for one that cannot be used."""
        data = self.transport.read(path, sha256)
        if data is None:
            return None
        if sha256 is None:  # the few that name others
            self.digests[path] = hashlib.sha256(data).hexdigest()
        source = f"{self.transport.address}/{path}"
        try:
            return decode(kind, data, source)
        except DocumentError as wrong:
            page = data.lstrip()[:1] == b"<"
            raise RemoteError(
                "catalog-broken",
                f"the catalog at {self.transport.address} returned something other than {path}",
                details=["it is a web page, perhaps a login page"] if page else [wrong.message, *wrong.details[:8]],
                hint="Open its address in a browser. If you are logged in to the network, report it to the "
                "catalog's maintainer.",
            ) from None

    def mirrors(self, network: Network) -> list[Transport]:
        """Other places that have its artefacts; relative ones count from the catalog's own address."""
        found = []
        for address in self.root.mirrors:
            here = self.transport.address
            if "://" not in address and "://" in here:
                address = urllib.parse.urljoin(f"{here}/", address)
            with contextlib.suppress(InputError, RemoteError):  # a bad mirror is as good as none
                found.append(_transport(address, Path(here), network))
        return found

    def needed(self, kind: type[T], path: str, sha256: str | None = None) -> T:
        """The same for a document that has to be there. Raises RemoteError."""
        found = self._document(kind, path, sha256)
        if found is None:
            raise not_given(self.transport.address, path, "it was not found")
        return found


class Catalogs:
    """Several catalogs as the one shelf that the solver asks; the first that has an item wins."""

    def __init__(self, catalogs: list[_Catalog], network: Network) -> None:
        self._catalogs = catalogs
        self.network = network
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

    def fingerprint(self, game: str) -> str | None:
        """What all that the catalogs say of a game can be known by: equal ones give equal answers. None where an index
        does not give the hashes of its items."""
        known = []
        for catalog in self._catalogs:
            shelf = catalog.root.games.get(game)
            index = self._index_of(catalog, game)
            if shelf is None or index is None:
                continue
            if any(line.sha256 is None for line in index.items.values()) or isinstance(
                catalog.transport, LocalTransport
            ):
                return None
            catalog.needed(HostFiles, shelf.host)
            known.append(f"{catalog.root.name} {catalog.digests[shelf.index]} {catalog.digests[shelf.host]}")
        return hashlib.sha256("\n".join(known).encode()).hexdigest()

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
        with ThreadPoolExecutor(max_workers=self.network.limits.connections) as pool:
            for found in pool.map(get, wanted):
                if found is not None:
                    self._items[game, found[0]] = found[1]

    def item(self, game: str, name: str) -> tuple[str, Item] | None:
        """An item and the name of its catalog; each is read once."""
        if (game, name) not in self._items:
            self._items[game, name] = self._read_item(game, name)
        return self._items[game, name]

    def hidden(self, game: str, name: str) -> list[tuple[str, str, tuple[str, ...]]]:
        """See :meth:`~rhizon.core.solve.problem.Shelf.hidden`. A catalog that cannot be read hides nothing."""
        first = self.item(game, name)
        if first is None:
            return []
        known = {one.version for one in first[1].releases}
        found = []
        for catalog in self._catalogs:
            with contextlib.suppress(RhizonError):
                later = self._read_item(game, name, [catalog]) if catalog.root.name != first[0] else None
                more = [one.version for one in later[1].releases if one.version not in known] if later else []
                if more:
                    found.append((first[0], catalog.root.name, tuple(one.text for one in sorted(more))))
        return found

    def _read_item(self, game: str, name: str, catalogs: Sequence[_Catalog] | None = None) -> tuple[str, Item] | None:
        """The item from the first catalog whose index has it, with the catalog's name. Raises RemoteError."""
        for catalog in self._catalogs if catalogs is None else catalogs:
            index = self._index_of(catalog, game)
            if index is not None and name in index.items:
                found = catalog.needed(Item, f"{catalog.root.games[game].items}/{name}.json", index.items[name].sha256)
                if found.id != name or found.game != game:
                    raise RemoteError(
                        "catalog-broken",
                        f"the catalog at {catalog.transport.address} answers {found.id} when asked for {name}",
                        hint="Report it to the catalog's maintainer; building the catalog again corrects it.",
                    )
                return catalog.root.name, found
        return None

    def host(self, game: str) -> tuple[str, HostFiles]:
        """The server files and loader builds of the first catalog that has server files of the game: one with content
        alone may come before it. Raises RemoteError where no catalog has the game."""
        first: tuple[str, HostFiles] | None = None
        for catalog in self._catalogs:
            shelf = catalog.root.games.get(game)
            if shelf is not None and not isinstance(catalog.transport, LocalTransport):
                found = catalog.root.name, catalog.needed(HostFiles, shelf.host)
                if found[1].server:
                    return found
                first = first or found
        if first is not None:
            return first
        raise RemoteError(
            "game-not-in-catalog",
            f"no catalog has anything for the game {game}",
            details=[f"searched: {', '.join(self.addresses) or 'none'}"],
            hint="Name a catalog that has it with --catalog.",
        )

    def definition(self, game: str) -> tuple[str, SharedDefinition, bytes] | None:
        """The definition of a game that the first catalog which has one gives, and that catalog's name. Raises
        TrustError for other bytes than it says, RemoteError."""
        for catalog in self._catalogs:
            shared = catalog.root.definitions.get(game)
            if shared is None:
                continue
            data = catalog.transport.read(shared.path, shared.sha256)
            if data is None:
                raise not_given(catalog.transport.address, shared.path, "it was not found")
            if hashlib.sha256(data).hexdigest() != shared.sha256:
                raise TrustError(
                    "hash-mismatch",
                    f"{shared.path} of {catalog.root.name} has other bytes than the catalog says",
                    hint="Report it to the catalog's maintainer. Nothing was changed.",
                )
            return catalog.root.name, shared, data
        return None

    def other_game(self, game: str, name: str) -> str | None:
        """Another game for which this id is known."""
        for catalog in self._catalogs:
            for other in catalog.root.games:
                index = self._index_of(catalog, other) if other != game else None
                if index is not None and name in index.items:
                    return other
        return None

    def transports_for(self, file: LockedFile) -> list[Transport]:
        """Where a locked file is available: the catalog that it names, then that one's mirrors. Raises RemoteError
        where no catalog of that name is open."""
        for catalog in self._catalogs:
            if catalog.root.name == file.catalog:
                return [catalog.transport, *catalog.mirrors(self.network)]
        if file.catalog == LOCAL:
            raise RemoteError(
                "catalog-missing",
                f"{file.path} is an archive of your own, which no catalog has, and it is not on this machine",
                hint="Put the folder that `rhizon lock --output` made beside the lock, or name its folder: --catalog.",
            )
        raise RemoteError(
            "catalog-missing",
            f"{file.path} comes from the catalog {file.catalog}, which was not named",
            hint="Name that catalog's address with --catalog.",
        )


def open_catalogs(addresses: tuple[str, ...], beside: Path, network: Network) -> Catalogs:
    """The catalogs at those addresses; relative folders count from ``beside``. Raises InputError (none or two of one
    name), RemoteError (one cannot be read)."""
    if not addresses:
        raise InputError(
            "no-catalog-named",
            "no catalog was named",
            hint="Name one with --catalog (an address or a folder), or as `catalogs` in the list.",
        )
    catalogs = [_Catalog(_transport(address, beside, network)) for address in addresses]
    names = [one.root.name for one in catalogs]
    if len(set(names)) != len(names):
        raise InputError(
            "catalogs-clash",
            f"two of the catalogs have the same name: {', '.join(names)}",
            hint="Name only one of them.",
        )
    return Catalogs(catalogs, network)
