"""Archives as items of a catalog: what they say, what their code shows, and what a facts file beside them corrects."""

import hashlib
from collections.abc import Iterable, Sequence
from pathlib import Path

import msgspec

from rhizon.adapters.files import read_bytes
from rhizon.app.archives.scan import FACTS_ENDING, ScannedFile
from rhizon.core.archives.facts import ArchiveFacts
from rhizon.core.archives.scan import Scanned, runtime_range
from rhizon.core.finding import Finding
from rhizon.core.model.base import ANY
from rhizon.core.model.catalog import Artefact, Item, ItemIndex, ItemLine, Provided, Release, ReleaseFacts
from rhizon.core.model.contentlist import CHANNELS, Channel
from rhizon.core.model.decode import encode_json
from rhizon.core.model.documents import decode
from rhizon.core.model.game import GameDefinition
from rhizon.core.names import RelPath
from rhizon.core.version import Version

__all__ = ["Described", "Shelved", "described", "item_documents", "items_of", "said_beside", "shelved"]


class Shelved(msgspec.Struct, frozen=True, kw_only=True):
    """One archive of a game, with what a person says of it and where it is."""

    game: str
    scanned: Scanned
    facts: ArchiveFacts
    said: ReleaseFacts
    artefact: Artefact


class Described(msgspec.Struct, frozen=True, kw_only=True):
    """An archive of a game with its own facts or those that a person gives it; ``said`` is all that the person says."""

    game: str
    scanned: Scanned
    facts: ArchiveFacts
    said: ReleaseFacts


# What a person says settles these: of the placement what the code left in doubt, of id and version what cannot be read.
_SETTLED_BY_PLACEMENT = ("client-code-reached", "client-only-code")
_SETTLED_BY_NAME = ("metadata-missing", "metadata-broken")


def said_beside(file: Path) -> ReleaseFacts:
    """What the facts file beside an archive says; nothing without one. Raises DocumentError for a wrong one."""
    beside = file.with_name(file.name + FACTS_ENDING)
    if not beside.is_file():
        return ReleaseFacts(format="rhizon-facts/1")
    return decode(ReleaseFacts, read_bytes(beside, "facts file", 1 << 20), str(beside))


def described(
    file: Path, scanned: ScannedFile, games: Sequence[GameDefinition]
) -> tuple[Described | None, list[Finding]]:
    """An archive with what a person says of it beside it, and the findings that this leaves.

    None for what is not an archive of one of the games. Raises DocumentError for a wrong facts file.
    """
    said = said_beside(file)
    archive = scanned.archive
    settled = _SETTLED_BY_PLACEMENT if said.placement is not None else ()
    settled = (*settled, "name-and-content") if said.id is not None or said.version is not None else settled
    if archive is None:
        return None, list(scanned.findings)
    facts, game = archive.facts, said.game or archive.game
    if facts is None and said.id is not None and said.version is not None:
        facts = _facts_of_a_person(said)
        game = game or (games[0].id if len(games) == 1 else None)
        settled = (*settled, *_SETTLED_BY_NAME)
    findings = [one for one in scanned.findings if one.code not in settled]
    if facts is None or game is None or game not in {one.id for one in games}:
        return None, findings
    facts = msgspec.structs.replace(facts, id=said.id or facts.id, version=said.version or facts.version)
    scanned_as = msgspec.structs.replace(
        archive,
        game=game,
        facts=facts,
        placement=said.placement or archive.placement,
        sure="declared" if said.placement is not None else archive.sure,
    )
    return Described(game=game, scanned=scanned_as, facts=facts, said=said), findings


def _facts_of_a_person(said: ReleaseFacts) -> ArchiveFacts:
    """The facts of an archive that says nothing itself; what the person leaves open, every target satisfies."""
    assert said.id is not None and said.version is not None
    return ArchiveFacts(
        id=said.id,
        version=said.version,
        title=said.title or said.id,
        kind=said.kind or "mod",
        placement=said.placement or "shared",
        placement_said=said.placement is not None,
        game_versions=said.game_versions or ANY,
        loaders=said.loaders or {},
        runtime=said.runtime or ANY,
        entry=(),
        embedded=(),
        requires=said.requires or (),
        optional=said.optional or (),
        conflicts=said.conflicts or (),
        provides=said.provides or (),
        written=said.id,
    )


def shelved(
    file: Path, path: RelPath, scanned: ScannedFile, games: Sequence[GameDefinition], findings: list[Finding]
) -> Shelved | None:
    """None for what is not an archive of a known game. Raises DocumentError for a wrong facts file."""
    found, wrong = described(file, scanned, games)
    findings += wrong
    if found is None:
        return None
    artefact = Artefact(path=path, sha256=scanned.sha256, size=scanned.size)
    return Shelved(game=found.game, scanned=found.scanned, facts=found.facts, said=found.said, artefact=artefact)


def _channel(version: Version) -> Channel:
    """What the version's own pre-release word says; a person's facts file says better."""
    if not version.pre:
        return "stable"
    word = version.text.lower()
    return next((channel for channel in CHANNELS if channel != "stable" and channel in word), "preview")


def _release(one: Shelved) -> Release:
    """The catalog's release of an archive, with what its facts file corrects."""
    facts, said = one.facts, one.said
    return Release(
        version=facts.version,
        channel=said.channel or _channel(facts.version),
        yanked=said.yanked or "",
        hand_on=said.hand_on is not False,
        page=said.page or "",
        placement=said.placement or one.scanned.placement,
        game_versions=said.game_versions or facts.game_versions,
        loaders=said.loaders if said.loaders is not None else facts.loaders,
        runtime=said.runtime or runtime_range(one.scanned),
        requires=said.requires if said.requires is not None else facts.requires,
        optional=said.optional if said.optional is not None else facts.optional,
        conflicts=said.conflicts if said.conflicts is not None else facts.conflicts,
        provides=said.provides or facts.provides,
        embeds=tuple(
            Provided(id=inner.id, version=inner.version)
            for inner in one.scanned.embedded
            if inner.id is not None and inner.version is not None
        ),
        ports=said.ports or (),
        settings=said.settings or {},
        memory_mib=said.memory_mib,
        artefact=one.artefact,
    )


def items_of(game: str, found: Iterable[Shelved], findings: list[Finding]) -> list[Item]:
    """Items by id, releases newest first; two archives that are one release are a finding."""
    by_id: dict[str, list[Shelved]] = {}
    for one in found:
        by_id.setdefault(one.facts.id, []).append(one)
    items = []
    for name, group in sorted(by_id.items()):
        releases: dict[Version, Shelved] = {}
        for one in group:
            twin = releases.setdefault(one.facts.version, one)
            if twin is not one:
                findings.append(
                    Finding(
                        code="duplicate-release",
                        severity="error",
                        subject=f"{name} {one.facts.version}",
                        what=f"two archives are this release: {twin.artefact.path} (used) and {one.artefact.path}",
                        remedy="Delete one of them, or ask the author for a separate version.",
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
                summary=newest.said.summary or "",
                releases=tuple(_release(releases[version]) for version in sorted(releases, reverse=True)),
            )
        )
    return items


def item_documents(items: Sequence[Item], index: str, folder: str) -> dict[str, bytes]:
    """The documents of items by path: one for each below ``folder``, and the index that names each with its hash."""
    documents = {f"{folder}/{item.id}.json": encode_json(item) for item in items}
    lines = {
        item.id: ItemLine(
            title=item.title,
            kind=item.kind,
            provides=tuple(sorted({given.id for release in item.releases for given in release.provides})),
            sha256=hashlib.sha256(documents[f"{folder}/{item.id}.json"]).hexdigest(),
        )
        for item in items
    }
    return documents | {index: encode_json(ItemIndex(format="rhizon-index/1", items=lines))}
