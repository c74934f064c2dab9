"""Which classes the virtual machine must load to verify a class: a missing one makes linking it fail for certain.

Type checking by the StackMapTable (JVMS 4.10.1): between two frames the types of local variables and of the operand
stack follow from the instructions; where a type must be assignable to another class (an argument, a receiver, a field,
a return value, a frame, a caught exception), the verifier loads that class, and the other one too when the first is not
an interface (4.10.1.2; ``java/lang/Object`` and equal names need no loading). Classes before version 50 are checked in
another way and are not judged.
"""

from collections.abc import Callable, Iterator
from typing import NamedTuple

from rhizon.core.archives.bytecode import MethodCode
from rhizon.core.archives.classfile import STATIC, ClassFileError, ClassReader, Method, parameter_types
from rhizon.core.archives.verification_types import (
    DOUBLE,
    EFFECTS,
    FLOAT,
    FRESH,
    INT,
    LONG,
    NULL,
    PRIMITIVE_ARRAYS,
    TOP,
    places_of,
    type_of,
)

__all__ = ["Load", "loads_of_verification"]

OLDEST = 50
_MOST_STATES = 200_000  # comparisons of one class
_MOST_DIMENSIONS = 255  # of an array (JVMS 4.3.2)
OBJECT, THROWABLE = "java/lang/Object", "java/lang/Throwable"


class Load(NamedTuple):
    """A class that verifying ``method`` loads, and ``why``."""

    name: str
    method: str
    why: str


class _UnclearError(Exception):
    """Code that is not as the type checker wants it: nothing is said of the method."""


class _Frame(NamedTuple):
    """Types of the local variables (a long or double takes two places) and of the stack, its top last."""

    locals: tuple[str, ...]
    stack: tuple[str, ...]


def loads_of_verification(
    data: bytes, is_interface: Callable[[str], bool | None]
) -> tuple[list[Load], frozenset[tuple[str, str]]]:
    """The classes that verifying a class file loads, in order, without those that it names as exactly the type at hand.

    ``is_interface`` answers for a class name with slashes; None when that is not known, and then what would depend on
    it is not said. The second result are the methods (name and descriptor) of which this says nothing: all of an old
    class file, and those whose code is not as a compiler makes it. A class file that cannot be read loads nothing.
    """
    reader = ClassReader(data)
    try:
        parsed = reader.read()
    except (ClassFileError, IndexError, KeyError, TypeError, ValueError):
        return [], frozenset()
    if parsed.major < OLDEST:
        return [], frozenset((one.name, one.descriptor) for one in parsed.methods)
    loads: list[Load] = []
    unclear: set[tuple[str, str]] = set()
    spent = [0]
    for method in parsed.methods:
        if method.body:
            found: dict[Load, None] = {}
            try:
                _Checker(MethodCode(reader, method.body), parsed.name, method, is_interface, found, spent).run()
            except (_UnclearError, ClassFileError, IndexError, KeyError, TypeError, ValueError):
                unclear.add((method.name, method.descriptor))
                continue
            loads += found
    return loads, frozenset(unclear)


_BRANCHES = (*range(0x99, 0xA8), 0xC6, 0xC7)
_ENDS = (0xA7, 0xC8, 0xAA, 0xAB, *range(0xAC, 0xB2), 0xBF)  # nothing falls through these


class _Checker:
    """Type checking of one method."""

    def __init__(
        self,
        code: MethodCode,
        owner: str,
        method: Method,
        is_interface: Callable[[str], bool | None],
        loads: dict[Load, None],
        spent: list[int],
    ) -> None:
        self._code, self._reader, self._data = code, code.reader, code.data
        self._owner, self._method = owner, method
        self._is_interface = is_interface
        self._loads = loads
        self._begin, self._end, self._handlers = code.begin, code.end, code.handlers
        self._locals_limit = self._u2(code.begin - 6)
        self._frames: dict[int, _Frame] = {}
        self._locals: list[str] = []
        self._stack: list[str] = []
        self._spent = spent
        self._first()
        self._read_frames(code.end + 2 + 8 * len(self._handlers))

    def _u2(self, at: int) -> int:
        return self._data[at] << 8 | self._data[at + 1]

    def _s2(self, at: int) -> int:
        return int.from_bytes(self._data[at : at + 2], "big", signed=True)

    def _u4(self, at: int) -> int:
        return int.from_bytes(self._data[at : at + 4], "big")

    def _s4(self, at: int) -> int:
        return int.from_bytes(self._data[at : at + 4], "big", signed=True)

    def _class_type(self, index: int) -> str:
        """The class that an entry of the pool names, an array as its descriptor."""
        return self._reader.text(self._reader.entry(index)[1])

    def _first(self) -> None:
        """The types with which the method begins: its object and its arguments."""
        types: list[str] = []
        if not self._method.access & STATIC:
            types.append(FRESH if self._method.name == "<init>" and self._owner != OBJECT else self._owner)
        for descriptor in parameter_types(self._method.descriptor):
            types += places_of(type_of(descriptor))
        self._locals = types

    def _read_frames(self, at: int) -> None:
        """The StackMapTable (JVMS 4.7.4), each frame by its offset."""
        for _ in range(self._u2(at)):
            name, length = self._reader.text(self._u2(at + 2)), self._u4(at + 4)
            if name == "StackMapTable":
                self._stack_maps(at + 8)
            at += 6 + length

    def _stack_maps(self, at: int) -> None:
        places, offset = list(self._locals), -1
        count, at = self._u2(at), at + 2
        for _ in range(count):
            kind, at = self._data[at], at + 1
            stack: list[str] = []
            if kind <= 63:
                delta = kind
            elif kind <= 127:
                delta = kind - 64
                one, at = self._frame_type(at)
                stack = [one]
            else:
                delta, at = self._u2(at), at + 2
                if kind == 247:
                    one, at = self._frame_type(at)
                    stack = [one]
                elif 248 <= kind <= 250:
                    places = _without_last(places, 251 - kind)
                elif 252 <= kind <= 254:
                    for _ in range(kind - 251):
                        one, at = self._frame_type(at)
                        places += places_of(one)
                elif kind == 255:
                    places = []
                    many, at = self._u2(at), at + 2
                    for _ in range(many):
                        one, at = self._frame_type(at)
                        places += places_of(one)
                    many, at = self._u2(at), at + 2
                    for _ in range(many):
                        one, at = self._frame_type(at)
                        stack.append(one)
                elif kind != 251:
                    raise _UnclearError
            offset += delta + 1
            self._frames[offset] = _Frame(tuple(places), tuple(stack))

    def _frame_type(self, at: int) -> tuple[str, int]:
        """One verification_type_info, and where the next begins."""
        tag = self._data[at]
        if tag == 7:
            return self._class_type(self._u2(at + 1)), at + 3
        if tag == 8:
            return f"{FRESH}{self._u2(at + 1)}", at + 3
        return (TOP, INT, FLOAT, DOUBLE, LONG, NULL, FRESH)[tag], at + 1

    def run(self) -> None:
        """Follows the code from its first instruction to its last."""
        for _, _, _, caught in self._handlers:
            if caught:
                self._assign(caught, THROWABLE, "it catches it")
        at, alive = self._begin, True
        while at < self._end:
            offset = at - self._begin
            frame = self._frames.get(offset)
            if frame is not None:
                if alive:
                    self._match(frame)
                self._locals, self._stack = list(frame.locals), list(frame.stack)
            elif not alive:
                raise _UnclearError
            self._match_handlers(offset)
            code = self._data[at]
            size = self._size(at, code)
            self._step(at, code)
            self._branch(at, code)
            alive = code not in _ENDS
            at += size

    def _size(self, at: int, code: int) -> int:
        if code == 0xC4:
            return 6 if self._data[at + 1] == 0x84 else 4
        if code in (0xAA, 0xAB):
            return self._code.switch_end(at) - at
        return self._code.size_of(code)

    def _match(self, frame: _Frame) -> None:
        """The types at hand must be assignable to those of a frame (JVMS 4.10.1.4)."""
        if len(self._stack) != len(frame.stack):
            raise _UnclearError
        for have, want in zip(self._stack, frame.stack, strict=True):
            self._assign(have, want, "two ways through the code meet")
        self._match_locals(frame)

    def _match_locals(self, frame: _Frame) -> None:
        for have, want in zip(self._locals, frame.locals, strict=False):
            self._assign(have, want, "two ways through the code meet")

    def _match_handlers(self, offset: int) -> None:
        for begin, end, handler, caught in self._handlers:
            if begin <= offset < end and handler in self._frames:
                frame = self._frames[handler]
                self._match_locals(frame)
                if len(frame.stack) == 1:
                    self._assign(caught or THROWABLE, frame.stack[0], "it catches it")

    def _branch(self, at: int, code: int) -> None:
        """What a jump goes to has a frame, which must fit."""
        targets: Iterator[int] | list[int] = []
        if code in _BRANCHES:
            targets = [at + self._s2(at + 1)]
        elif code == 0xC8:
            targets = [at + self._s4(at + 1)]
        elif code in (0xAA, 0xAB):
            targets = self._switch_targets(at, code)
        for target in targets:
            frame = self._frames.get(target - self._begin)
            if frame is None:
                raise _UnclearError
            self._match(frame)

    def _switch_targets(self, at: int, code: int) -> Iterator[int]:
        table = at + 4 - (at - self._begin) % 4
        yield at + self._s4(table)
        end = self._code.switch_end(at)
        first, step = (table + 12, 4) if code == 0xAA else (table + 12, 8)
        for place in range(first, end, step):
            yield at + self._s4(place)

    def _assign(self, have: str, want: str, why: str) -> None:
        """JVMS 4.10.1.2: notes each class that must be loaded to tell whether ``have`` is assignable to ``want``."""
        self._spent[0] += 1
        if self._spent[0] > _MOST_STATES:
            raise _UnclearError
        deep = 0
        while deep < _MOST_DIMENSIONS and have[deep : deep + 1] == "[" == want[deep : deep + 1]:
            deep += 1
        if deep:  # arrays are compared by what they hold
            have, want = have[deep:], want[deep:]
            if have[:1] not in ("L", "[") or want[:1] not in ("L", "["):
                return
            have, want = type_of(have), type_of(want)
        if have == want or want == OBJECT or want[:1] in ("!", "[") or have.startswith("!"):
            return
        self._load(want, why)
        if not have.startswith("[") and (want == THROWABLE or self._is_interface(want) is False):
            self._load(have, why)

    def _load(self, name: str, why: str) -> None:
        self._loads[Load(name, self._method.name, why)] = None

    def _pop(self) -> str:
        if not self._stack:
            raise _UnclearError
        return self._stack.pop()

    def _store(self, index: int, kind: str) -> None:
        places = self._locals
        if index + 2 > len(places):
            places += [TOP] * (index + 2 - len(places))
        if index and places[index - 1] in (LONG, DOUBLE):
            places[index - 1] = TOP
        places[index : index + len(places_of(kind))] = places_of(kind)

    def _step(self, at: int, code: int) -> None:
        """One instruction: the check that it asks for, and its effect (JVMS 4.10.1.9)."""
        if code == 0xC4:
            code, index = self._data[at + 1], self._u2(at + 2)
        else:
            index = self._data[at + 1] if at + 1 < len(self._data) else 0
        if 0x59 <= code <= 0x5F:
            self._shuffle(code)
        elif code == 0x19 or 0x2A <= code <= 0x2D:
            self._stack.append(self._locals[index if code == 0x19 else code - 0x2A])
        elif 0x36 <= code <= 0x3A:
            self._store(index, self._pop())
        elif 0x3B <= code <= 0x4E:
            self._store((code - 0x3B) % 4, self._pop())
        elif code == 0x32:
            self._pop()
            array = self._pop()
            self._stack.append(NULL if array == NULL else type_of(array[1:]))
        elif code == 0xB0:
            self._assign(self._pop(), type_of(self._method.descriptor.rpartition(")")[2]), "it is returned")
        elif code == 0xBF:
            self._assign(self._pop(), THROWABLE, "it is thrown")
        elif code == 0x58:
            if self._pop() not in (LONG, DOUBLE):
                self._pop()
        elif code in (0x12, 0x13, 0x14):
            self._stack.append(self._constant(index if code == 0x12 else self._u2(at + 1)))
        elif 0xB2 <= code <= 0xBA:
            self._member(code, self._u2(at + 1))
        elif 0xBB <= code <= 0xC5 and code not in (0xBE, 0xC2, 0xC3, 0xC4):
            self._make(at, code)
        else:
            takes, gives = EFFECTS[code]
            for _ in range(takes):
                self._pop()
            self._stack += gives

    def _make(self, at: int, code: int) -> None:
        """Instructions that make objects and arrays, and those that ask for the type of one."""
        if code == 0xBB:
            self._stack.append(f"{FRESH}{at - self._begin}:{self._class_type(self._u2(at + 1))}")
        elif code == 0xBC:
            self._pop()
            self._stack.append(PRIMITIVE_ARRAYS[self._data[at + 1]])
        elif code == 0xBD:
            self._pop()
            of = self._class_type(self._u2(at + 1))
            self._stack.append(f"[{of}" if of.startswith("[") else f"[L{of};")
        elif code == 0xC0:
            self._pop()
            self._stack.append(self._class_type(self._u2(at + 1)))
        elif code == 0xC1:
            self._pop()
            self._stack.append(INT)
        elif code == 0xC5:
            for _ in range(self._data[at + 3]):
                self._pop()
            self._stack.append(self._class_type(self._u2(at + 1)))

    def _constant(self, index: int) -> str:
        tag, _, pair = self._reader.entry(index)
        if tag == 17:
            return type_of(self._reader.text(self._reader.entry(pair)[2]))
        return {
            3: INT,
            4: FLOAT,
            5: LONG,
            6: DOUBLE,
            7: "java/lang/Class",
            8: "java/lang/String",
            15: "java/lang/invoke/MethodHandle",
            16: "java/lang/invoke/MethodType",
        }[tag]

    def _member(self, code: int, index: int) -> None:
        """Fields and calls: values and arguments against their descriptors, then the object against the owner."""
        _, owner_at, pair = self._reader.entry(index)
        _, name_at, descriptor_at = self._reader.entry(pair)
        name, descriptor = self._reader.text(name_at), self._reader.text(descriptor_at)
        owner = self._class_type(owner_at) if code != 0xBA else ""
        if code in (0xB3, 0xB5):
            self._assign(self._pop(), type_of(descriptor), f"it is put into the field {name}")
        if code in (0xB4, 0xB5):
            self._receive(owner, f"its field {name} is used")
        if code in (0xB2, 0xB4):
            self._stack.append(type_of(descriptor))
        if code < 0xB6:
            return
        for one in reversed(parameter_types(descriptor)):
            self._assign(self._pop(), type_of(one), f"it is passed to {name}")
        if code == 0xB7 and name == "<init>":
            self._initialise(self._pop(), owner)
        elif code == 0xB7:
            self._receive(self._owner, f"its {name} is called")
        elif code in (0xB6, 0xB9):
            self._receive(owner, f"its {name} is called")
        result = descriptor.rpartition(")")[2]
        if result != "V":
            self._stack.append(type_of(result))

    def _receive(self, owner: str, why: str) -> None:
        have = self._pop()
        if not owner.startswith("["):
            self._assign(have, owner, why)

    def _initialise(self, fresh: str, owner: str) -> None:
        """After its constructor the object has its type, wherever it is (JVMS 4.10.1.9.invokespecial)."""
        kind = self._owner if fresh == FRESH else owner
        for place in (self._locals, self._stack):
            place[:] = [kind if _same_fresh(one, fresh) else one for one in place]

    def _shuffle(self, code: int) -> None:
        """The dup family and swap, by whether values are of category 2 (JVMS 2.11.1)."""
        stack = self._stack
        if code == 0x5F:
            stack[-1], stack[-2] = stack[-2], stack[-1]
            return
        twice = 1
        if code >= 0x5C and stack[-1] not in (LONG, DOUBLE):
            twice = 2
        below = {0x59: 0, 0x5A: 1, 0x5B: 2, 0x5C: 0, 0x5D: 1, 0x5E: 2}[code]
        skipped = 0
        if below:
            under = stack[-1 - twice]
            skipped = 1 if below == 1 or under in (LONG, DOUBLE) else 2
        top = stack[len(stack) - twice :]
        if len(top) < twice or len(stack) < twice + skipped:
            raise _UnclearError
        at = len(stack) - twice - skipped
        stack[at:at] = top


def _same_fresh(one: str, fresh: str) -> bool:
    """Whether both are the object that one instruction made; a frame names only where that instruction is."""
    return one.startswith(FRESH) and one.partition(":")[0] == fresh.partition(":")[0]


def _without_last(places: list[str], count: int) -> list[str]:
    """The local variables without the last ones, of which a long or double is one."""
    places = list(places)
    for _ in range(count):
        last = places.pop()
        if last == TOP and places and places[-1] in (LONG, DOUBLE):
            places.pop()
    return places
