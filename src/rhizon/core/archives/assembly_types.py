"""The types of a .NET assembly and what they ask of other assemblies (ECMA-335, partition II.22)."""

from typing import Any

import msgspec

from rhizon.core.archives.il import Reached
from rhizon.core.names import printable

__all__ = ["AssemblyType", "Use", "imported_libraries", "types_of", "uses_of"]

MOST_ROWS = 20_000  # of one table


class AssemblyType(msgspec.Struct, frozen=True, kw_only=True):
    """A type by its full name. ``base`` and ``interfaces`` are full names, each with ``@ASSEMBLY`` behind it where
    another assembly has it; ``members`` are names with the number of parameters (``Light/1``), a field's without;
    ``open_constructor``: it can be made by anybody, without arguments."""

    name: str
    base: str
    interfaces: tuple[str, ...]
    members: tuple[str, ...]
    abstract: bool
    interface: bool
    open_constructor: bool


class Use(msgspec.Struct, frozen=True, kw_only=True):
    """A type of another assembly that code names, with a member of it where it names one."""

    assembly: str
    type: str
    member: str = ""


def types_of(tables: Any) -> tuple[AssemblyType, ...]:
    """The types that an assembly defines, nested ones too. Raises whatever dnfile raises of a broken file."""
    implemented: dict[int, list[str]] = {}
    for row in list(tables.InterfaceImpl or ())[:MOST_ROWS]:
        implemented.setdefault(row.Class.row_index, []).append(_type_name(row.Interface))
    found = []
    for number, row in enumerate(list(tables.TypeDef or ())[:MOST_ROWS], 1):
        methods = [one.row for one in row.MethodList if one.row is not None]
        members = [f"{_text(one.Name)}/{_parameters(_blob(one.Signature))}" for one in methods]
        fields = [_text(one.row.Name) for one in row.FieldList if one.row is not None]
        opened = any(_text(one.Name) == ".ctor" and one.Flags.mdPublic and not _counted(one) for one in methods)
        found.append(
            AssemblyType(
                name=_full(row),
                base=_type_name(row.Extends),
                interfaces=tuple(implemented.get(number, ())),
                members=(*members, *fields),
                abstract=bool(row.Flags.tdAbstract),
                interface=bool(row.Flags.tdInterface),
                open_constructor=opened,
            )
        )
    return tuple(found)


def uses_of(tables: Any, reached: Reached | None) -> tuple[Use, ...]:
    """What the code and the signatures of an assembly name in others, in the order of the tables; of what a loader can
    come to, where that is known."""
    found: dict[Use, None] = {}
    for number, row in enumerate(list(tables.TypeRef or ())[:MOST_ROWS], 1):
        assembly = _assembly_of(row) if reached is None or number in reached.type_refs else ""
        if assembly:
            found[Use(assembly=assembly, type=_full(row))] = None
    for number, row in enumerate(list(tables.MemberRef or ())[:MOST_ROWS], 1):
        if reached is not None and number not in reached.member_refs:
            continue
        owner = getattr(row.Class, "row", None)
        assembly = _assembly_of(owner)
        if assembly:
            signature = _blob(row.Signature)
            name = _text(row.Name)
            # a field's signature begins with 6 (II.23.2.4); a vararg call site (5) may have more parameters
            if signature[:1] != b"\x06" and signature[:1] and signature[0] & 0xF != 5:
                name = f"{name}/{_parameters(signature)}"
            found[Use(assembly=assembly, type=_full(owner), member=name)] = None
    return tuple(found)


def imported_libraries(tables: Any, reached: Reached | None) -> tuple[str, ...]:
    """Native libraries that methods are imported from (II.22.22), of those that a loader can come to."""
    rows = [
        row
        for row in list(tables.ImplMap or ())[:MOST_ROWS]
        if reached is None or row.MemberForwarded.row_index in reached.methods
    ]
    return tuple(dict.fromkeys(_text(row.ImportScope.row.Name) for row in rows if row.ImportScope.row is not None))


def _type_name(index: Any) -> str:
    """The full name that a TypeDefOrRef points to; a generic type of another signature is not followed."""
    row = getattr(index, "row", None)
    if row is None or not hasattr(row, "TypeName"):
        return ""
    assembly = _assembly_of(row)
    return f"{_full(row)}@{assembly}" if assembly else _full(row)


def _assembly_of(row: Any) -> str:
    """The assembly in which a TypeRef is resolved, through the types that it is nested in; empty for one's own."""
    for _ in range(10):
        scope = getattr(getattr(row, "ResolutionScope", None), "row", None)
        if scope is None:
            return ""
        if hasattr(scope, "TypeName"):
            row = scope
            continue
        return _text(scope.Name) if hasattr(scope, "MajorVersion") else ""
    return ""


def _full(row: Any) -> str:
    space, name = _text(row.TypeNamespace), _text(row.TypeName)
    return f"{space}.{name}" if space else name


def _counted(method: Any) -> int:
    return _parameters(_blob(method.Signature))


def _parameters(signature: bytes) -> int:
    """The number of parameters in a method's signature (II.23.2.1)."""
    if len(signature) < 2:
        return 0
    at = 1
    if signature[0] & 0x10:
        at += 1
    return signature[at] if at < len(signature) else 0


def _blob(item: Any) -> bytes:
    return bytes(getattr(item, "value", None) or b"")


def _text(value: object) -> str:
    return printable(str(value).rstrip("\0"), 300)
