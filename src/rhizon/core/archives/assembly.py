"""What a .NET assembly says of itself: its name, what it was built for and which assemblies it asks for.

The file format (ECMA-335, partition II) is dnfile's work.
"""

import contextlib
import hashlib
from collections.abc import Iterator
from typing import Any

import msgspec

from rhizon.core.archives.assembly_types import AssemblyType, Use, imported_libraries, types_of, uses_of
from rhizon.core.archives.il import Reached, reached_code
from rhizon.core.names import printable

__all__ = ["Assembly", "AssemblyReference", "read_assembly"]

_MOST_REFERENCES = 2_000
_NET_DIRECTORY = 14  # IMAGE_DIRECTORY_ENTRY_COM_DESCRIPTOR
_MOST_ROWS = 50_000  # of a table that is read: each row becomes an object


class AssemblyReference(msgspec.Struct, frozen=True, kw_only=True):
    """An assembly that is asked for, at a version of four numbers; ``signed_by`` is its author's public key token as
    hexadecimal digits, "" without one."""

    name: str
    version: str
    signed_by: str = ""


class Assembly(msgspec.Struct, frozen=True, kw_only=True):
    """``framework`` is the target framework as it was compiled in ("" when it says none), such as
    ``.NETFramework,Version=v4.7.2``; ``metadata`` is the version of the runtime's own format. ``attributes`` are texts
    that its author put into it: ``title`` of AssemblyTitle and so on, ``metadata KEY`` of AssemblyMetadata;
    ``libraries`` are native ones that its methods are imported from; ``mixed``: it holds native code
    itself; ``signed_by`` is its author's public key token;
    ``follows``: ``uses`` and ``libraries`` are only of code that a loader can come to."""

    name: str
    version: str
    framework: str
    metadata: str
    references: tuple[AssemblyReference, ...]
    attributes: dict[str, str] = {}
    types: tuple[AssemblyType, ...] = ()
    uses: tuple[Use, ...] = ()
    libraries: tuple[str, ...] = ()
    mixed: bool = False
    signed_by: str = ""
    follows: bool = False


@contextlib.contextmanager
def _in_silence() -> Iterator[None]:
    """dnfile logs what is odd in a file, some of it by the root logger: that is not for the terminal."""
    import logging

    before = logging.root.manager.disable
    logging.disable(logging.CRITICAL)
    try:
        yield
    finally:
        logging.disable(before)


@_in_silence()
def read_assembly(data: bytes) -> Assembly | None:
    """None when the bytes are no .NET assembly (a native library, say, or nothing of the kind)."""
    import dnfile

    try:
        # all but the .NET header would be parsed for nothing, at a hundred times the cost
        file: Any = dnfile.dnPE(data=data, fast_load=True, clr_lazy_load=True)  # type: ignore[no-untyped-call]
        file.parse_data_directories(directories=[_NET_DIRECTORY])
        if getattr(file, "net", None) is None or file.net.mdtables is None or not file.net.mdtables.Assembly:
            return None
        tables = file.net.mdtables
        read = (tables.Assembly, tables.AssemblyRef, tables.CustomAttribute, tables.MemberRef, tables.TypeRef)
        of_types = (tables.TypeDef, tables.MethodDef, tables.Field, tables.ImplMap, tables.InterfaceImpl)
        if any(table is not None and table.num_rows > _MOST_ROWS for table in (*read, *of_types)):
            return None
        own = tables.Assembly[0]
        rows = list(tables.AssemblyRef or ())[:_MOST_REFERENCES]
        said = _attributes(tables)
        reached = _reached(file, tables)
        uses = uses_of(tables, reached)
        return Assembly(
            name=_text(own.Name),
            version=_version(own),
            framework=said.get("targetframework", ""),
            metadata=_text(getattr(file.net.metadata.struct, "Version", "")),
            references=tuple(
                AssemblyReference(name=_text(row.Name), version=_version(row), signed_by=_token(row.PublicKey))
                for row in rows
            ),
            signed_by=_token(own.PublicKey),
            attributes=said,
            types=types_of(tables),
            uses=uses,
            libraries=imported_libraries(tables, reached),
            follows=reached is not None,
            mixed=not file.net.Flags.CLR_ILONLY,
        )
    except Exception:  # of what is broken in a file, dnfile raises whatever came of it
        return None  # it is not an assembly that a runtime would load


def _text(value: object) -> str:
    text = value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
    return printable(text.rstrip("\0"), 200)


def _reached(file: Any, tables: Any) -> Reached | None:
    """What a loader can come to; None where that cannot be told."""
    try:
        return reached_code(file, tables)
    except Exception:  # of a broken method: then everything counts
        return None


def _token(key: Any) -> str:
    """The public key token of a key, or of a token itself: the last eight bytes of the key's SHA-1, reversed (ECMA-335
    II.6.3)."""
    value = getattr(key, "value", None)
    if not isinstance(value, bytes) or not value:
        return ""
    return (value if len(value) <= 8 else hashlib.sha1(value, usedforsecurity=False).digest()[-8:][::-1]).hex()


def _version(row: object) -> str:
    return ".".join(
        str(getattr(row, part)) for part in ("MajorVersion", "MinorVersion", "BuildNumber", "RevisionNumber")
    )


def _attributes(tables: Any) -> dict[str, str]:
    """Attributes of one text, or of a key and a text, by the attribute's name in small letters."""
    found: dict[str, str] = {}
    for row in list(tables.CustomAttribute or ())[:_MOST_REFERENCES]:
        maker = getattr(row.Type, "row", None)
        kind = getattr(getattr(maker, "Class", None), "row", None)
        name = str(getattr(kind, "TypeName", "")).lower()
        texts = _texts(bytes(getattr(row.Value, "value", None) or b""))
        if name == "assemblymetadataattribute" and len(texts) == 2:
            found.setdefault(f"metadata {texts[0]}", texts[1])
        elif name.endswith("attribute") and texts:
            found.setdefault(name.removesuffix("attribute").removeprefix("assembly"), texts[0])
    return found


def _texts(blob: bytes) -> list[str]:
    """The texts that a value begins with (partition II.23.3: a prolog, then each with its length, II.23.2)."""
    texts: list[str] = []
    at = 2
    while blob[:2] == b"\x01\x00" and at + 2 < len(blob) and len(texts) < 2:
        first = blob[at]
        if first < 0x80:
            size, at = first, at + 1
        elif first < 0xC0 and at + 3 < len(blob):
            size, at = (first & 0x3F) << 8 | blob[at + 1], at + 2
        else:
            break
        if at + size > len(blob) - 2:  # the number of named arguments follows
            break
        texts.append(_text(blob[at : at + size]))
        at += size
    return texts
