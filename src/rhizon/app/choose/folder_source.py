"""Archives that no catalog need know: those that a list names, and a plain folder of archives as a source."""

from collections.abc import Sequence
from pathlib import Path

from rhizon.adapters.catalogs import LOCAL, LocalTransport
from rhizon.app.archives.as_items import described, item_documents, items_of, shelved
from rhizon.app.archives.scan import ENDINGS, archive_files, judge_set, left_unread, scan_files, scan_together
from rhizon.app.host import Host
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError
from rhizon.core.finding import Finding
from rhizon.core.model.catalog import CatalogRoot, GameShelf, HostFiles
from rhizon.core.model.contentlist import ContentList, Wish
from rhizon.core.model.decode import encode_json
from rhizon.core.model.game import GameDefinition
from rhizon.core.names import RelPath, UnsafeNameError, printable, safe_path
from rhizon.core.version import Version, parse_range

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


def list_of_folder(host: Host, folder: Path, game: str | None, reporter: Reporter) -> ContentList:
    """The content list that says the same as a plain folder of archives: each item at the release that is there, and
    may be left out where it does not fit what the others agree on. Raises InputError when no archive is known."""
    games = host.games(folder)
    rules = [games.get(name) for name in ([game] if game else games.files())]
    files = archive_files(folder)
    scanned = scan_files(host, files, rules, reporter)
    counts: dict[str, int] = {}
    newest: dict[str, dict[str, Version]] = {}
    for file, one in zip(files, scanned, strict=True):
        item, _ = described(file, one, rules)
        if item is None:
            continue
        counts[item.game] = counts.get(item.game, 0) + 1
        facts, taken = item.facts, newest.setdefault(item.game, {})
        if facts.id not in taken or taken[facts.id] < facts.version:
            taken[facts.id] = facts.version
    if not counts:
        known = f"of {rules[0].title}" if game else "of a known game"
        raise InputError(
            "no-archives",
            f"{folder} contains no archive {known}" + ("" if files else f" ({', '.join(ENDINGS)})"),
            hint="A source is a content list, a pack, a lock or a folder of archives.",
        )
    chosen = max(sorted(counts), key=counts.__getitem__)
    name = "".join(c if c.isascii() and c.isalnum() else "-" for c in folder.absolute().name.lower()).strip("-")
    return ContentList(
        format="rhizon-list/1",
        name=name or "folder",
        title=printable(folder.absolute().name, 80),
        game=chosen,
        archives=(str(folder.absolute()),),
        channel="draft",
        content={
            ident: Wish(range=parse_range(f"={version}"), optional=True)
            for ident, version in sorted(newest[chosen].items())
        },
    )
