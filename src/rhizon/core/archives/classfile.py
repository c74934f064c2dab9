"""Java class files: what a class extends, what its methods refer to, and the runtime it needs.

Follows the Java Virtual Machine Specification, chapter 4 (the class file format) and chapter 6 (instructions).
"""

import re
from array import array
from collections.abc import Callable
from typing import NamedTuple

__all__ = [
    "ABSTRACT",
    "FINAL",
    "INTERFACE",
    "PRIVATE",
    "PROTECTED",
    "PUBLIC",
    "STATIC",
    "ClassFile",
    "ClassFileError",
    "ClassReader",
    "Field",
    "Method",
    "Ref",
    "class_major",
    "java_major",
    "named_types",
    "parameter_types",
    "parse_class",
]

# Access flags of classes and members (JVMS tables 4.1-B, 4.5-A and 4.6-A).
PUBLIC, PRIVATE, PROTECTED, STATIC, FINAL, INTERFACE, ABSTRACT = 0x0001, 0x0002, 0x0004, 0x0008, 0x0010, 0x0200, 0x0400

_PARAMETER = re.compile(r"\[*(?:[BCDFIJSZ]|L[^;]*;)")
_MAGIC = b"\xca\xfe\xba\xbe"
_LARGEST_POOL = 65_535
_MOST_HANDLERS = 200  # of one method that are asked whether they go on
_MOST_REFS = 100_000  # of one method, whose code has at most 65,535 bytes

# Bytes of operands after each opcode; -1: a switch, -2: wide (JVMS 6.5).
_OPERANDS = bytearray(256)
for _first, _last, _count in (
    *((0x10, 0x10, 1), (0x11, 0x11, 2), (0x12, 0x12, 1), (0x13, 0x14, 2), (0x15, 0x19, 1), (0x36, 0x3A, 1)),
    *((0x84, 0x84, 2), (0x99, 0xA8, 2), (0xA9, 0xA9, 1), (0xB2, 0xB8, 2), (0xB9, 0xBA, 4), (0xBB, 0xBB, 2)),
    *((0xBC, 0xBC, 1), (0xBD, 0xBD, 2), (0xC0, 0xC1, 2), (0xC5, 0xC5, 3), (0xC6, 0xC7, 2), (0xC8, 0xC9, 4)),
):
    for _code in range(_first, _last + 1):
        _OPERANDS[_code] = _count
_TABLESWITCH, _LOOKUPSWITCH, _WIDE = 0xAA, 0xAB, 0xC4
_LDC, _LDC_W, _INVOKEDYNAMIC, _NEW = 0x12, 0x13, 0xBA, 0xBB
_ATHROW = 0xBF
_LEAVES = (0xA7, 0xA8, 0xA9, 0xAA, 0xAB, *range(0xAC, 0xB2), _ATHROW, 0xC8, 0xC9)
_FIELDS, _CALLS, _TYPES = range(0xB2, 0xB6), range(0xB6, 0xBA), (0xBD, 0xC0, 0xC1, 0xC5)


class ClassFileError(ValueError):
    """Bytes that are not a complete class file; the text says why."""


class Ref(NamedTuple):
    """Something that code refers to. ``kind``: "new", "call" (name and descriptor), "field" (name and descriptor),
    "class" (a class object is made), "cast" (a cast, a type test or an array: it is only loaded), "catch", "type" (only
    named in a descriptor) or "string" (``owner`` is the text). ``caught`` are the types of the exceptions that are
    caught around it by code that goes on afterwards."""

    kind: str
    owner: str
    name: str = ""
    descriptor: str = ""
    caught: tuple[str, ...] = ()


class Field(NamedTuple):
    """A field; ``access`` are its flags."""

    name: str
    descriptor: str
    access: int


_TEXT = 1
_PAIRS = (9, 10, 11, 12, 17, 18)
# bytes of the other kinds of constants (JVMS table 4.4-A)
_POOL_SIZES = {**dict.fromkeys((*_PAIRS, 3, 4), 5), **dict.fromkeys((7, 8, 16, 19, 20), 3), 15: 4, 5: 9, 6: 9}


class Method:
    """A method; ``access`` are its flags, ``marks`` the types of its annotations. ``read_refs`` reads what it refers
    to, and raises what reading a broken one raises."""

    __slots__ = ("access", "descriptor", "marks", "name", "read_refs")

    def __init__(
        self, name: str, descriptor: str, access: int, marks: tuple[str, ...], read_refs: Callable[[], tuple[Ref, ...]]
    ) -> None:
        self.name = name
        self.descriptor = descriptor
        self.access = access
        self.marks = marks
        self.read_refs = read_refs

    @property
    def refs(self) -> tuple[Ref, ...]:
        """What its code refers to, in order; nothing of a method that cannot be read. Read each time: most methods are
        never asked, and the others once."""
        try:
            return self.read_refs()
        except (IndexError, KeyError, TypeError, ValueError):
            return ()


class ClassFile(NamedTuple):
    """One class. Names have slashes; ``marks`` are the types of its annotations; ``access`` are its flags."""

    name: str
    super_name: str
    interfaces: tuple[str, ...]
    major: int
    fields: tuple[Field, ...]
    methods: tuple[Method, ...]
    marks: tuple[str, ...]
    access: int = PUBLIC


def java_major(class_major: int) -> int:
    """The lowest Java major that loads a class-file major (JVMS table 4.1-A: 45 is 1, 52 is 8, 61 is 17)."""
    return max(class_major - 44, 1)


def class_major(head: bytes) -> int | None:
    """The class-file major in the first eight bytes; None when they do not begin a class file."""
    return int.from_bytes(head[6:8], "big") if len(head) >= 8 and head[:4] == _MAGIC else None


def named_types(descriptor: str) -> list[str]:
    """The classes that a descriptor names (JVMS 4.3)."""
    return [part.partition("L")[2] for part in descriptor.split(";")[:-1] if "L" in part]


def parameter_types(descriptor: str) -> list[str]:
    """The field descriptors of a method's parameters (JVMS 4.3.3)."""
    return _PARAMETER.findall(descriptor[1 : descriptor.index(")")])


def parse_class(data: bytes, *, methods_too: bool = False) -> ClassFile:
    """Raises :class:`ClassFileError`; for a broken method only where ``methods_too`` are to be read now."""
    try:
        reader = ClassReader(data)
        found = reader.read()
        if methods_too:
            for method, _ in reader.bodies:
                method.read_refs()
        return found
    except (IndexError, KeyError, TypeError, ValueError) as broken:
        if isinstance(broken, ClassFileError):
            raise
        why = "it ends too early" if isinstance(broken, IndexError) else "it is inconsistent"
        raise ClassFileError(f"not a whole class file: {why}") from None


class ClassReader:
    """Reads one class file. ``bodies`` are, once it was read, the methods with where their Code attribute begins (0
    without one)."""

    def __init__(self, data: bytes) -> None:
        self._data = data
        self._at = 10
        self._places = array("I", [0])
        self._texts: dict[int, str] = {}
        self._bootstraps: list[list[int]] = []
        self.bodies: list[tuple[Method, int]] = []

    def _u2(self) -> int:
        self._at += 2
        return int.from_bytes(self._data[self._at - 2 : self._at], "big")

    def _u4(self) -> int:
        self._at += 4
        return int.from_bytes(self._data[self._at - 4 : self._at], "big")

    def _i4(self, at: int) -> int:
        return int.from_bytes(self._data[at : at + 4], "big", signed=True)

    def read(self) -> ClassFile:
        """The class, parsed as JVMS 4.1 lays it out. Raises ClassFileError."""
        data = self._data
        major = class_major(data)
        if major is None:
            raise ClassFileError("it does not begin like a class file")
        self._read_pool(int.from_bytes(data[8:10], "big"))
        access = self._u2()
        name, super_at = self.class_at(self._u2()), self._u2()
        super_name = self.class_at(super_at) if super_at else ""
        interfaces = tuple(self.class_at(self._u2()) for _ in range(self._u2()))
        members = self._at
        for _ in range(2):  # once over the members to find what is behind them: lambdas are described there
            for _ in range(self._u2()):
                self._at += 6
                self._skip_attributes()
        marks = self._class_attributes()
        self._at = members
        fields = []
        for _ in range(self._u2()):
            flags = self._u2()
            fields.append(Field(self.text(self._u2()), self.text(self._u2()), flags))
            self._skip_attributes()
        methods = tuple(self._method() for _ in range(self._u2()))
        return ClassFile(name, super_name, interfaces, major, tuple(fields), methods, marks, access)

    def _read_pool(self, count: int) -> None:
        """The constant pool (JVMS 4.4): where each entry begins; it is decoded when it is asked for, since a class that
        is met on the way needs few of them."""
        data, at = self._data, self._at
        places = self._places
        while len(places) < count:
            places.append(at)
            tag = data[at]
            if tag == _TEXT:
                at += 3 + (data[at + 1] << 8 | data[at + 2])
            elif tag in _POOL_SIZES:
                at += _POOL_SIZES[tag]
                if tag in (5, 6):
                    places.append(0)  # eight-byte constants take two places (JVMS 4.4.5)
            else:
                raise ClassFileError(f"its constant pool has an entry of the unknown kind {tag}")
        if at > len(data):
            raise ClassFileError("it ends in its constant pool")
        self._at = at

    def _place(self, index: int) -> int:
        at = self._places[index]
        if not at:
            raise ClassFileError(f"constant {index} is none")
        return at

    def text(self, index: int) -> str:
        """The text at an index of the pool. Raises ClassFileError, as the next three do, where it is something else."""
        found = self._texts.get(index)
        if found is None:
            at = self._place(index)
            data = self._data
            if data[at] != _TEXT:
                raise ClassFileError(f"constant {index} is no text")
            length = data[at + 1] << 8 | data[at + 2]
            found = self._texts[index] = data[at + 3 : at + 3 + length].decode("utf-8", "replace")
        return found

    def entry(self, index: int) -> tuple[int, int, int]:
        """Tag and the two numbers of an entry of the pool."""
        at = self._place(index)
        data = self._data
        tag = data[at]
        if tag == _TEXT:
            raise ClassFileError(f"constant {index} is of the wrong kind")
        if tag == 15:
            return tag, data[at + 1], data[at + 2] << 8 | data[at + 3]
        second = data[at + 3] << 8 | data[at + 4] if tag in _PAIRS else 0
        return tag, data[at + 1] << 8 | data[at + 2], second

    def class_at(self, index: int) -> str:
        """The class that an entry names; of an array, the class of its elements."""
        return _element(self.text(self.entry(index)[1]))

    def member(self, index: int) -> tuple[str, str, str]:
        """Owner, name and descriptor of a field or method reference."""
        _, owner, pair = self.entry(index)
        _, name, descriptor = self.entry(pair)
        return self.class_at(owner), self.text(name), self.text(descriptor)

    def _skip_attributes(self) -> None:
        for _ in range(self._u2()):
            self._at += 2
            length = self._u4()
            self._at += length
        if self._at > len(self._data):
            raise ClassFileError("it ends too early")

    def _class_attributes(self) -> tuple[str, ...]:
        """Attributes of the class that matter here: annotations and bootstrap methods."""
        marks: list[str] = []
        for _ in range(self._u2()):
            name, length = self.text(self._u2()), self._u4()
            end = self._at + length
            if name == "BootstrapMethods":
                for _ in range(self._u2()):
                    handle = self._u2()
                    self._bootstraps.append([handle, *(self._u2() for _ in range(self._u2()))])
            elif name in ("RuntimeVisibleAnnotations", "RuntimeInvisibleAnnotations"):
                marks += self._marks()
            self._at = end
        return tuple(marks)

    def _marks(self) -> list[str]:
        """Types of the annotations at this place (JVMS 4.7.16); what they hold is passed over."""
        found = []
        for _ in range(self._u2()):
            found += named_types(self.text(self._u2()))
            for _ in range(self._u2()):
                self._at += 2
                self._skip_value(0)
        return found

    def _skip_value(self, depth: int) -> None:
        """Passes over an element value of an annotation (JVMS 4.7.16.1), at most ``MOST_DEEP`` deep."""
        if depth > 20:
            raise ClassFileError("annotations nested too deep")
        tag = chr(self._data[self._at])
        self._at += 1
        if tag == "e":
            self._at += 4
        elif tag == "@":
            self._at += 2
            for _ in range(self._u2()):
                self._at += 2
                self._skip_value(depth + 1)
        elif tag == "[":
            for _ in range(self._u2()):
                self._skip_value(depth + 1)
        else:
            self._at += 2

    def _method(self) -> Method:
        """A method, with where the members are that its code refers to."""
        access = self._u2()
        name, descriptor = self.text(self._u2()), self.text(self._u2())
        marks: list[str] = []
        parts: list[tuple[str, int]] = []
        body = 0
        for _ in range(self._u2()):
            attribute, length = self.text(self._u2()), self._u4()
            end = self._at + length
            if attribute in ("Code", "Exceptions"):
                parts.append((attribute, self._at))
                body = self._at if attribute == "Code" else body
            elif attribute in ("RuntimeVisibleAnnotations", "RuntimeInvisibleAnnotations"):
                marks += self._marks()
            self._at = end
        method = Method(name, descriptor, access, tuple(marks), lambda: self._refs(descriptor, parts))
        self.bodies.append((method, body))
        return method

    def _refs(self, descriptor: str, parts: list[tuple[str, int]]) -> tuple[Ref, ...]:
        refs: list[Ref] = [Ref("type", one) for one in named_types(descriptor)]
        for attribute, at in parts:
            self._at = at
            if attribute == "Code":
                refs += self._code()
            else:  # reflection on the method resolves what it declares to throw
                refs += [Ref("type", self.class_at(self._u2())) for _ in range(self._u2())]
        return tuple(dict.fromkeys(refs))

    def _code(self) -> list[Ref]:
        """The references in a Code attribute (JVMS 4.7.3)."""
        self._at += 4
        length = self._u4()
        begin = self._at
        if begin + length > len(self._data):
            raise ClassFileError("it ends in a method")
        refs = self._instructions(begin, begin + length)
        self._at = begin + length
        count = self._u2()
        if self._at + 8 * count > len(self._data):
            raise ClassFileError("it ends in a method")
        handlers = [tuple(self._u2() for _ in range(4)) for _ in range(count)]
        named = [self.class_at(caught) for *_, caught in handlers if caught]
        caught = [
            (first, last, self.class_at(kind))
            for first, last, handler, kind in handlers[:_MOST_HANDLERS]
            if kind and not self._throws_on(begin + handler, begin + length)
        ]
        found = [ref._replace(caught=_caught(at - begin, caught)) if caught else ref for at, ref in refs]
        return [*found, *(Ref("catch", one) for one in named)]

    def _throws_on(self, at: int, end: int) -> bool:
        """Whether the code from here on throws before it ends or goes elsewhere, as a handler does that passes on what
        it caught."""
        while at < end:
            code = self._data[at]
            if code in _LEAVES:
                return code == _ATHROW
            at = self._next(at)
        return False

    def _next(self, at: int) -> int:
        """Where the instruction after one that is no switch begins."""
        code = self._data[at]
        if code == _WIDE:
            return at + (6 if self._data[at + 1] == 0x84 else 4)
        return at + self.size_of(code)

    def _instructions(self, at: int, end: int) -> list[tuple[int, Ref]]:
        """What each instruction of a method refers to, with where it is (JVMS 6.5)."""
        data, begin = self._data, at
        refs: list[tuple[int, Ref]] = []
        while at < end:
            code = data[at]
            if _LDC <= code <= _LDC_W:
                index = data[at + 1] if code == _LDC else data[at + 1] << 8 | data[at + 2]
                refs += [(at, ref) for ref in self._constant(index)]
            elif 0xB2 <= code <= 0xBD or 0xC0 <= code <= 0xC1 or code == 0xC5:
                if code != 0xBC:
                    refs += [(at, ref) for ref in self._referred(code, data[at + 1] << 8 | data[at + 2])]
            elif code == _WIDE:
                at += 6 if data[at + 1] == 0x84 else 4
                continue
            elif code in (_TABLESWITCH, _LOOKUPSWITCH):
                at = self.switch_end(at, begin)
                continue
            if len(refs) > _MOST_REFS:
                raise ClassFileError("a method with too many references")
            at += 1 + _OPERANDS[code]
        return refs

    @staticmethod
    def size_of(code: int) -> int:
        """Bytes of an instruction with its operands; not of switches and wide ones, whose size is not fixed."""
        return 1 + _OPERANDS[code]

    def switch_end(self, at: int, begin: int) -> int:
        """Where a tableswitch or lookupswitch ends: padding to four bytes, then its jumps (JVMS 6.5)."""
        table = at + 4 - (at - begin) % 4
        if self._data[at] == _TABLESWITCH:
            low, high = self._i4(table + 4), self._i4(table + 8)
            count = high - low + 1
            after = table + 12
            size = 4
        else:
            count = self._i4(table + 4)
            after = table + 8
            size = 8
        if not 0 <= count <= _LARGEST_POOL:
            raise ClassFileError("a switch of impossible size")
        return after + size * count

    def _constant(self, index: int) -> list[Ref]:
        tag, first, second = self.entry(index)
        if tag == 7:
            return [Ref("class", _element(self.text(first)))]
        if tag == 8:
            return [Ref("string", self.text(first))]
        if tag == 15:
            return self._handle(second)
        if tag == 16:
            return [Ref("type", one) for one in named_types(self.text(first))]
        return self._dynamic(first, second) if tag == 17 else []

    def _referred(self, code: int, index: int) -> list[Ref]:
        """The class, name and type of a member reference (JVMS 4.4.2)."""
        if code == _NEW:
            return [Ref("new", self.class_at(index))]
        if code == _INVOKEDYNAMIC:
            _, first, second = self.entry(index)
            return self._dynamic(first, second)
        if code in _FIELDS:
            return [Ref("field", *self.member(index))]
        if code in _CALLS:
            return [Ref("call", *self.member(index))]
        assert code in _TYPES, code
        return [Ref("cast", self.class_at(index))]

    def _handle(self, index: int) -> list[Ref]:
        owner, name, descriptor = self.member(index)
        kind = "call" if descriptor.startswith("(") else "field"
        made = [Ref("new", owner)] if name == "<init>" else []
        return [*made, Ref(kind, owner, name, descriptor), *(Ref("type", one) for one in named_types(descriptor))]

    def _dynamic(self, bootstrap: int, pair: int) -> list[Ref]:
        """What a call site or constant made by a bootstrap method refers to; its types are resolved when it is made."""
        _, _, descriptor = self.entry(pair)
        refs = [Ref("class", one) for one in named_types(self.text(descriptor))]
        handle, *arguments = self._bootstraps[bootstrap]
        refs += self._handle(self.entry(handle)[2])
        for argument in arguments:
            if self.entry(argument)[0] != 17:  # one constant made from another: rare, and could be a circle
                refs += self._constant(argument)
        return refs


def _caught(offset: int, handlers: list[tuple[int, int, str]]) -> tuple[str, ...]:
    """The types that are caught around an instruction."""
    return tuple(dict.fromkeys(kind for first, last, kind in handlers if first <= offset < last))


def _element(name: str) -> str:
    """The class of an array's elements; other names are themselves."""
    if not name.startswith("["):
        return name
    return next(iter(named_types(name)), "")
