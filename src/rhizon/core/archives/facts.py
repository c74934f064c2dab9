"""What one archive says of itself, under the rules of one game."""

import re
from collections.abc import Callable
from typing import TypeVar, get_args

import msgspec

from rhizon.core.archives.classfile import highest_class_major, java_major
from rhizon.core.archives.entries import Archive
from rhizon.core.archives.metadata import READERS, Fields, MetadataError
from rhizon.core.archives.metadata.fields import LARGEST
from rhizon.core.errors import TrustError
from rhizon.core.finding import Finding
from rhizon.core.model.base import ANY
from rhizon.core.model.catalog import Relation, Requirement
from rhizon.core.model.game import ContentKind, FieldRule, GameDefinition, MetadataRule, Placement
from rhizon.core.names import ID_PATTERN, plain
from rhizon.core.version import Version, VersionRange, parse_range, parse_version

__all__ = ["ArchiveFacts", "read_facts"]


T = TypeVar("T")


class ArchiveFacts(msgspec.Struct, frozen=True, kw_only=True):
    """Facts of one archive. ``java_major`` is what its code was compiled for, None without code."""

    id: str
    version: Version
    title: str
    kind: ContentKind
    placement: Placement
    game_versions: VersionRange
    loaders: dict[str, VersionRange]
    runtime: VersionRange
    requires: tuple[Requirement, ...]
    optional: tuple[Relation, ...]
    conflicts: tuple[Relation, ...]
    java_major: int | None


class _UnclearError(ValueError):
    """A field of the metadata that cannot be used."""


def read_facts(archive: Archive, game: GameDefinition) -> tuple[ArchiveFacts | None, list[Finding]]:
    """The facts of an archive, None when no loader of the game has metadata in it, and what is wrong."""
    findings: list[Finding] = []
    facts: ArchiveFacts | None = None
    for name, loader in game.loaders.items():
        rule = loader.metadata
        if rule.file not in archive:
            continue
        try:
            fields = READERS[rule.format](archive.read(rule.file, LARGEST))
            one = _facts(fields, rule, name, archive)
        except (MetadataError, _UnclearError, TrustError) as wrong:
            findings.append(
                Finding(
                    code="metadata-broken",
                    severity="error",
                    subject=archive.source,
                    what=f"{rule.file} cannot be read: {plain(str(wrong), 300)}",
                    remedy="Tell the author; until then describe it in a facts file beside the archive.",
                )
            )
            continue
        facts = one if facts is None else _joined(facts, one, findings, archive.source)
    if facts is None and not findings:
        known = ", ".join(str(loader.metadata.file) for loader in game.loaders.values())
        findings.append(
            Finding(
                code="metadata-missing",
                severity="warning",
                subject=archive.source,
                what=f"it holds nothing for a loader of {game.title} (looked for {known})",
                remedy="Is it for another game? If not, describe it in a facts file beside the archive.",
            )
        )
    return facts, findings


def _facts(fields: Fields, rule: MetadataRule, loader: str, archive: Archive) -> ArchiveFacts:
    major = highest_class_major(archive)
    java = java_major(major) if major is not None else None
    runtime = fields.text(rule.runtime) if rule.runtime else ""
    if not runtime:
        runtime = f">={java}" if java is not None else "*"
    return ArchiveFacts(
        id=_id(fields.text(rule.id), "id"),
        version=_parsed(parse_version, fields.text(rule.version), "version"),
        title=plain(fields.text(rule.title), 120) or fields.text(rule.id),
        kind=_kind(fields.text(rule.kind) if rule.kind else ""),
        placement=_placement(fields.text(rule.placement) if rule.placement else "", rule),
        game_versions=_range(fields, rule.game_versions),
        loaders={loader: _range(fields, rule.loader_builds)},
        runtime=_parsed(parse_range, runtime, "runtime"),
        requires=tuple(Requirement(id=one.id, range=one.range) for one in _relations(fields, rule.requires)),
        optional=_relations(fields, rule.optional),
        conflicts=_relations(fields, rule.conflicts),
        java_major=java,
    )


def _parsed(parse: Callable[[str], T], text: str, what: str) -> T:
    try:
        return parse(text)
    except ValueError as wrong:
        raise _UnclearError(f"{what}: {wrong}") from None


def _id(text: str, what: str) -> str:
    if not re.match(ID_PATTERN, text):
        raise _UnclearError(f"{what}: {plain(text, 80)!r} is not an id (small letters, digits, - _ .)")
    return text


def _range(fields: Fields, expression: str) -> VersionRange:
    text = fields.text(expression) if expression else ""
    return _parsed(parse_range, text, expression) if text else ANY


def _kind(word: str) -> ContentKind:
    return next((kind for kind in get_args(ContentKind) if kind == word), "mod")


def _placement(word: str, rule: MetadataRule) -> Placement:
    if not word:
        return rule.placement_absent
    if word in rule.placement_words:
        return rule.placement_words[word]
    raise _UnclearError(f"placement: {plain(word, 40)!r} is none of {', '.join(rule.placement_words)}")


def _relations(fields: Fields, rule: str | FieldRule) -> tuple[Relation, ...]:
    pairs = fields.pairs(rule) if rule else []
    return tuple(
        Relation(id=_id(name, "relation"), range=_parsed(parse_range, wanted, name)) for name, wanted in sorted(pairs)
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
                remedy="The first is believed; tell the author.",
            )
        )
        return first
    return msgspec.structs.replace(first, loaders={**first.loaders, **other.loaders})
