"""What is in a file: a list, a pack, a lock, a game definition or a content archive."""

from pathlib import Path
from typing import Any, Literal

import msgspec

from rhizon.adapters.files import hash_file, read_bytes
from rhizon.adapters.games import ENDING, read_game
from rhizon.app.context import Host
from rhizon.app.sources import PACK_ENDING, read_pack, read_source
from rhizon.core.archives.entries import Archive
from rhizon.core.archives.facts import ArchiveFacts, read_facts
from rhizon.core.errors import InputError
from rhizon.core.finding import Finding
from rhizon.core.model.contentlist import ContentList
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.lock import Lock
from rhizon.core.model.pack import PACK_FILE, Pack

__all__ = ["Inspected", "inspect"]

Kind = Literal["content list", "pack", "lock", "game definition", "archive"]


class Inspected(msgspec.Struct, frozen=True, kw_only=True):
    """One file. Exactly one of the documents is there for its kind; ``files`` counts what a pack or archive holds."""

    path: str
    kind: Kind
    sha256: str | None = None
    size: int | None = None
    files: int | None = None
    trees: dict[str, int] | None = None
    content_list: ContentList | None = None
    pack: Pack | None = None
    lock: Lock | None = None
    game: GameDefinition | None = None
    archive: ArchiveFacts | None = None
    archive_game: str | None = None
    findings: tuple[Finding, ...] = ()


def inspect(host: Host, path: Path) -> Inspected:
    """Raises InputError, DocumentError, TrustError."""
    if not path.exists():
        raise InputError("no-such-file", f"there is nothing at {path}", hint="Check the path.")
    if path.is_dir() and not (path / PACK_FILE).is_file():
        raise InputError(
            "not-a-pack", f"{path} is a folder and no pack: it has no {PACK_FILE}", hint="Name the files in it."
        )
    if path.is_dir() or path.suffix == PACK_ENDING:
        return _pack(path)
    if path.name.endswith(ENDING):
        return Inspected(path=str(path), kind="game definition", game=read_game(path), **_identity(path))
    with path.open("rb") as file:
        head = file.read(4)
    if head[:2] == b"PK" or path.suffix in (".jar", ".zip"):
        return _archive(host, path)
    document = read_source(path).document
    if isinstance(document, Lock):
        return Inspected(path=str(path), kind="lock", lock=document, **_identity(path))
    assert isinstance(document, ContentList)
    return Inspected(path=str(path), kind="content list", content_list=document, **_identity(path))


def _identity(path: Path) -> dict[str, Any]:
    sha256, size = hash_file(path)
    return {"sha256": sha256, "size": size}


def _pack(path: Path) -> Inspected:
    pack, files = read_pack(path)
    trees: dict[str, int] = {}
    for name in files:
        tree = name.split("/")[1]
        trees[tree] = trees.get(tree, 0) + 1
    identity = _identity(path) if path.is_file() else {}
    return Inspected(path=str(path), kind="pack", pack=pack, files=len(files), trees=trees, **identity)


def _archive(host: Host, path: Path) -> Inspected:
    archive = Archive(read_bytes(path, "archive"), path.name)
    best: tuple[ArchiveFacts | None, str | None, list[Finding]] = (None, None, [])
    games = host.games(path.parent)
    for name in games.files():
        game = games.get(name)
        facts, findings = read_facts(archive, game)
        if facts is not None:
            best = (facts, game.id, findings)
            break
        if not best[2] or any(one.code != "metadata-missing" for one in findings):
            best = (None, None, findings)
    facts, game_id, findings = best
    return Inspected(
        path=str(path),
        kind="archive",
        files=len(archive.names()),
        archive=facts,
        archive_game=game_id,
        findings=tuple(findings),
        **_identity(path),
    )
