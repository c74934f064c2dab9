"""Instructions of class files, by the table of the specification (JVMS 6.5): lengths, wide, switches, annotations."""

import struct
import unittest

from rhizon.core.archives.bytecode import check_methods, refs_of
from rhizon.core.archives.classfile import ClassFileError, Ref, parse_class

CODE, OBJECT, OTHER, LAST, MEMBER, MARK, ENUM = 7, 4, 9, 13, 11, 14, 15
LATER = struct.pack(">BH", 0xBB, LAST)  # new far/Last: what is read wrong before it is not seen, or more is
FOUND = Ref("new", "far/Last")
# operands of each opcode in bytes, where none of them leads into the constant pool
PLAIN = {
    **dict.fromkeys((*range(0x10), *range(0x1A, 0x36), *range(0x3B, 0x84), *range(0x85, 0x99), *range(0xAC, 0xB2)), 0),
    **dict.fromkeys((0xBE, 0xBF, 0xC2, 0xC3), 0),
    **dict.fromkeys((0x10, *range(0x15, 0x1A), *range(0x36, 0x3B), 0xA9, 0xBC), 1),
    **dict.fromkeys((0x11, 0x84, *range(0x99, 0xA9), 0xC6, 0xC7), 2),
    **dict.fromkeys((0xC8, 0xC9), 4),
}
CALL = Ref("call", "far/Other", "run", "()V")
REFERRING = (
    (b"\x12\x09", Ref("class", "far/Other")),
    (b"\x13\x00\x09", Ref("class", "far/Other")),
    *((bytes([code, 0, MEMBER]), CALL._replace(kind="field")) for code in range(0xB2, 0xB6)),
    *((bytes([code, 0, MEMBER]), CALL) for code in range(0xB6, 0xB9)),
    (bytes([0xB9, 0, MEMBER, 1, 0]), CALL),
    *((bytes([code, 0, OTHER]), Ref("class", "far/Other")) for code in (0xBD, 0xC0, 0xC1)),
    (bytes([0xC5, 0, OTHER, 2]), Ref("class", "far/Other")),
)


def text(value: bytes) -> bytes:
    return b"\x01" + struct.pack(">H", len(value)) + value


def class_file(code: bytes, marks: bytes = b"") -> bytes:
    """A class with one method of this code, and an annotation whose values are ``marks``."""
    pool = [
        text(b"odd/Odd"), b"\x07\x00\x01", text(b"java/lang/Object"), b"\x07\x00\x03", text(b"run"), text(b"()V"),
        text(b"Code"), text(b"far/Other"), b"\x07\x00\x08", b"\x0c\x00\x05\x00\x06", b"\x0a\x00\x09\x00\x0a",
        text(b"far/Last"), b"\x07\x00\x0c", text(b"RuntimeVisibleAnnotations"), text(b"Lfar/Mark;"),
    ]  # fmt: skip
    body = struct.pack(">HHI", 9, 9, len(code)) + code + bytes(4)
    method = struct.pack(">HHHHHI", 9, 5, 6, 1, CODE, len(body)) + body
    noted = struct.pack(">HH", 1, ENUM) + marks
    rest = struct.pack(">HI", MARK, len(noted)) + noted if marks else b""
    head = struct.pack(">HHHHHH", 1, 2, OBJECT, 0, 0, 1)
    return (
        b"\xca\xfe\xba\xbe" + struct.pack(">HHH", 0, 61, len(pool) + 1) + b"".join(pool)
        + head + method + struct.pack(">H", bool(marks)) + rest
    )  # fmt: skip


def refs(code: bytes) -> list[Ref]:
    """What a method's code refers to."""
    parsed = parse_class(class_file(code))
    check_methods(parsed)
    return list(refs_of(parsed.methods[0]))


class Instructions(unittest.TestCase):
    def test_lengths(self) -> None:
        for code, count in PLAIN.items():
            with self.subTest(code=hex(code)):
                self.assertEqual(refs(bytes([code]) + b"\xbb\x00\x09\xbb"[:count] + LATER), [FOUND])

    def test_what_is_referred_to(self) -> None:
        for code, ref in REFERRING:
            with self.subTest(code=code.hex()):
                found = refs(code + LATER)
                self.assertEqual((found[0].owner, found[0].name, found[-1]), (ref.owner, ref.name, FOUND))
                self.assertEqual(len(found), 2)

    def test_wide(self) -> None:
        for code in (*range(0x15, 0x1A), *range(0x36, 0x3B), 0xA9):
            self.assertEqual(refs(bytes([0xC4, code, 0xBB, 0]) + LATER), [FOUND])
        self.assertEqual(refs(b"\xc4\x84\xbb\x00\x09\xbb" + LATER), [FOUND])

    def test_switches_are_padded_from_the_method_begin(self) -> None:
        inside = b"\xbb\x00\x09\xbb"  # a jump whose bytes would be an instruction
        for before in range(8):
            pad = bytes(-(before + 1) % 4)
            for count in (0, 1, 3):
                table = b"\xaa" + pad + inside + struct.pack(">ii", 5, 4 + count) + inside * count
                lookup = b"\xab" + pad + inside + struct.pack(">i", count) + (bytes(4) + inside) * count
                for switch in (table, lookup):
                    with self.subTest(before=before, count=count, switch=hex(switch[0])):
                        self.assertEqual(refs(bytes(before) + switch + LATER), [FOUND])
        for switch in (struct.pack(">BxxxiiI", 0xAA, 0, 0x7FFFFFFF, 0), struct.pack(">Bxxxii", 0xAB, 0, -1)):
            self.assertRaises(ClassFileError, refs, switch)

    def test_values_of_annotations(self) -> None:
        one = b"I\x00\x01"
        values = (
            one, b"e\x00\x0f\x00\x05", b"c\x00\x0f", b"[\x00\x02" + one * 2, b"@\x00\x0f\x00\x01\x00\x05" + one,
            b"[\x00\x01" * 20 + one, b"[\x00\x00",
        )  # fmt: skip
        for value in values:
            with self.subTest(value=value[:4]):
                marks = struct.pack(">H", 2) + (b"\x00\x05" + value) * 2
                self.assertEqual(parse_class(class_file(b"\xb1", marks)).marks, ("far/Mark",))
        deep = struct.pack(">HH", 1, 5) + b"[\x00\x01" * 5000 + one
        self.assertRaises(ClassFileError, parse_class, class_file(b"\xb1", deep))
