"""The code of methods: its instructions (JVMS 6.5), and what they refer to."""

from collections.abc import Callable, Iterator
from typing import NamedTuple

from rhizon.core.archives.classfile import ClassFile, ClassFileError, ClassReader, Method, Ref, named_types

__all__ = ["BROKEN", "Handler", "MethodCode", "check_methods", "code_of", "refs_of"]

# What reading a broken class file raises.
BROKEN = (IndexError, KeyError, TypeError, ValueError)

_MOST_HANDLERS = 200  # of one method that are asked whether they go on
_MOST_REFS = 100_000  # of one method, whose code has at most 65,535 bytes
_LARGEST_SWITCH = 65_535

# Bytes of operands after each opcode.
_OPERANDS = bytearray(256)
for _first, _last, _count in (
    *((0x10, 0x10, 1), (0x11, 0x11, 2), (0x12, 0x12, 1), (0x13, 0x14, 2), (0x15, 0x19, 1), (0x36, 0x3A, 1)),
    *((0x84, 0x84, 2), (0x99, 0xA8, 2), (0xA9, 0xA9, 1), (0xB2, 0xB8, 2), (0xB9, 0xBA, 4), (0xBB, 0xBB, 2)),
    *((0xBC, 0xBC, 1), (0xBD, 0xBD, 2), (0xC0, 0xC1, 2), (0xC5, 0xC5, 3), (0xC6, 0xC7, 2), (0xC8, 0xC9, 4)),
):
    for _code in range(_first, _last + 1):
        _OPERANDS[_code] = _count
_TABLESWITCH, _LOOKUPSWITCH, _WIDE = 0xAA, 0xAB, 0xC4
_ACONST_NULL, _LDC, _LDC_W, _INVOKEVIRTUAL, _INVOKEDYNAMIC, _NEW = 0x01, 0x12, 0x13, 0xB6, 0xBA, 0xBB
_ATHROW = 0xBF
_LEAVES = (0xA7, 0xA8, 0xA9, 0xAA, 0xAB, *range(0xAC, 0xB2), _ATHROW, 0xC8, 0xC9)
_BRANCHES = (*range(0x99, 0xA9), 0xC6, 0xC7)
_WIDE_BRANCHES = (0xC8, 0xC9)
_FIELDS, _CALLS, _TYPES = range(0xB2, 0xB6), range(0xB6, 0xBA), (0xBD, 0xC0, 0xC1, 0xC5)
# Calls on a class object that make and initialise nothing (java.lang.Class).
_ASKS_CLASS = frozenset(
    (
        *("getName", "getSimpleName", "getTypeName", "getCanonicalName", "getPackageName", "getPackage", "toString"),
        *("getClassLoader", "getResource", "getResourceAsStream", "isInstance", "hashCode", "getModifiers"),
        *("desiredAssertionStatus", "getModule", "isInterface", "isArray", "isEnum", "isAssignableFrom"),
    )
)


class Handler(NamedTuple):
    """An exception handler: the offsets in the code that it covers, where it begins, and the class that it catches
    (empty: all)."""

    first: int
    last: int
    begin: int
    caught: str


class MethodCode:
    """A Code attribute (JVMS 4.7.3). ``begin`` and ``end`` of its instructions are places in the bytes of the class.
    Raises ClassFileError, IndexError and their like where the class file is broken."""

    def __init__(self, reader: ClassReader, at: int) -> None:
        self.reader = reader
        self.data = reader.data
        self.begin = at + 8
        self.end = self.begin + int.from_bytes(self.data[at + 4 : at + 8], "big")
        if self.end > len(self.data):
            raise ClassFileError("it ends in a method")
        self.handlers = self._handlers()

    def _handlers(self) -> list[Handler]:
        count, at = self._u2(self.end), self.end + 2
        if at + 8 * count > len(self.data):
            raise ClassFileError("it ends in a method")
        rows = [tuple(self._u2(at + 8 * row + 2 * column) for column in range(4)) for row in range(count)]
        return [
            Handler(first, last, begin, self.reader.class_at(caught) if caught else "")
            for first, last, begin, caught in rows
        ]

    def _u2(self, at: int) -> int:
        return self.data[at] << 8 | self.data[at + 1]

    def _i4(self, at: int) -> int:
        return int.from_bytes(self.data[at : at + 4], "big", signed=True)

    def next_after(self, at: int) -> int:
        """Where the instruction after the one at a place begins."""
        code = self.data[at]
        if code == _WIDE:
            return at + (6 if self.data[at + 1] == 0x84 else 4)
        if code in (_TABLESWITCH, _LOOKUPSWITCH):
            return self.switch_end(at)
        return at + self.size_of(code)

    @staticmethod
    def size_of(code: int) -> int:
        """Bytes of an instruction with its operands; not of switches and wide ones, whose size is not fixed."""
        return 1 + _OPERANDS[code]

    def _switch(self, at: int) -> tuple[int, int, int]:
        """Of a tableswitch or lookupswitch: where its jumps begin, how many there are, and bytes of each."""
        table = at + 4 - (at - self.begin) % 4
        if self.data[at] == _TABLESWITCH:
            count, after, size = self._i4(table + 8) - self._i4(table + 4) + 1, table + 12, 4
        else:
            count, after, size = self._i4(table + 4), table + 8, 8
        if not 0 <= count <= _LARGEST_SWITCH:
            raise ClassFileError("a switch of impossible size")
        return after, count, size

    def switch_end(self, at: int) -> int:
        """Where a tableswitch or lookupswitch ends: padding to four bytes, then its jumps (JVMS 6.5)."""
        after, count, size = self._switch(at)
        return after + size * count

    def targets(self, at: int) -> list[int]:
        """The places that an instruction may jump to."""
        code = self.data[at]
        if code in _BRANCHES:
            return [at + int.from_bytes(self.data[at + 1 : at + 3], "big", signed=True)]
        if code in _WIDE_BRANCHES:
            return [at + self._i4(at + 1)]
        if code in (_TABLESWITCH, _LOOKUPSWITCH):
            after, count, size = self._switch(at)
            jumps = [at + self._i4(after + size * row + size - 4) for row in range(count)]
            return [at + self._i4(at + 4 - (at - self.begin) % 4), *jumps]
        return []

    def falls_through(self, at: int) -> bool:
        """Whether the instruction after one may be next."""
        return self.data[at] not in _LEAVES or self.data[at] in (0xA8, 0xC9)

    def instructions(self) -> Iterator[int]:
        """The place of each instruction, in the order of the code."""
        at = self.begin
        while at < self.end:
            yield at
            at = self.next_after(at)

    def refs(self, is_live: Callable[[int], bool] | None = None) -> list[Ref]:
        """What the instructions refer to, and what is caught; only of those that ``is_live``, by their place."""
        found = self._instructions()
        caught = [
            one for one in self.handlers[:_MOST_HANDLERS] if one.caught and not self._throws_on(self.begin + one.begin)
        ]
        refs = [
            ref._replace(caught=_caught(at - self.begin, caught)) if caught else ref
            for at, ref in found
            if is_live is None or is_live(at)
        ]
        return [*refs, *(Ref("catch", one.caught) for one in self.handlers if one.caught)]

    def _throws_on(self, at: int) -> bool:
        """Whether the code from here on throws before it ends or goes elsewhere, as a handler does that passes on what
        it caught."""
        while at < self.end:
            code = self.data[at]
            if code in _LEAVES:
                return code == _ATHROW
            at = self.next_after(at)
        return False

    def _instructions(self) -> list[tuple[int, Ref]]:
        """What each instruction refers to, with where it is."""
        data, at, end = self.data, self.begin, self.end
        refs: list[tuple[int, Ref]] = []
        before = -1
        while at < end:
            code = data[at]
            if _LDC <= code <= _LDC_W:
                index = data[at + 1] if code == _LDC else data[at + 1] << 8 | data[at + 2]
                found = self._constant(index)
                if found and found[0].kind == "class" and self._only_asked(at + 1 + _OPERANDS[code]):
                    found = [found[0]._replace(kind="cast")]
                refs += [(at, ref) for ref in found]
            elif 0xB2 <= code <= 0xBD or 0xC0 <= code <= 0xC1 or code == 0xC5:
                # a cast of null loads nothing
                if code != 0xBC and not (code == 0xC0 and before >= 0 and data[before] == _ACONST_NULL):
                    refs += [(at, ref) for ref in self._referred(code, data[at + 1] << 8 | data[at + 2])]
            elif code == _WIDE or code in (_TABLESWITCH, _LOOKUPSWITCH):
                before, at = at, self.next_after(at)
                continue
            if len(refs) > _MOST_REFS:
                raise ClassFileError("a method with too many references")
            before, at = at, at + 1 + _OPERANDS[code]
        return refs

    def _only_asked(self, at: int) -> bool:
        """Whether the instruction after a class constant asks the class what neither makes nor initialises anything."""
        if at + 2 >= self.end or self.data[at] != _INVOKEVIRTUAL:
            return False
        owner, name, _ = self.reader.member(self._u2(at + 1))
        return owner == "java/lang/Class" and name in _ASKS_CLASS

    def _constant(self, index: int) -> list[Ref]:
        reader = self.reader
        tag, first, second = reader.entry(index)
        if tag == 7:
            return [Ref("class", reader.class_at(index))]
        if tag == 8:
            return [Ref("string", reader.text(first))]
        if tag == 15:
            return self._handle(second)
        if tag == 16:
            return [Ref("type", one) for one in named_types(reader.text(first))]
        return self._dynamic(first, second) if tag == 17 else []

    def _referred(self, code: int, index: int) -> list[Ref]:
        """The class, name and type of a member reference (JVMS 4.4.2)."""
        reader = self.reader
        if code == _NEW:
            return [Ref("new", reader.class_at(index))]
        if code == _INVOKEDYNAMIC:
            _, first, second = reader.entry(index)
            return self._dynamic(first, second)
        if code in _FIELDS:
            return [Ref("field", *reader.member(index))]
        if code in _CALLS:
            return [Ref("call", *reader.member(index))]
        assert code in _TYPES, code
        return [Ref("cast", reader.class_at(index))]

    def _handle(self, index: int) -> list[Ref]:
        owner, name, descriptor = self.reader.member(index)
        kind = "call" if descriptor.startswith("(") else "field"
        made = [Ref("new", owner)] if name == "<init>" else []
        return [*made, Ref(kind, owner, name, descriptor), *(Ref("type", one) for one in named_types(descriptor))]

    def _dynamic(self, bootstrap: int, pair: int) -> list[Ref]:
        """What a call site or constant made by a bootstrap method refers to; its types are resolved when it is made."""
        reader = self.reader
        _, _, descriptor = reader.entry(pair)
        refs = [Ref("class", one) for one in named_types(reader.text(descriptor))]
        handle, *arguments = reader.bootstraps[bootstrap]
        refs += self._handle(reader.entry(handle)[2])
        for argument in arguments:
            if reader.entry(argument)[0] != 17:  # one constant made from another: rare, and could be a circle
                refs += self._constant(argument)
        return refs


def _caught(offset: int, handlers: list[Handler]) -> tuple[str, ...]:
    """The types that are caught around an instruction."""
    return tuple(dict.fromkeys(one.caught for one in handlers if one.first <= offset < one.last))


def code_of(method: Method) -> MethodCode | None:
    """The code of a method; None without one, and where it cannot be read."""
    try:
        return MethodCode(method.reader, method.body) if method.body else None
    except BROKEN:
        return None


def refs_of(method: Method, is_live: Callable[[int], bool] | None = None) -> tuple[Ref, ...]:
    """What a method refers to, in order: the types of its descriptor, its code, the exceptions that it declares, since
    reflection on it resolves them. Nothing of one that cannot be read. ``is_live`` as for :meth:`MethodCode.refs`."""
    try:
        return _refs(method, is_live)
    except BROKEN:
        return ()


def _refs(method: Method, is_live: Callable[[int], bool] | None = None) -> tuple[Ref, ...]:
    refs = [Ref("type", one) for one in named_types(method.descriptor)]
    if method.body:
        refs += MethodCode(method.reader, method.body).refs(is_live)
    refs += (Ref("type", one) for one in method.thrown)
    return tuple(dict.fromkeys(refs))


def check_methods(parsed: ClassFile) -> None:
    """Reads every method of a class. Raises ClassFileError for one that cannot be read."""
    for method in parsed.methods:
        try:
            _refs(method)
        except BROKEN as broken:
            raise ClassFileError(f"its method {method.name} cannot be read ({broken})") from None
