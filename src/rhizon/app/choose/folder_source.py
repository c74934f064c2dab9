"""Archives that no catalog need know: those that a list names, and a plain folder of archives as a source."""

from collections.abc import Sequence
from pathlib import Path

from rhizon.adapters.catalogs import LocalTransport
from rhizon.app.archives.as_items import item_documents, items_of, shelved
from rhizon.app.archives.scan import archive_files, judge_set, left_unread, scan_files, scan_together
from rhizon.app.choose.sort_folder import sort_files
from rhizon.app.host import Host
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError
from rhizon.core.finding import Finding
from rhizon.core.folder_files import FolderFile
from rhizon.core.model.catalog import LOCAL, CatalogRoot, GameShelf, HostFiles
from rhizon.core.model.contentlist import ContentList, Wish
from rhizon.core.model.decode import encode_json
from rhizon.core.model.game import GameDefinition
from rhizon.core.names import RelPath, UnsafeNameError, printable, safe_path
from rhizon.core.version import parse_range

__all__ = ["list_of_folder", "local_archives"]


def _files(paths: Sequence[str], beside: Path, findings: list[Finding]) -> list[Path]:
    """The archives that are named, and those in folders that are; what else is in these becomes findings."""
    files: dict[Path, None] = {}
    for path in paths:
        whole = (beside / path).absolute()
        if not whole.exists():
            raise InputError("no-such-file", f"there is nothing at {whole}", hint="Correct `archives` in the list.")
        files.update(dict.fromkeys(archive_files(whole) if whole.is_dir() else [whole]))
        if whole.is_dir():
            findings += left_unread(whole)
    return list(files)


def local_archives(
    host: Host, paths: Sequence[str], beside: Path, game: GameDefinition, reporter: Reporter
) -> tuple[LocalTransport, list[Finding]]:
    """Archives as a catalog that goes before every other, and what is wrong with them, alone and together."""
    findings: list[Finding] = []
    files = _files(paths, beside, findings)
    scanned = judge_set(host, scan_files(host, files, [game], reporter), [game])
    # what is missing here may be in a catalog; that is the solver's to say
    findings += [one for one in scan_together(scanned, [game]) if one.code != "dependency-missing"]
    found = []
    by_path: dict[str, Path] = {}
    for file, one in zip(files, scanned, strict=True):
        try:
            path = safe_path(file.name)
        except UnsafeNameError:
            path = RelPath(f"{one.sha256[:16]}{file.suffix.lower()}")
        if path in by_path:
            path = RelPath(f"{one.sha256[:16]}/{path}")
        known = shelved(file, path, one, [game], findings)
        if known is not None:
            found.append(known)
            by_path[path] = file
    items = items_of(game.id, found, findings)
    documents = item_documents(items, "items.json", "items")
    shelf = GameShelf(index=RelPath("items.json"), items=RelPath("items"), host=RelPath("host.json"))
    root = CatalogRoot(format="rhizon-catalog/1", name=LOCAL, games={game.id: shelf})
    documents["host.json"] = encode_json(HostFiles(format="rhizon-host-files/1", server=(), loaders=()))
    documents["catalog.json"] = encode_json(root)
    where = ", ".join(paths)
    return LocalTransport(where, documents, by_path), findings


def list_of_folder(
    host: Host, folder: Path, game: str | None, reporter: Reporter
) -> tuple[ContentList, tuple[FolderFile, ...]]:
    """The content list that says the same as a plain folder of archives: each item at the newest release that is there,
    and may be left out where it does not fit what the others agree on; with it, what became of each file. Raises
    InputError when no archive is known."""
    games = host.games(folder)
    rules = [games.get(name) for name in ([game] if game else games.files())]
    chosen, taken, files = sort_files(host, folder.absolute(), rules, reporter)
    by_id = sorted((one.known.facts.id, one) for one in taken)
    name = "".join(c if c.isascii() and c.isalnum() else "-" for c in folder.absolute().name.lower()).strip("-")
    wanted = ContentList(
        format="rhizon-list/1",
        name=name or "folder",
        title=printable(folder.absolute().name, 80),
        game=chosen.id,
        archives=tuple(str(one.file) for _, one in by_id),
        content={
            ident: Wish(range=parse_range(f"={one.known.facts.version}"), channel="draft", optional=True)
            for ident, one in by_id
        },
    )
    return wanted, tuple(files)
