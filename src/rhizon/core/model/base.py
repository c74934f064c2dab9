"""What every document shares: strict structs and the checked kinds of text."""

from typing import Annotated, Any, ClassVar

import msgspec

from rhizon.core import names
from rhizon.core.names import RelPath
from rhizon.core.secret import Secret
from rhizon.core.version import Version, VersionRange, parse_range, parse_version

__all__ = [
    "ANY",
    "SHA256_PATTERN",
    "Id",
    "Line",
    "Mib",
    "Port",
    "SettingValue",
    "Sha256",
    "Size",
    "Strict",
    "any_range",
    "dec_hook",
    "enc_hook",
    "schema_hook",
]


class Strict(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    """A frozen value whose decoder refuses fields that it does not know. ``ids_of_items`` are the fields of a document
    in which people name content, as they spell it: its keys, its texts, or the ``id`` of its tables."""

    ids_of_items: ClassVar[tuple[str, ...]] = ()


SHA256_PATTERN = "^[0-9a-f]{64}$"

Id = Annotated[str, msgspec.Meta(pattern=names.ID_PATTERN)]
Line = Annotated[str, msgspec.Meta(max_length=400)]
Sha256 = Annotated[str, msgspec.Meta(pattern=SHA256_PATTERN)]
Size = Annotated[int, msgspec.Meta(ge=0, le=1 << 40)]
Port = Annotated[int, msgspec.Meta(ge=1, le=65535)]
SettingValue = str | int | bool | tuple[str, ...]  # as a person writes it in a document; a list is one of names
Mib = Annotated[int, msgspec.Meta(ge=0, le=1 << 24)]

ANY = parse_range("*")


def any_range() -> Any:
    """A field that holds ``*`` where the document is silent (a factory: schemas cannot show our own kinds)."""
    return msgspec.field(default_factory=lambda: ANY)


def dec_hook(kind: type, value: Any) -> Any:
    """Text to our own kinds; ValueError says what would be right."""
    if not isinstance(value, str):
        raise ValueError(f"text is expected, not {type(value).__name__}")
    if kind is Secret:
        return Secret(value)
    if kind is Version:
        return parse_version(value)
    if kind is VersionRange:
        return parse_range(value)
    if kind is RelPath:
        return names.safe_path(value)
    raise NotImplementedError(kind)


def enc_hook(value: Any) -> Any:
    """Our own kinds to text. Raises TypeError for a secret."""
    if isinstance(value, Version | VersionRange):
        return value.text
    if isinstance(value, RelPath):
        return str(value)
    if isinstance(value, Secret):
        raise TypeError("a secret is not written anywhere")
    raise NotImplementedError(type(value))


def schema_hook(kind: type) -> dict[str, Any]:
    """JSON Schema of our own kinds."""
    if kind is Version:
        return {"type": "string", "description": "dotted numbers, optional -preview and +build part"}
    if kind is VersionRange:
        return {"type": "string", "description": "comma-joined comparators such as '>=1.2, <2', or '*'"}
    if kind is Secret:
        return {"type": "string", "writeOnly": True, "description": "a secret; it is shown nowhere"}
    if kind is RelPath:
        return {"type": "string", "description": "a relative path with / between its parts"}
    raise NotImplementedError(kind)
