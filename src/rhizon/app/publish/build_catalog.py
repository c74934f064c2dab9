"""Make a catalog from a folder of archives."""

import hashlib
from collections.abc import Iterable
from pathlib import Path

import msgspec

from rhizon.adapters.files import hash_file, read_bytes, translated, write_atomic
from rhizon.adapters.games import Games
from rhizon.app.archives.as_items import Shelved, item_documents, items_of, shelved
from rhizon.app.archives.scan import archive_files, scan_files
from rhizon.app.host import Host
from rhizon.app.instance.server_tree import file_tree, tree_path
from rhizon.app.reporter import Reporter
from rhizon.core.errors import DocumentError, InputError
from rhizon.core.finding import Finding, worst_first
from rhizon.core.model.catalog import (
    CATALOG_FILE,
    SHELF_FILE,
    Artefact,
    BuildFacts,
    CatalogRoot,
    GameShelf,
    HostFiles,
    LoaderBuild,
    ServerFiles,
    SharedDefinition,
    Shelf,
    ShelfLoader,
    ShelfServer,
)
from rhizon.core.model.decode import encode_json
from rhizon.core.model.documents import decode
from rhizon.core.names import RelPath, UnsafeNameError, printable, safe_path

__all__ = ["BuildResult", "build_catalog"]


class BuildResult(msgspec.Struct, frozen=True, kw_only=True):
    """What the catalog holds, which documents were written, and what was wrong with the archives."""

    folder: str
    name: str
    items: int
    releases: int
    builds: int
    servers: int
    written: tuple[str, ...]
    findings: tuple[Finding, ...]


def build_catalog(host: Host, folder: Path, reporter: Reporter, *, write: bool = True) -> BuildResult:
    """Reads ``shelf.toml`` (optional), every archive and the facts files beside them; writes the documents.

    An archive that cannot be used is a finding and is left out. Documents that would not change are not
    written; with ``write`` False none is, and ``written`` names those that would be. Raises InputError, DocumentError.
    """
    if not folder.is_dir():
        raise InputError("no-such-folder", f"there is no folder {folder}", hint="Name the folder of your archives.")
    shelf = _shelf(folder)
    games = host.games(folder)
    findings: list[Finding] = []
    found = _read_archives(host, folder, shelf, games, findings, reporter)
    documents = _documents(folder, shelf, found, findings, games)
    written = _write(folder, documents, write=write)
    return BuildResult(
        folder=str(folder),
        name=shelf.name,
        items=len({(one.game, one.facts.id) for one in found}),
        releases=len(found),
        builds=len(shelf.loader),
        servers=len(shelf.server),
        written=tuple(written),
        findings=tuple(worst_first(findings)),
    )


def _shelf(folder: Path) -> Shelf:
    file = folder / SHELF_FILE
    if file.is_file():
        return decode(Shelf, read_bytes(file, "shelf", 8 << 20), str(file))
    name = "".join(c if c.isascii() and c.isalnum() else "-" for c in folder.absolute().name.lower()).strip("-")
    own = folder / "archives"
    return Shelf(format="rhizon-shelf/1", name=name or "shelf", archives=RelPath("archives" if own.is_dir() else "."))


def _read_archives(
    host: Host, folder: Path, shelf: Shelf, games: Games, findings: list[Finding], reporter: Reporter
) -> list[Shelved]:
    """Every archive of the folder as an item's release, with findings for those that cannot be used."""
    definitions = [games.get(name) for name in games.files()]
    root = folder / shelf.archives
    folders = (root, *sorted(one for one in root.rglob("*") if one.is_dir())) if root.is_dir() else ()
    files = [file for one in folders if not one.is_symlink() for file in archive_files(one)]
    found = []
    for file, scanned in zip(files, scan_files(host, files, definitions, reporter), strict=True):
        try:
            path = safe_path(file.relative_to(folder).as_posix())
            one = shelved(file, path, scanned, definitions, findings)
        except (DocumentError, UnsafeNameError) as wrong:
            findings.append(
                Finding(
                    code=getattr(wrong, "code", "unsafe-name"),
                    severity="error",
                    subject=printable(file.name, 120),
                    what=printable(str(wrong), 300),
                    remedy=getattr(wrong, "hint", "Rename the file."),
                )
            )
            continue
        if one is not None:
            found.append(one)
    return found


def _documents(
    folder: Path, shelf: Shelf, found: list[Shelved], findings: list[Finding], known: Games
) -> dict[str, bytes]:
    """Every document of the catalog by its path."""
    games = sorted(
        {one.game for one in found} | {one.game for one in shelf.server} | {one.game for one in shelf.loader}
    )
    documents: dict[str, bytes] = {}
    for game in games:
        items = items_of(game, [one for one in found if one.game == game], findings)
        documents |= item_documents(items, f"{game}/items.json", f"{game}/items")
        trees = {one.file: file_tree(folder / one.file) for one in shelf.server if _is_tree(folder, one, game)}
        documents |= {tree_path(game, path): encode_json(tree) for path, tree in trees.items()}
        documents[f"{game}/host.json"] = encode_json(_host_files(folder, shelf, game, documents))
    root = CatalogRoot(
        format="rhizon-catalog/1",
        name=shelf.name,
        title=shelf.title,
        mirrors=shelf.mirrors,
        games={
            game: GameShelf(
                index=RelPath(f"{game}/items.json"), items=RelPath(f"{game}/items"), host=RelPath(f"{game}/host.json")
            )
            for game in games
        },
        definitions=_definitions(folder, games, known, documents),
    )
    documents[CATALOG_FILE] = encode_json(root)
    return documents


def _definitions(
    folder: Path, games: list[str], known: Games, documents: dict[str, bytes]
) -> dict[str, SharedDefinition]:
    """The definitions that lie beside the shelf, each as a document of the catalog."""
    found = {}
    for game in games:
        file = known.files().get(game)
        if file is not None and file.parent.resolve() == folder.resolve():
            data = read_bytes(file, "game definition", 8 << 20)
            path = RelPath(f"{game}/definition.toml")
            documents[path] = data
            found[game] = SharedDefinition(path=path, sha256=hashlib.sha256(data).hexdigest(), size=len(data))
    return found


def _is_tree(folder: Path, server: ShelfServer, game: str) -> bool:
    return server.game == game and (folder / server.file).is_dir()


def _server_files(folder: Path, game: str, server: ShelfServer, documents: dict[str, bytes]) -> ServerFiles:
    if not _is_tree(folder, server, game):
        return ServerFiles(version=server.version, branch=server.branch, artefact=_artefact(folder, server.file))
    path = tree_path(game, server.file)
    data = documents[path]
    artefact = Artefact(path=path, sha256=hashlib.sha256(data).hexdigest(), size=len(data))
    return ServerFiles(version=server.version, branch=server.branch, artefact=artefact, tree=server.file)


def _host_files(folder: Path, shelf: Shelf, game: str, documents: dict[str, bytes]) -> HostFiles:
    """The server files and loader builds of a game, as the shelf names them."""
    return HostFiles(
        format="rhizon-host-files/1",
        server=tuple(_server_files(folder, game, one, documents) for one in shelf.server if one.game == game),
        loaders=_builds(folder, shelf.loader, game),
        player_loaders=_builds(folder, shelf.player_loader, game),
    )


def _builds(folder: Path, builds: Iterable[ShelfLoader], game: str) -> tuple[LoaderBuild, ...]:
    return tuple(
        LoaderBuild(
            artefact=_artefact(folder, one.file),
            **{name: getattr(one, name) for name in BuildFacts.__struct_fields__},
        )
        for one in builds
        if one.game == game
    )


def _artefact(folder: Path, path: RelPath) -> Artefact:
    if not (folder / path).is_file():
        raise InputError(
            "no-such-file",
            f"{SHELF_FILE} names {path}, which is not in {folder}",
            hint="Add the file or correct the line.",
        )
    sha256, size = hash_file(folder / path)
    return Artefact(path=path, sha256=sha256, size=size)


def _write(folder: Path, documents: dict[str, bytes], *, write: bool) -> list[str]:
    """Writes what differs, roots last, and takes away item files of ours that are no longer in the catalog."""
    written = []
    with translated("write the catalog", folder):
        for name in sorted(documents, key=lambda one: (one.count("/") * -1, one)):
            path = folder / name
            if not path.is_file() or path.read_bytes() != documents[name]:
                if write:
                    write_atomic(path, documents[name])
                written.append(name)
        for old in sorted(folder.glob("*/items/*.json")):
            if old.relative_to(folder).as_posix() not in documents and b'"rhizon-item/1"' in old.read_bytes()[:200]:
                if write:
                    old.unlink()
                written.append(old.relative_to(folder).as_posix())
    return written
