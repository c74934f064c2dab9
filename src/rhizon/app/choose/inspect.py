"""What is in a file: a list, a pack, a lock, a game definition or content archives."""

import contextlib
from collections.abc import Sequence
from pathlib import Path
from typing import Any, Literal

import msgspec

from rhizon.adapters.files import hash_file
from rhizon.adapters.games import ENDING, read_game
from rhizon.app.archives.as_items import described
from rhizon.app.archives.scan import (
    ENDINGS,
    ScannedFile,
    archive_files,
    classes_of,
    every_class_of,
    judge_set,
    left_unread,
    scan_files,
    scan_together,
)
from rhizon.app.choose.kit_file import is_kit, read_kit
from rhizon.app.choose.sources import PACK_ENDING, is_pack, pack_root, read_pack, read_source
from rhizon.app.host import Host
from rhizon.app.reporter import Reporter
from rhizon.core.archives.class_path import ClassPath
from rhizon.core.archives.class_store import ClassStore
from rhizon.core.archives.deep import EveryClass
from rhizon.core.errors import DocumentError, InputError, RhizonError
from rhizon.core.finding import SEVERITIES, Finding, worst_first
from rhizon.core.model.catalog import CATALOG_FILE, SHELF_FILE
from rhizon.core.model.contentlist import ContentList, SecretSource
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.kit import KitManifest
from rhizon.core.model.lock import Lock
from rhizon.core.model.pack import PACK_ARCHIVES, Pack
from rhizon.core.names import printable
from rhizon.core.secret import HIDDEN

__all__ = ["InspectResult", "Inspection", "inspect"]

Kind = Literal["content list", "pack", "lock", "kit", "game definition", "archive"]


class Inspection(msgspec.Struct, frozen=True, kw_only=True):
    """One file. Exactly one of the documents is there for its kind; ``files`` counts what a pack holds; ``every_class``
    of a Java archive, where that was asked for."""

    path: str
    kind: Kind
    sha256: str | None = None
    size: int | None = None
    files: int | None = None
    trees: dict[str, int] | None = None
    content_list: ContentList | None = None
    pack: Pack | None = None
    lock: Lock | None = None
    kit: KitManifest | None = None
    game: GameDefinition | None = None
    archive: ScannedFile | None = None
    every_class: EveryClass | None = None
    findings: tuple[Finding, ...] = ()


class InspectResult(msgspec.Struct, frozen=True, kw_only=True):
    """Each file, and each archive of a folder that is not a pack, worst first; then all findings, worst first.
    ``is_shelf``: the archives are a catalog's, where several releases of one item are not a mistake; ``holders``: the
    files that have a class that was asked for, by its name with dots."""

    inspected: tuple[Inspection, ...]
    is_shelf: bool
    holders: dict[str, tuple[str, ...]] = {}
    findings: tuple[Finding, ...]


def inspect(
    host: Host,
    paths: Sequence[Path],
    game: str | None,
    reporter: Reporter,
    *,
    deep: bool = False,
    find_classes: Sequence[str] = (),
) -> InspectResult:
    """What each file is. Archives are also judged together, unless they are a catalog's.

    With ``game`` archives are read under that definition only; with ``deep`` every class of them is looked at by
    itself; ``find_classes`` (with dots) are looked for in all of them. Raises InputError, DocumentError, TrustError.
    """
    archives: list[Path] = []
    others: list[Inspection] = []
    unread: list[Finding] = []
    for path in paths:
        if not path.exists():
            raise InputError("no-such-file", f"there is nothing at {path}", hint="Check the path.")
        if path.is_dir() and pack_root(path) is None:
            found = archive_files(path)
            if not found:
                raise InputError(
                    "no-archives",
                    f"{path} contains no archives ({', '.join(ENDINGS)}) and is not a pack",
                    hint="Name the folder that contains them.",
                )
            archives += found
            unread += left_unread(path)
        elif path.is_file() and _is_archive(path) and not is_pack(path) and not is_kit(path):
            archives.append(path)
        else:
            others.append(_without_secrets(host, _document(path)))
    games = host.games(paths[0] if paths[0].is_dir() else paths[0].parent)
    rules = [games.get(name) for name in ([game] if game else games.files())]
    scanned = scan_files(host, archives, rules, reporter) if archives else []
    shelf = any(_is_shelf(path) for path in paths)
    if len(scanned) > 1 and not shelf:
        scanned = judge_set(host, scanned, rules)
    scanned = [_as_described(one, rules) for one in scanned]
    seen = [_looked_into(one, rules) if deep else _inspection(one) for one in scanned]
    seen.sort(key=lambda one: (min((SEVERITIES.index(f.severity) for f in one.findings), default=9), one.path))
    together = scan_together(scanned, rules) if len(scanned) > 1 and not shelf else []
    inspected = (*others, *seen)
    holders = {name: _holders(name, scanned) for name in find_classes}
    findings = [*(one for file in inspected for one in file.findings), *unread, *together]
    return InspectResult(inspected=inspected, is_shelf=shelf, holders=holders, findings=tuple(worst_first(findings)))


def _holders(class_name: str, files: Sequence[ScannedFile]) -> tuple[str, ...]:
    """The files that have a class, in themselves or in an archive inside."""
    archives = {one.path: one.archive for one in files if one.archive is not None}
    path = ClassPath(archives, ClassStore(lambda name: classes_of(Path(name))))
    return tuple(path.holders(class_name.replace(".", "/")))


def _looked_into(one: ScannedFile, rules: Sequence[GameDefinition]) -> Inspection:
    """An archive with all of its classes, or with a finding where they take too long."""
    found = every_class_of(one, rules)
    if found is None and one.archive is not None and one.archive.code.classes:
        unfinished = Finding(
            code="deep-unfinished",
            severity="note",
            subject=Path(one.path).name,
            what="looking at every class takes too long for an archive of its size",
            remedy="Inspect it without --deep.",
        )
        one = msgspec.structs.replace(one, findings=(*one.findings, unfinished))
    return msgspec.structs.replace(_inspection(one), every_class=found)


def _inspection(one: ScannedFile) -> Inspection:
    if one.archive is not None:  # what only comparing archives needs is no answer
        code = msgspec.structs.replace(one.archive.code, names=b"", packages=b"", places=b"", uses={}, client_in=b"")
        one = msgspec.structs.replace(one, archive=msgspec.structs.replace(one.archive, code=code))
    return Inspection(
        path=one.path,
        kind="archive",
        sha256=one.sha256,
        size=one.size,
        archive=one,
        findings=one.findings,
    )


def _as_described(one: ScannedFile, rules: Sequence[GameDefinition]) -> ScannedFile:
    """The file with what a facts file beside it says; one that is wrong is a finding."""
    try:
        known, findings = described(Path(one.path), one, rules)
    except DocumentError as wrong:
        what = printable(str(wrong), 300)
        findings = [
            Finding(code=wrong.code, severity="error", subject=Path(one.path).name, what=what, remedy=wrong.hint)
        ]
        return msgspec.structs.replace(one, findings=(*one.findings, *findings))
    if known is None:
        return one
    return msgspec.structs.replace(one, archive=known.scanned, findings=tuple(findings))


def _is_shelf(path: Path) -> bool:
    """Whether a folder is a catalog or in one: a shelf of releases to choose from, and no set to load together."""
    if not path.is_dir():
        return False
    here = path.absolute()
    return any((folder / name).is_file() for folder in (here, here.parent) for name in (CATALOG_FILE, SHELF_FILE))


# Names that hold a secret in most games; used where the game's definition is not known here.
_SECRET_WORDS = ("password", "passphrase", "secret", "token")


def _without_secrets(host: Host, one: Inspection) -> Inspection:
    """What is shown of a list, pack or lock, with a finding for each secret whose value it holds."""
    document = one.content_list or one.pack or one.lock
    if document is None or not document.settings:
        return one
    game_id = document.target.game if isinstance(document, Lock) else document.game
    secret: set[str] = set()
    with contextlib.suppress(RhizonError):
        settings = host.games(Path(one.path).parent).get(game_id).settings
        secret = {name for name, known in settings.items() if known.secret}
    held = [
        name
        for name, value in document.settings.items()
        if value
        and not isinstance(value, SecretSource)
        and (name in secret or any(word in name.lower() for word in _SECRET_WORDS))
    ]
    if not held:
        return one
    shown = {name: HIDDEN if name in held else value for name, value in document.settings.items()}
    hidden = msgspec.structs.replace(document, settings=shown)
    findings = tuple(
        Finding(
            code="secret-in-list",
            severity="error",
            subject=name,
            what="its value is in the document, readable by everybody who has it",
            remedy='Say where it comes from instead: { file = "PATH" }, { generate = true } or { ask = true }',
        )
        for name in held
    )
    field = "content_list" if one.content_list else "pack" if one.pack else "lock"
    return msgspec.structs.replace(one, **{field: hidden}, findings=(*one.findings, *findings))


def _is_archive(path: Path) -> bool:
    if path.suffix.lower() in ENDINGS:
        return True
    with path.open("rb") as file:
        return file.read(2) == b"PK" and path.suffix != PACK_ENDING


def _document(path: Path) -> Inspection:
    if path.is_dir() or path.suffix == PACK_ENDING or is_pack(path):
        return _pack(path)
    if path.name.endswith(ENDING):
        return Inspection(path=str(path), kind="game definition", game=read_game(path), **_identity(path))
    if is_kit(path):
        kit, kit_files = read_kit(path)
        return Inspection(path=str(path), kind="kit", kit=kit, files=len(kit_files), **_identity(path))
    document = read_source(path).document
    if isinstance(document, Lock):
        return Inspection(path=str(path), kind="lock", lock=document, **_identity(path))
    assert isinstance(document, ContentList)
    return Inspection(path=str(path), kind="content list", content_list=document, **_identity(path))


def _identity(path: Path) -> dict[str, Any]:
    sha256, size = hash_file(path)
    return {"sha256": sha256, "size": size}


def _pack(path: Path) -> Inspection:
    pack, files = read_pack(path)
    trees: dict[str, int] = {}
    for name in files:
        head, below = name.split("/")[:2]
        tree = head if head == PACK_ARCHIVES else below
        trees[tree] = trees.get(tree, 0) + 1
    identity = _identity(path) if path.is_file() else {}
    return Inspection(path=str(path), kind="pack", pack=pack, files=len(files), trees=trees, **identity)
