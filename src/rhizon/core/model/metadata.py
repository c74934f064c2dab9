"""How archives of a game's content say what they are."""

from typing import Annotated, ClassVar, Literal

import msgspec

from rhizon.core.model.base import Line, Strict
from rhizon.core.names import RelPath

__all__ = ["ContentKind", "FieldRule", "MetadataFormat", "MetadataRule", "Placement", "RangeNotation"]

ContentKind = Literal["mod", "plugin", "library", "template", "datapack"]
Placement = Literal["shared", "server", "player", "any"]
MetadataFormat = Literal["json", "toml", "yaml", "xml", "properties", "manifest", "assembly"]
# ">=1.2, <2"; "[1.2,2)"; "1.2" for that and later; "1.2.x"
RangeNotation = Literal["comparators", "interval", "minimum", "wildcard"]


class FieldRule(Strict, frozen=True, kw_only=True):
    """Relations in a list of elements: where the elements are, which attributes hold id and range."""

    each: Line
    id: Line
    range: Line


class MetadataRule(Strict, frozen=True, kw_only=True):
    """How to take our fields out of an archive's own metadata.

    Each field holds an expression: JMESPath for JSON, TOML and YAML, an ElementTree path for XML (``@name`` for an
    attribute of the root), a key for properties, an attribute name for a manifest. Then, where they are asked for:
    ``from_manifest`` names a main attribute of META-INF/MANIFEST.MF for a field that has no value or is still a
    ``${placeholder}``; ``absent`` is the value of a field that is not there; ``words`` are an author's words for ours
    (of ``kind`` and ``placement``); where ``only_with`` finds nothing the archive is not for the loader; ranges are in
    ``range_notation``; ``entry_type`` is the type (with dots) of which the loader's entry classes must be, each with a
    public constructor without parameters; a list in one string is split at ``list_separator``, id and range of a
    relation at ``pair_separator``.
    """

    file: RelPath
    format: MetadataFormat
    id: Line
    version: Line
    title: Line = ""
    kind: Line = ""
    placement: Line = ""
    game_versions: Line = ""
    loader_builds: Line = ""
    runtime: Line = ""
    entry: Line = ""
    entry_type: Line = ""
    embedded: Line = ""
    requires: Line | FieldRule = ""
    conflicts: Line | FieldRule = ""
    optional: Line | FieldRule = ""
    provides: Line | FieldRule = ""
    range_notation: RangeNotation = "comparators"
    list_separator: Line = ";"
    pair_separator: Annotated[str, msgspec.Meta(min_length=1, max_length=8)] = " "
    from_manifest: dict[str, Line] = {}
    absent: dict[str, Line] = {}
    kind_words: dict[str, ContentKind] = {}
    placement_words: dict[str, Placement] = {}
    placement_absent: Placement = "shared"
    only_with: Line = ""

    def __post_init__(self) -> None:
        for name in (*self.from_manifest, *self.absent):
            if name not in self.TEXTS:
                raise ValueError(f"`{name}` is no field with one value; those are {', '.join(self.TEXTS)}")

    # the fields with one value, and those with relations
    TEXTS: ClassVar[tuple[str, ...]] = (
        *("id", "version", "title", "kind", "placement", "game_versions", "loader_builds", "runtime", "entry"),
    )
    RELATIONS: ClassVar[tuple[str, ...]] = ("requires", "conflicts", "optional", "provides")
