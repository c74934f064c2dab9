"""From a lock to what its players need."""

from collections.abc import Iterable, Mapping, Sequence

import msgspec

from rhizon.core.content_paths import place_inside, place_of, unpacked
from rhizon.core.kit.judge import stem
from rhizon.core.model.catalog import Item, Release
from rhizon.core.model.contentlist import ContentList, TargetWish, Wish
from rhizon.core.model.game import OWN_LOADER, GameDefinition
from rhizon.core.model.kit import KitClash, KitFile, KitLoader, KitManifest, KitOther, KitPiece
from rhizon.core.model.lock import LaidFile, Lock, LockedRelease
from rhizon.core.names import RelPath
from rhizon.core.version import Version, VersionRange, parse_range

__all__ = ["KitFacts", "changed_pieces", "is_strict", "kit_list", "make_manifest", "players_view"]


class KitFacts(msgspec.Struct, frozen=True, kw_only=True):
    """What a kit is made from beside the lock. ``inner`` are the files of what is unpacked, by the id of the content
    and their paths in it; ``loader`` those of the loader build for players; ``items`` what the catalogs say of the
    content and of what clashes with it; ``settings`` are the server's."""

    server: str
    description: str = ""
    contact: str = ""
    host: str = ""
    port: int | None = None
    inner: Mapping[str, tuple[KitFile, ...]] = {}
    loader: tuple[KitFile, ...] = ()
    items: Mapping[str, Item] = {}
    settings: Mapping[str, str | int | bool] = {}


def is_strict(game: GameDefinition, settings: Mapping[str, str | int | bool]) -> bool:
    """Whether the server lets in no content that it does not have itself."""
    tests = game.player.strict
    values = {name: settings.get(name, game.settings[name].default) for name in tests if name in game.settings}
    return bool(tests) and all(name in values and test.holds(values[name]) for name, test in tests.items())


def players_view(game: GameDefinition) -> GameDefinition:
    """The definition with the folders of the players' side in place of the server's."""
    return msgspec.structs.replace(game, folders={**game.folders, **game.player.content})


def make_manifest(game: GameDefinition, lock: Lock, facts: KitFacts) -> KitManifest:
    """Raises :class:`~rhizon.core.errors.StateError` for content of a kind that the game has no folder for."""
    player, view = game.player, players_view(game)
    strict = is_strict(game, facts.settings)
    releases = tuple(one for one in lock.for_players() if not (strict and one.placement == "player"))
    words = {"{host}": facts.host, "{port}": str(facts.port or "")}
    join = _filled(player.join, words) if facts.host else ""
    pieces = tuple(_piece(view, lock, one, facts.inner.get(one.id, ())) for one in releases)
    clashes = tuple(_clashes(releases, facts.items))
    protocol, also_game = player.same_protocol(lock.target.game_version)
    return KitManifest(
        format="rhizon-kit/1",
        server=facts.server,
        title=lock.title or facts.server,
        description=facts.description,
        contact=facts.contact,
        game=game.id,
        game_title=game.title,
        game_version=lock.target.game_version,
        protocol=protocol,
        also_game=also_game,
        folders=player.folders,
        port=facts.port,
        join=join,
        steps=tuple(_filled(one, {**words, "{join}": join}) for one in player.steps) if join else (),
        loader=_loader(game, lock, facts.loader),
        pieces=pieces,
        overlay=tuple(_laid(one) for one in lock.player_overlay),
        content=tuple(sorted({RelPath(one.place.rpartition("/")[0]) for one in pieces} | set(view.folders.values()))),
        others=tuple(_others(releases, clashes, facts.items)),
        clashes=clashes,
        loader_mark=player.loader if lock.target.loader != OWN_LOADER else None,
        game_mark=player.game,
        versions=player.versions,
        log=player.log,
        strict=strict,
    )


def _filled(text: str, words: Mapping[str, str]) -> str:
    for word, value in words.items():
        text = text.replace(word, value)
    return text


def _laid(one: LaidFile) -> KitFile:
    return KitFile(path=one.path, sha256=one.sha256, size=one.size)


def _loader(game: GameDefinition, lock: Lock, files: tuple[KitFile, ...]) -> KitLoader | None:
    target = lock.target
    if target.loader == OWN_LOADER:
        return None
    loader = game.loaders[target.loader]
    how = "" if files else loader.for_players or f"Install {loader.title} {target.loader_build} yourself."
    return KitLoader(id=target.loader, title=loader.title, build=target.loader_build, files=files, how=how)


def _piece(view: GameDefinition, lock: Lock, release: LockedRelease, inner: Sequence[KitFile]) -> KitPiece:
    place, folder = place_of(view, lock, release), unpacked(view, release)
    archive = KitFile(
        path=RelPath(release.file.path.rpartition("/")[2]), sha256=release.file.sha256, size=release.file.size
    )
    files = [KitFile(path=place, sha256=archive.sha256, size=archive.size)]
    if folder:
        placed = [(place_inside(view, lock, release, one.path), one) for one in inner]
        files = [
            KitFile(path=to.path, sha256=one.sha256, size=one.size)
            for to, one in placed
            if to is not None and to.use == "content"  # patches and settings are of the server's side
        ]
    return KitPiece(
        id=release.id,
        version=release.version,
        title=release.title,
        summary=release.summary,
        kind=release.kind,
        optional=release.placement in ("player", "any"),
        client_only=release.placement == "player",
        folder=folder,
        place=place,
        files=tuple(files),
        packed=release.hand_on,
        page=release.page,
        archive=None if release.hand_on else archive,
    )


def _clashes(releases: Sequence[LockedRelease], items: Mapping[str, Item]) -> Iterable[KitClash]:
    """What cannot be beside the releases, whichever of the two says so, as far as the catalogs know it."""
    here = {one.id: one for one in releases}
    for release in releases:
        item = items.get(release.id)
        mine = next((one for one in item.releases if one.version == release.version), None) if item else None
        said = {clash.id: clash.range for clash in (mine.conflicts if mine is not None else ())}
        for other in (items[name] for name in sorted(items) if name not in here):
            within = [one for one in other.releases if _clash(release, one, said.get(other.id))]
            if within:
                yield KitClash(
                    id=other.id,
                    title=other.title,
                    beside=release.id,
                    versions=tuple(one.version for one in within),
                    names=tuple(sorted({stem(one.artefact.path) for one in within})),
                )


def _clash(mine: LockedRelease, other: Release, said: VersionRange | None) -> bool:
    if said is not None and said.admits(other.version):
        return True
    return any(one.id == mine.id and one.range.admits(mine.version) for one in other.conflicts)


def _others(
    releases: Sequence[LockedRelease], clashes: Sequence[KitClash], items: Mapping[str, Item]
) -> Iterable[KitOther]:
    """The archives of other releases, by their hashes: the same bytes as one of the kit's are none."""
    own = {one.file.sha256 for one in releases}
    for name in sorted({one.id for one in releases} | {one.id for one in clashes}):
        for release in items[name].releases if name in items else ():
            if release.artefact.sha256 not in own:
                own.add(release.artefact.sha256)
                artefact = release.artefact
                yield KitOther(id=name, version=release.version, sha256=artefact.sha256, size=artefact.size)


def changed_pieces(before: KitManifest | None, now: KitManifest) -> tuple[KitManifest, tuple[RelPath, ...]]:
    """The manifest with only what differs from an earlier one, and the files to delete, in order. Without an earlier
    one: all of it, and nothing."""
    if before is None:
        return now, ()
    was = {file.path: file.sha256 for file in _files(before)}
    same = {path for path, sha256 in was.items()}
    pieces = tuple(one for one in now.pieces if any(was.get(file.path) != file.sha256 for file in one.files))
    overlay = tuple(one for one in now.overlay if was.get(one.path) != one.sha256)
    loader = now.loader
    if loader is not None and all(was.get(file.path) == file.sha256 for file in loader.files):
        unchanged = before.loader is not None and (before.loader.id, before.loader.build) == (loader.id, loader.build)
        loader = None if unchanged else loader
    gone = sorted(same - {file.path for file in _files(now)})
    return msgspec.structs.replace(now, pieces=pieces, overlay=overlay, loader=loader), tuple(gone)


def _files(manifest: KitManifest) -> Iterable[KitFile]:
    for piece in manifest.pieces:
        yield from piece.files
    yield from manifest.loader.files if manifest.loader is not None else ()
    yield from manifest.overlay


def kit_list(manifest: KitManifest) -> ContentList:
    """A content list that says the same: the same target, and each release exactly."""

    def exactly(version: Version) -> VersionRange:
        return parse_range(version.text)

    loader = manifest.loader
    return ContentList(
        format="rhizon-list/1",
        name=manifest.server,
        title=manifest.title,
        game=manifest.game,
        target=TargetWish(
            game_version=parse_range(manifest.game_version),
            loader=loader.id if loader is not None else None,
            loader_build=exactly(loader.build) if loader is not None else parse_range("*"),
        ),
        content={one.id: Wish(range=exactly(one.version), optional=one.optional) for one in manifest.pieces},
    )
