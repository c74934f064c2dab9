"""Java class files: what a class extends, what its methods refer to, and the runtime it needs.

Follows the Java Virtual Machine Specification, chapter 4 (the class file format) and chapter 6 (instructions).
"""

import re
from array import array
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


class Method(NamedTuple):
    """A method; ``access`` are its flags, ``marks`` the types of its annotations, ``thrown`` the exceptions that it
    declares. ``body`` is where its Code attribute begins in the bytes of ``reader``, 0 without one; what it refers to
    is read from there (bytecode.py) when it is asked for, since few methods of a class are."""

    name: str
    descriptor: str
    access: int
    marks: tuple[str, ...]
    thrown: tuple[str, ...]
    reader: "ClassReader"
    body: int


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


def parse_class(data: bytes) -> ClassFile:
    """Raises :class:`ClassFileError`; the code of methods is not looked at."""
    try:
        return ClassReader(data).read()
    except (IndexError, KeyError, TypeError, ValueError) as broken:
        if isinstance(broken, ClassFileError):
            raise
        why = "it ends too early" if isinstance(broken, IndexError) else "it is inconsistent"
        raise ClassFileError(f"not a whole class file: {why}") from None


class ClassReader:
    """Reads one class file. ``bootstraps`` are, once it was read, the method handle and the arguments of each bootstrap
    method (JVMS 4.7.23)."""

    def __init__(self, data: bytes) -> None:
        self.data = data
        self._at = 10
        self._places = array("I", [0])
        self._texts: dict[int, str] = {}
        self.bootstraps: list[list[int]] = []

    def _u2(self) -> int:
        self._at += 2
        return int.from_bytes(self.data[self._at - 2 : self._at], "big")

    def _u4(self) -> int:
        self._at += 4
        return int.from_bytes(self.data[self._at - 4 : self._at], "big")

    def _i4(self, at: int) -> int:
        return int.from_bytes(self.data[at : at + 4], "big", signed=True)

    def read(self) -> ClassFile:
        """The class, parsed as JVMS 4.1 lays it out. Raises ClassFileError."""
        data = self.data
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
        data, at = self.data, self._at
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
            data = self.data
            if data[at] != _TEXT:
                raise ClassFileError(f"constant {index} is no text")
            length = data[at + 1] << 8 | data[at + 2]
            found = self._texts[index] = data[at + 3 : at + 3 + length].decode("utf-8", "replace")
        return found

    def entry(self, index: int) -> tuple[int, int, int]:
        """Tag and the two numbers of an entry of the pool."""
        at = self._place(index)
        data = self.data
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
        if self._at > len(self.data):
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
                    self.bootstraps.append([handle, *(self._u2() for _ in range(self._u2()))])
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
        tag = chr(self.data[self._at])
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
        """A method, with where its code is."""
        access = self._u2()
        name, descriptor = self.text(self._u2()), self.text(self._u2())
        marks: list[str] = []
        thrown: tuple[str, ...] = ()
        body = 0
        for _ in range(self._u2()):
            attribute, length = self.text(self._u2()), self._u4()
            end = self._at + length
            if attribute == "Code":
                body = self._at
            elif attribute == "Exceptions":
                thrown = tuple(self.class_at(self._u2()) for _ in range(self._u2()))
            elif attribute in ("RuntimeVisibleAnnotations", "RuntimeInvisibleAnnotations"):
                marks += self._marks()
            self._at = end
        return Method(name, descriptor, access, tuple(marks), thrown, self, body)


def _element(name: str) -> str:
    """The class of an array's elements; other names are themselves."""
    if not name.startswith("["):
        return name
    return next(iter(named_types(name)), "")
