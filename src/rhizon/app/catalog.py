"""Make a catalog from a folder of archives."""

import hashlib
from collections.abc import Iterable
from pathlib import Path

import msgspec

from rhizon.adapters.files import hash_file, read_bytes, translated, write_atomic
from rhizon.adapters.games import Games
from rhizon.app.context import Host
from rhizon.core.archives.entries import Archive
from rhizon.core.archives.facts import ArchiveFacts, read_facts
from rhizon.core.errors import DocumentError, InputError, TrustError
from rhizon.core.finding import Finding, worst_first
from rhizon.core.model.catalog import (
    Artefact,
    BuildFacts,
    CatalogRoot,
    GameShelf,
    HostFiles,
    Item,
    ItemIndex,
    ItemLine,
    LoaderBuild,
    Release,
    ReleaseFacts,
    ServerFiles,
    Shelf,
)
from rhizon.core.model.contentlist import CHANNELS, Channel
from rhizon.core.model.decode import encode_json
from rhizon.core.model.documents import decode
from rhizon.core.model.game import GameDefinition
from rhizon.core.names import RelPath, UnsafeNameError, plain, safe_path
from rhizon.core.version import Version

__all__ = ["Built", "build_catalog"]

SHELF = "shelf.toml"
FACTS_ENDING = ".facts.toml"
ARCHIVE_ENDINGS = (".jar", ".zip")


class Built(msgspec.Struct, frozen=True, kw_only=True):
    """What the catalog holds, which documents were written, and what was wrong with the archives."""

    folder: str
    name: str
    items: int
    releases: int
    builds: int
    servers: int
    written: tuple[str, ...]
    findings: tuple[Finding, ...]


class _Found(msgspec.Struct, frozen=True, kw_only=True):
    game: str
    facts: ArchiveFacts
    said: ReleaseFacts
    artefact: Artefact


def build_catalog(host: Host, folder: Path, *, write: bool = True) -> Built:
    """Reads ``shelf.toml`` (optional), every archive and the facts files beside them; writes the documents.

    An archive that cannot be used is a finding and is left out. Documents that would not change are not
    written; with ``write`` False none is, and ``written`` names those that would be. Raises InputError, DocumentError.
    """
    if not folder.is_dir():
        raise InputError("no-such-folder", f"there is no folder {folder}", hint="Name the folder of your archives.")
    shelf = _shelf(folder)
    games = host.games(folder)
    findings: list[Finding] = []
    found = _read_archives(folder, shelf, games, findings)
    documents = _documents(folder, shelf, found, findings)
    written = _write(folder, documents, write=write)
    return Built(
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
    file = folder / SHELF
    if file.is_file():
        return decode(Shelf, read_bytes(file, "shelf", 8 << 20), str(file))
    name = "".join(c if c.isascii() and c.isalnum() else "-" for c in folder.absolute().name.lower()).strip("-")
    own = folder / "archives"
    return Shelf(format="rhizon-shelf/1", name=name or "shelf", archives=RelPath("archives" if own.is_dir() else "."))


def _read_archives(folder: Path, shelf: Shelf, games: Games, findings: list[Finding]) -> list[_Found]:
    definitions = [games.get(name) for name in games.files()]
    root = folder / shelf.archives
    found = []
    for file in sorted(root.iterdir()) if root.is_dir() else ():
        if file.suffix not in ARCHIVE_ENDINGS or not file.is_file():
            continue
        try:
            path = safe_path(file.relative_to(folder).as_posix())
            archive = Archive(read_bytes(file, "archive"), path)
            one = _read_one(file, path, archive, definitions, findings)
        except (TrustError, DocumentError, UnsafeNameError) as wrong:
            code = getattr(wrong, "code", "unsafe-name")
            findings.append(
                Finding(
                    code=code,
                    severity="error",
                    subject=plain(file.name, 120),
                    what=plain(str(wrong), 300),
                    remedy=getattr(wrong, "hint", "Rename the file."),
                )
            )
            continue
        if one is not None:
            found.append(one)
    return found


def _read_one(
    file: Path, path: RelPath, archive: Archive, definitions: list[GameDefinition], findings: list[Finding]
) -> _Found | None:
    beside = file.with_name(file.name + FACTS_ENDING)
    said = ReleaseFacts(format="rhizon-facts/1")
    if beside.is_file():
        said = decode(ReleaseFacts, read_bytes(beside, "facts file", 1 << 20), str(beside))
    worst: list[Finding] = []
    for game in definitions:
        facts, wrong = read_facts(archive, game)
        if facts is not None:
            findings.extend(wrong)
            sha256, size = hash_file(file)
            return _Found(game=game.id, facts=facts, said=said, artefact=Artefact(path=path, sha256=sha256, size=size))
        if not worst or any(one.code != "metadata-missing" for one in wrong):
            worst = wrong
    findings.extend(worst)
    return None


def _channel(version: Version) -> Channel:
    """What the version's own pre-release word says; a person's facts file says better."""
    if not version.pre:
        return "stable"
    word = version.text.lower()
    return next((channel for channel in CHANNELS if channel != "stable" and channel in word), "preview")


def _release(one: _Found) -> Release:
    facts, said = one.facts, one.said
    return Release(
        version=facts.version,
        channel=said.channel or _channel(facts.version),
        yanked=said.yanked or "",
        placement=said.placement or facts.placement,
        game_versions=said.game_versions or facts.game_versions,
        loaders=said.loaders if said.loaders is not None else facts.loaders,
        runtime=said.runtime or facts.runtime,
        requires=said.requires if said.requires is not None else facts.requires,
        optional=said.optional if said.optional is not None else facts.optional,
        conflicts=said.conflicts if said.conflicts is not None else facts.conflicts,
        provides=said.provides or (),
        ports=said.ports or (),
        memory_mib=said.memory_mib,
        artefact=one.artefact,
    )


def _documents(folder: Path, shelf: Shelf, found: list[_Found], findings: list[Finding]) -> dict[str, bytes]:
    """Every document of the catalog by its path."""
    games = sorted(
        {one.game for one in found} | {one.game for one in shelf.server} | {one.game for one in shelf.loader}
    )
    documents = {}
    for game in games:
        items = _items(game, [one for one in found if one.game == game], findings)
        for item in items:
            documents[f"{game}/items/{item.id}.json"] = encode_json(item)
        index = ItemIndex(
            format="rhizon-index/1",
            items={
                one.id: ItemLine(
                    title=one.title,
                    kind=one.kind,
                    provides=tuple(sorted({given.id for release in one.releases for given in release.provides})),
                    sha256=hashlib.sha256(documents[f"{game}/items/{one.id}.json"]).hexdigest(),
                )
                for one in items
            },
        )
        documents[f"{game}/items.json"] = encode_json(index)
        documents[f"{game}/host.json"] = encode_json(_host_files(folder, shelf, game))
    root = CatalogRoot(
        format="rhizon-catalog/1",
        name=shelf.name,
        title=shelf.title,
        games={
            game: GameShelf(
                index=RelPath(f"{game}/items.json"), items=RelPath(f"{game}/items"), host=RelPath(f"{game}/host.json")
            )
            for game in games
        },
    )
    documents["catalog.json"] = encode_json(root)
    return documents


def _items(game: str, found: Iterable[_Found], findings: list[Finding]) -> list[Item]:
    by_id: dict[str, list[_Found]] = {}
    for one in found:
        by_id.setdefault(one.facts.id, []).append(one)
    items = []
    for name, group in sorted(by_id.items()):
        releases: dict[Version, _Found] = {}
        for one in group:
            twin = releases.setdefault(one.facts.version, one)
            if twin is not one:
                findings.append(
                    Finding(
                        code="duplicate-release",
                        severity="error",
                        subject=f"{name} {one.facts.version}",
                        what=f"two archives are this release: {twin.artefact.path} (taken) and {one.artefact.path}",
                        remedy="Delete one of them, or ask the author for a version of its own.",
                    )
                )
        newest = releases[max(releases)]
        items.append(
            Item(
                format="rhizon-item/1",
                id=name,
                game=game,
                kind=newest.said.kind or newest.facts.kind,
                title=newest.said.title or newest.facts.title,
                releases=tuple(_release(releases[version]) for version in sorted(releases, reverse=True)),
            )
        )
    return items


def _host_files(folder: Path, shelf: Shelf, game: str) -> HostFiles:
    return HostFiles(
        format="rhizon-host-files/1",
        server=tuple(
            ServerFiles(version=one.version, artefact=_artefact(folder, one.file))
            for one in shelf.server
            if one.game == game
        ),
        loaders=tuple(
            LoaderBuild(
                artefact=_artefact(folder, one.file),
                **{name: getattr(one, name) for name in BuildFacts.__struct_fields__},
            )
            for one in shelf.loader
            if one.game == game
        ),
    )


def _artefact(folder: Path, path: RelPath) -> Artefact:
    if not (folder / path).is_file():
        raise InputError(
            "no-such-file", f"{SHELF} names {path}, which is not in {folder}", hint="Put it there or correct the line."
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
