"""Which code of a .NET assembly a loader can come to (ECMA-335, partitions II.22, II.25.4 and III).

A loader makes objects of types that implement or extend types of other assemblies, and calls what it knows of them by
these types. Their constructors, overriding and static constructors, and what these call, are reached; of a type that is
reached, its fields are too, since its layout needs them. What asks for methods by reflection reaches everything.
"""

import struct
from collections.abc import Iterator
from typing import Any

__all__ = ["Reached", "reached_code"]

MOST_METHODS = 20_000
MOST_CODE = 1 << 20  # bytes of one method
_TYPE_REF, _TYPE_DEF, _FIELD, _METHOD, _MEMBER_REF, _LOCALS, _TYPE_SPEC, _METHOD_SPEC = (
    *(0x01, 0x02, 0x04, 0x06, 0x0A, 0x11, 0x1B, 0x2B),
)
# Bytes of operands by opcode (III.1.9); those of two bytes begin with 0xFE.
_ONE = {**dict.fromkeys((*range(0x0E, 0x14), 0x1F, *range(0x2B, 0x38), 0xDE), 1)}
_TOKENS = (
    *(0x27, 0x28, 0x29, 0x6F, 0x70, 0x71, 0x73, 0x74, 0x75, 0x79, *range(0x7B, 0x82), 0x8C, 0x8D, 0x8F),
    *(0xA3, 0xA4, 0xA5, 0xC2, 0xC6, 0xD0),
)
_SIZES = {
    **_ONE,
    **dict.fromkeys((0x20, 0x22, 0x72, *range(0x38, 0x45), 0xDD, *_TOKENS), 4),
    **dict.fromkeys((0x21, 0x23), 8),
}
_LONG_TOKENS = (0x06, 0x07, 0x15, 0x16, 0x1C)
_LONG_SIZES = {**dict.fromkeys(_LONG_TOKENS, 4), **dict.fromkeys(range(0x09, 0x0F), 2), 0x12: 1, 0x19: 1}
_SWITCH, _LONG = 0x45, 0xFE
_CLASS, _VALUE = 0x12, 0x11  # in signatures, before a type (II.23.1.16)
_VIRTUAL, _STATIC = 0x0040, 0x0010
_OF_THE_RUNTIME = ("mscorlib", "netstandard", "System", "Microsoft")


class Reached:
    """Rows of an assembly's tables, from 1 on, that code which a loader can come to names: of other assemblies
    (``type_refs``, ``member_refs``), and methods of its own (``methods``)."""

    def __init__(self) -> None:
        self.type_refs: set[int] = set()
        self.member_refs: set[int] = set()
        self.methods: set[int] = set()


def reached_code(file: Any, tables: Any) -> Reached | None:
    """None where that cannot be told: no type is a loader's, or code asks for methods by reflection. Raises whatever
    dnfile raises of a broken file, and what a broken method does."""
    return _Walk(file, tables).reached()


class _Walk:
    def __init__(self, file: Any, tables: Any) -> None:
        self._file = file
        self._tables = tables
        self._found = Reached()
        self._types: set[int] = set()
        self._waiting: list[int] = []
        self._owner: dict[int, int] = {}
        self._fields: dict[int, int] = {}
        for number, row in enumerate(tables.TypeDef or (), 1):
            for one in row.MethodList:
                self._owner[one.row_index] = number
            for one in row.FieldList:
                self._fields[one.row_index] = number

    def reached(self) -> Reached | None:
        """Follows all that the loader's types lead to."""
        starts = self._loaders_types()
        if not starts or len(self._tables.MethodDef or ()) > MOST_METHODS:
            return None
        for number in starts:
            self._made(number)
        while self._waiting:
            method = self._waiting.pop()
            if not self._follow(method):
                return None
        return self._found

    def _loaders_types(self) -> list[int]:
        """Types that are made of a type of another assembly, the runtime's own left out."""
        foreign: set[int] = set()
        for number, row in enumerate(self._tables.TypeDef or (), 1):
            if self._is_foreign(row.Extends):
                foreign.add(number)
        for row in self._tables.InterfaceImpl or ():
            if self._is_foreign(row.Interface):
                foreign.add(row.Class.row_index)
        return sorted(foreign)

    def _is_foreign(self, index: Any) -> bool:
        row = getattr(index, "row", None)
        scope = getattr(getattr(row, "ResolutionScope", None), "row", None)
        name = str(getattr(scope, "Name", "")) if scope is not None and hasattr(scope, "MajorVersion") else ""
        return bool(name) and not name.startswith(_OF_THE_RUNTIME)

    def _made(self, number: int) -> None:
        """An object of a type of this assembly: all that may be called on it without its name, and its layout."""
        self._loaded(number)
        for one in self._tables.TypeDef[number - 1].MethodList:
            row = one.row
            if row is not None and (row.struct.Flags & _VIRTUAL or str(row.Name) == ".ctor"):
                self._enter(one.row_index)

    def _loaded(self, number: int) -> None:
        """A type is loaded: its fields by their types, what it is made of, its static constructor."""
        if number in self._types:
            return
        self._types.add(number)
        row = self._tables.TypeDef[number - 1]
        self._index(row.Extends)
        for each in self._tables.InterfaceImpl or ():
            if each.Class.row_index == number:
                self._index(each.Interface)
        for one in row.FieldList:
            if one.row is not None:
                self._signature(_bytes(one.row.Signature))
        for one in row.MethodList:
            if one.row is not None and str(one.row.Name) == ".cctor":
                self._enter(one.row_index)

    def _index(self, index: Any) -> None:
        """A TypeDefOrRef of a table."""
        table = getattr(getattr(index, "table", None), "number", None)
        if table is not None and index.row_index:
            self._token(table << 24 | index.row_index)

    def _enter(self, method: int) -> None:
        if method not in self._found.methods:
            self._found.methods.add(method)
            self._waiting.append(method)

    def _follow(self, method: int) -> bool:
        """Everything that a method names; False where it asks for methods by reflection."""
        row = self._tables.MethodDef[method - 1]
        self._loaded(self._owner.get(method, 1))
        self._signature(_bytes(row.Signature))
        for opcode, token in self._tokens(row.Rva):
            if self._reflects(token):
                return False
            self._token(token, made=opcode == 0x73)
        return True

    def _reflects(self, token: int) -> bool:
        if token >> 24 != _MEMBER_REF:
            return False
        row = self._tables.MemberRef[(token & 0xFFFFFF) - 1]
        owner = str(getattr(getattr(row.Class, "row", None), "TypeName", ""))
        return owner in ("Type", "Assembly", "Activator") and str(row.Name).startswith(
            ("GetM", "GetF", "GetP", "GetT", "Create")
        )

    def _token(self, token: int, *, made: bool = False) -> None:
        """A metadata token in code (III.1.9): what it names is needed when the method that has it is compiled."""
        table, number = token >> 24, token & 0xFFFFFF
        if not number:
            return
        if table == _TYPE_REF:
            self._found.type_refs.add(number)
        elif table == _TYPE_DEF:
            self._made(number)
        elif table == _FIELD:
            self._loaded(self._fields.get(number, 1))
            self._signature(_bytes(self._tables.Field[number - 1].Signature))
        elif table == _METHOD:
            self._enter(number)
            if made:
                self._made(self._owner.get(number, 1))
        elif table == _MEMBER_REF:
            self._found.member_refs.add(number)
            row = self._tables.MemberRef[number - 1]
            self._index(row.Class)
            self._signature(_bytes(row.Signature))
        elif table in (_TYPE_SPEC, _LOCALS):
            rows = self._tables.TypeSpec if table == _TYPE_SPEC else self._tables.StandAloneSig
            self._signature(_bytes(rows[number - 1].Signature))
        elif table == _METHOD_SPEC:
            row = self._tables.MethodSpec[number - 1]
            self._signature(_bytes(row.Instantiation))
            self._token(row.Method.table.number << 24 | row.Method.row_index)

    def _signature(self, data: bytes) -> None:
        """The types in a signature (II.23.2): every byte that may stand before one is taken for that."""
        for at, byte in enumerate(data[:-1]):
            if byte in (_CLASS, _VALUE):
                coded = _compressed(data, at + 1)
                if coded is not None and coded & 3 == 1 and coded >> 2 <= len(self._tables.TypeRef or ()):
                    self._found.type_refs.add(coded >> 2)
                elif coded is not None and coded & 3 == 0 and 0 < coded >> 2 <= len(self._tables.TypeDef or ()):
                    self._loaded(coded >> 2)

    def _tokens(self, address: int) -> Iterator[tuple[int, int]]:
        """Opcodes with the metadata tokens of a method's body, its local variables' and caught types' too."""
        if not address:
            return
        head = self._file.get_data(address, 12)
        if head[0] & 3 == 2:
            begin, size = address + 1, head[0] >> 2
        else:
            size, local = struct.unpack_from("<II", head, 4)
            begin = address + 12
            if local:
                yield 0, local
            if head[0] & 8:
                yield from self._caught(begin + size)
        code = self._file.get_data(begin, min(size, MOST_CODE))
        at = 0
        while at < len(code):
            opcode = code[at]
            at += 1
            if opcode == _LONG:
                opcode = code[at]
                at += 1
                if opcode in _LONG_TOKENS:
                    yield opcode, int.from_bytes(code[at : at + 4], "little")
                at += _LONG_SIZES.get(opcode, 0)
            elif opcode == _SWITCH:
                at += 4 + 4 * int.from_bytes(code[at : at + 4], "little")
            else:
                if opcode in _TOKENS:
                    yield opcode, int.from_bytes(code[at : at + 4], "little")
                at += _SIZES.get(opcode, 0)

    def _caught(self, at: int) -> Iterator[tuple[int, int]]:
        """The types of the exceptions that a method catches (II.25.4.6)."""
        at = (at + 3) & ~3
        kind = self._file.get_data(at, 4)
        fat = bool(kind[0] & 0x40)
        size = int.from_bytes(kind[1:4], "little") if fat else kind[1]
        data = self._file.get_data(at + 4, max(size - 4, 0))
        width, token = (24, 20) if fat else (12, 8)
        for begin in range(0, len(data) - width + 1, width):
            if not int.from_bytes(data[begin : begin + (4 if fat else 2)], "little"):  # a typed clause
                yield 0, int.from_bytes(data[begin + token : begin + token + 4], "little")


def _compressed(data: bytes, at: int) -> int | None:
    """An unsigned number as signatures have it (II.23.2)."""
    first = data[at]
    if first < 0x80:
        return first
    if first < 0xC0 and at + 1 < len(data):
        return (first & 0x3F) << 8 | data[at + 1]
    if first < 0xE0 and at + 3 < len(data):
        return (first & 0x1F) << 24 | data[at + 1] << 16 | data[at + 2] << 8 | data[at + 3]
    return None


def _bytes(item: Any) -> bytes:
    return bytes(getattr(item, "value", None) or b"")
