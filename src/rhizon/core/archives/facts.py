"""What one archive says of itself, under the rules of one game."""

import contextlib
from collections.abc import Callable, Iterator
from typing import TypeVar, get_args

import msgspec

from rhizon.core.archives.assembly import Assembly
from rhizon.core.archives.entries import Archive
from rhizon.core.archives.metadata import READERS, Fields, MetadataError
from rhizon.core.archives.metadata.assembly import from_assembly
from rhizon.core.archives.metadata.fields import LARGEST
from rhizon.core.archives.metadata.flat import main_attributes
from rhizon.core.archives.notation import read_range
from rhizon.core.archives.spelling import read_id, read_version, version_in_name
from rhizon.core.errors import TrustError
from rhizon.core.finding import Finding
from rhizon.core.model.catalog import Provided, Relation, Requirement
from rhizon.core.model.game import GameDefinition, LoaderDefinition
from rhizon.core.model.metadata import ContentKind, FieldRule, MetadataRule, Placement
from rhizon.core.names import printable
from rhizon.core.version import Version, VersionRange

__all__ = ["MANIFEST", "ArchiveFacts", "assembly_facts", "read_facts", "said"]

MANIFEST = "META-INF/MANIFEST.MF"

T = TypeVar("T")


class ArchiveFacts(msgspec.Struct, frozen=True, kw_only=True):
    """What metadata says. ``entry`` are the classes that a loader starts, ``embedded`` paths of archives inside;
    ``placement_said`` is False where the placement is only the loader's rule for silence; ``written`` is the id as its
    author spells it."""

    id: str
    version: Version
    title: str
    kind: ContentKind
    placement: Placement
    placement_said: bool
    game_versions: VersionRange
    loaders: dict[str, VersionRange]
    runtime: VersionRange
    entry: tuple[str, ...]
    embedded: tuple[str, ...]
    requires: tuple[Requirement, ...]
    optional: tuple[Relation, ...]
    conflicts: tuple[Relation, ...]
    provides: tuple[Provided, ...]
    entry_type: str = ""
    written: str = ""


class _UnclearError(ValueError):
    """A field of the metadata that cannot be used."""


def read_facts(archive: Archive, game: GameDefinition) -> tuple[ArchiveFacts | None, list[Finding]]:
    """The facts of an archive, None when no loader of the game has metadata in it, and what is wrong."""
    findings: list[Finding] = []
    facts: ArchiveFacts | None = None
    for name, loader in game.loaders.items():
        for one in _of_loader(archive, name, loader, findings):
            facts = one if facts is None else _joined(facts, one, findings, archive.source)
            break
    if facts is None and not findings:
        known = ", ".join(dict.fromkeys(str(rule.file) for one in game.loaders.values() for rule in one.metadata))
        findings.append(
            Finding(
                code="metadata-missing",
                severity="warning",
                subject=archive.source,
                what=f"it has no metadata for a loader of {game.title} (searched for {known})",
                remedy="If it is for this game, describe it: rhizon catalog describe ARCHIVE",
            )
        )
    return facts, findings


def _of_loader(
    archive: Archive, name: str, loader: LoaderDefinition, findings: list[Finding]
) -> Iterator[ArchiveFacts]:
    """What each kind of metadata that the loader reads says."""
    for rule in loader.rules:
        if rule.format == "assembly" or rule.file not in archive:
            continue
        try:
            fields = READERS[rule.format](archive.read(rule.file, LARGEST))
            if rule.only_with and not fields.texts(rule.only_with):
                continue
            manifest = _manifest(archive, rule)
            yield _facts(fields, rule, name, manifest, archive.source)
        except (MetadataError, _UnclearError, TrustError) as wrong:
            broken = _broken(archive.source, rule, wrong)
            if broken not in findings:
                findings.append(broken)


def _broken(source: str, rule: MetadataRule, wrong: Exception) -> Finding:
    return Finding(
        code="metadata-broken",
        severity="error",
        subject=source,
        what=f"{rule.file} cannot be read: {printable(str(wrong), 300)}",
        remedy="Report it to the author; until then describe it: rhizon catalog describe ARCHIVE",
    )


def assembly_facts(assembly: Assembly, source: str, game: GameDefinition) -> tuple[ArchiveFacts | None, list[Finding]]:
    """The facts of an assembly, None when no loader of the game reads them from such, and what is wrong."""
    fields = from_assembly(assembly)
    findings: list[Finding] = []
    for name, loader in game.loaders.items():
        for rule in loader.rules:
            if rule.format != "assembly" or (rule.only_with and not fields.texts(rule.only_with)):
                continue
            try:
                return _facts(fields, rule, name, {}, source), findings
            except (MetadataError, _UnclearError) as wrong:
                findings.append(_broken(source, rule, wrong))
    return None, findings


def said(fields: Fields, rule: MetadataRule, manifest: dict[str, str], field: str) -> str:
    """One field's value as text, with what the rule says of values that are not there."""
    expression = getattr(rule, field)
    found = next(iter(fields.texts(expression)), "") if expression else ""
    if (not found or "${" in found) and field in rule.from_manifest:
        found = manifest.get(rule.from_manifest[field].lower(), "") or found
    return found or rule.absent.get(field, "")


def _facts(fields: Fields, rule: MetadataRule, loader: str, manifest: dict[str, str], source: str) -> ArchiveFacts:
    """The facts that a rule reads from metadata. Raises MetadataError for an id or placement that is not valid."""

    def text(field: str) -> str:
        return said(fields, rule, manifest, field)

    def span(field: str) -> VersionRange:
        return _parsed(lambda one: read_range(one, rule.range_notation), text(field), field)

    name = _id(text("id"), "id")
    placement = text("placement")
    requires = _relations(fields, rule, rule.requires)
    entry = fields.texts(rule.entry) if rule.entry else []
    return ArchiveFacts(
        id=name,
        version=_version(text("version"), manifest, source),
        title=printable(text("title"), 120) or printable(text("id"), 64),
        written=printable(text("id"), 64),
        kind=_kind(text("kind"), rule),
        placement=_placement(placement, rule),
        placement_said=bool(placement),
        game_versions=span("game_versions"),
        loaders={loader: span("loader_builds")},
        runtime=span("runtime"),
        entry=tuple(printable(one, 300) for one in entry) or tuple(filter(None, [rule.absent.get("entry", "")])),
        entry_type=rule.entry_type,
        embedded=tuple(fields.texts(rule.embedded)) if rule.embedded else (),
        requires=tuple(Requirement(id=one.id, range=one.range) for one in requires),
        optional=_relations(fields, rule, rule.optional),
        conflicts=_relations(fields, rule, rule.conflicts),
        provides=_provided(fields, rule),
    )


def _parsed(parse: Callable[[str], T], text: str, what: str) -> T:
    try:
        return parse(text)
    except ValueError as wrong:
        raise _UnclearError(f"{what}: {wrong}") from None


def _id(text: str, what: str) -> str:
    return _parsed(read_id, text, what)


def _manifest(archive: Archive, rule: MetadataRule) -> dict[str, str]:
    """The main attributes of the manifest. One that cannot be read is an error only where the rule asks for it."""
    try:
        return main_attributes(archive.read(MANIFEST, LARGEST)) if MANIFEST in archive else {}
    except (MetadataError, TrustError):
        if rule.from_manifest:
            raise
        return {}


def _version(text: str, manifest: dict[str, str], source: str) -> Version:
    """The version that is written; where there is none, or a placeholder that the build left, what the manifest or the
    file name says, else 0."""
    if text and "${" not in text:
        return _parsed(read_version, text, "version")
    names = ("implementation-version", "bundle-version", "specification-version")
    for other in (*(manifest.get(name, "") for name in names), version_in_name(source), "0"):
        with contextlib.suppress(ValueError):
            return read_version(other)
    raise AssertionError("0 is a version")


def _kind(word: str, rule: MetadataRule) -> ContentKind:
    if word in rule.kind_words:
        return rule.kind_words[word]
    return next((kind for kind in get_args(ContentKind) if kind == word), "mod")


def _placement(word: str, rule: MetadataRule) -> Placement:
    if not word:
        return rule.placement_absent
    if word in rule.placement_words:
        return rule.placement_words[word]
    raise _UnclearError(f"placement: {printable(word, 40)!r} is none of {', '.join(rule.placement_words)}")


def _relations(fields: Fields, rule: MetadataRule, where: str | FieldRule) -> tuple[Relation, ...]:
    pairs = fields.pairs(where, rule) if where else []
    return tuple(
        Relation(
            id=_id(name, "relation"), range=_parsed(lambda one: read_range(one, rule.range_notation), wanted, name)
        )
        for name, wanted in sorted(pairs)
    )


def _provided(fields: Fields, rule: MetadataRule) -> tuple[Provided, ...]:
    pairs = fields.pairs(rule.provides, rule) if rule.provides else []
    return tuple(
        Provided(id=_id(name, "provides"), version=_parsed(read_version, version or "0", name))
        for name, version in sorted(pairs)
    )


def _joined(first: ArchiveFacts, other: ArchiveFacts, findings: list[Finding], source: str) -> ArchiveFacts:
    """An archive for several loaders: one release that any of them takes."""
    if (first.id, first.version) != (other.id, other.version):
        findings.append(
            Finding(
                code="metadata-clash",
                severity="warning",
                subject=source,
                what=f"its loaders' metadata disagree: {first.id} {first.version}, {other.id} {other.version}",
                remedy="The first is used; report it to the author.",
            )
        )
        return first
    return msgspec.structs.replace(first, loaders={**first.loaders, **other.loaders})
