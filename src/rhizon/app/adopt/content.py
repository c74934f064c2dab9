"""The content of a server that was made by hand: by hash in the catalogs, by its metadata otherwise, or unknown."""

import hashlib
import io
import zipfile
from pathlib import Path
from typing import NamedTuple

import msgspec

from rhizon.adapters.catalogs import Catalogs
from rhizon.adapters.files import read_bytes
from rhizon.adapters.store import Store
from rhizon.app.archives.scan import archive_files, scan_files
from rhizon.app.host import Host
from rhizon.core.archives.entries import Archive
from rhizon.core.archives.facts import ArchiveFacts, read_facts
from rhizon.core.errors import RhizonError
from rhizon.core.model.catalog import Item, Release
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.lock import LockedFile, LockedRelease
from rhizon.core.names import RelPath, safe_path

__all__ = ["LOCAL", "Piece", "find_content"]

LOCAL = "adopted"  # the name under which a lock tells of what no catalog has
LARGEST = 1 << 30


class Piece(NamedTuple):
    """A piece of content: where it is, the release that it is (None: unknown), and how that is known."""

    path: str
    release: LockedRelease | None
    how: str


def find_content(host: Host, game: GameDefinition, loader: str, folder: Path, catalogs: Catalogs | None) -> list[Piece]:
    """Every archive, or where such are unpacked every folder, in the content folders."""
    found: list[Piece] = []
    kinds = {name: kind for kind, name in reversed(game.folders.items())}
    for name, kind in sorted(kinds.items()):
        place = folder / name
        if not place.is_dir() or place.is_symlink():
            continue
        rule = game.placing.get(kind)
        if rule is not None and rule.unpack:
            found += [
                _folder(host.store, game, loader, one, RelPath(f"{name}/{one.name}"))
                for one in sorted(place.iterdir())
                if one.is_dir() and not one.is_symlink() and not rule.flat
            ]
            continue
        for scanned in scan_files(host, archive_files(place), [game]):
            path = RelPath(Path(scanned.path).relative_to(folder).as_posix())
            facts = scanned.archive.facts if scanned.archive is not None else None
            if facts is None:
                found.append(Piece(path, None, "it does not say what it is"))
                continue
            known = _in_catalog(game, facts, scanned.sha256, catalogs)
            if known is None:
                host.store.add(read_bytes(folder / path, "archive", LARGEST))
            found.append(Piece(path, _release(facts, path, scanned.sha256, scanned.size, known), _how(known)))
    return found


class _Known(NamedTuple):
    """What a catalog has of these very bytes."""

    catalog: str
    item: Item
    release: Release


def _how(known: _Known | None) -> str:
    return f"the catalog {known.catalog} has it" if known is not None else "by what it says of itself"


def _in_catalog(game: GameDefinition, facts: ArchiveFacts, sha256: str, catalogs: Catalogs | None) -> _Known | None:
    """Where a catalog has these very bytes."""
    if catalogs is None:
        return None
    try:
        found = catalogs.item(game.id, facts.id)
    except RhizonError:
        return None
    for release in found[1].releases if found is not None else ():
        if release.artefact.sha256 == sha256 and found is not None:
            return _Known(found[0], found[1], release)
    return None


def _release(facts: ArchiveFacts, path: RelPath, sha256: str, size: int, known: _Known | None) -> LockedRelease:
    """The release of a file; what a catalog knows of it is more than what it says itself."""
    made = LockedRelease(
        id=facts.id,
        version=facts.version,
        kind=facts.kind,
        title=facts.title,
        placement=facts.placement,
        on_server=True,
        for_players=facts.placement in ("shared", "any"),
        because=("list",),
        after=tuple(sorted(one.id for one in facts.optional)),
        runtime=facts.runtime,
        file=LockedFile(catalog=LOCAL, path=path, sha256=sha256, size=size),
    )
    if known is None:
        return made
    catalog, item, release = known
    artefact = release.artefact
    return msgspec.structs.replace(
        made,
        version=release.version,
        title=item.title,
        placement=release.placement,
        for_players=release.placement in ("shared", "any"),
        ports=release.ports,
        settings=release.settings,
        memory_mib=release.memory_mib,
        summary=item.summary,
        hand_on=release.hand_on,
        page=release.page,
        file=LockedFile(catalog=catalog, path=artefact.path, sha256=artefact.sha256, size=artefact.size),
    )


def _folder(store: Store, game: GameDefinition, loader: str, folder: Path, path: RelPath) -> Piece:
    """Unpacked content: an archive of the same files is made of it, for the store alone."""
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_STORED) as made:
        for file in sorted(folder.rglob("*")):
            if file.is_file() and not file.is_symlink():
                facts = zipfile.ZipInfo(file.relative_to(folder).as_posix())
                facts.external_attr = (0o755 if file.stat().st_mode & 0o100 else 0o644) << 16
                made.writestr(facts, file.read_bytes())
    data = packed.getvalue()
    try:
        said, _ = read_facts(Archive(data, f"{path}.zip"), game)
    except RhizonError:
        said = None
    if said is None or loader not in said.loaders:
        return Piece(path, None, "it does not say what it is")
    sha256 = store.add(data)
    archive = safe_path(f"{path}.zip")
    assert sha256 == hashlib.sha256(data).hexdigest()
    release = _release(said, archive, sha256, len(data), None)
    return Piece(path, release, "by what it says of itself")
