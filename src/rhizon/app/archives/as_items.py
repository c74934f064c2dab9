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
from rhizon.core.model.catalog import Artefact, Item, ItemIndex, ItemLine, Provided, Release, ReleaseFacts
from rhizon.core.model.contentlist import CHANNELS, Channel
from rhizon.core.model.decode import encode_json
from rhizon.core.model.documents import decode
from rhizon.core.names import RelPath
from rhizon.core.version import Version

__all__ = ["Shelved", "item_documents", "items_of", "shelved"]


class Shelved(msgspec.Struct, frozen=True, kw_only=True):
    """One archive of a game, with what a person says of it and where it is."""

    game: str
    scanned: Scanned
    facts: ArchiveFacts
    said: ReleaseFacts
    artefact: Artefact


def shelved(file: Path, path: RelPath, scanned: ScannedFile, findings: list[Finding]) -> Shelved | None:
    """None for what is not an archive of a known game. Raises DocumentError for a wrong facts file."""
    beside = file.with_name(file.name + FACTS_ENDING)
    said = ReleaseFacts(format="rhizon-facts/1")
    if beside.is_file():
        said = decode(ReleaseFacts, read_bytes(beside, "facts file", 1 << 20), str(beside))
    # what a person says of the placement beside the archive settles what its code left in doubt
    settled = ("client-code-reached", "client-only-code") if said.placement is not None else ()
    findings += [one for one in scanned.findings if one.code not in settled]
    archive = scanned.archive
    if archive is None or archive.facts is None or archive.game is None:
        return None
    artefact = Artefact(path=path, sha256=scanned.sha256, size=scanned.size)
    return Shelved(game=archive.game, scanned=archive, facts=archive.facts, said=said, artefact=artefact)


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
