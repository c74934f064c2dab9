"""Types as the verifier sees them (JVMS 4.10.1.2), and what instructions of a fixed effect do to the stack (6.5)."""

__all__ = [
    "DOUBLE",
    "EFFECTS",
    "FLOAT",
    "FRESH",
    "INT",
    "LONG",
    "NULL",
    "PRIMITIVE_ARRAYS",
    "TOP",
    "places_of",
    "type_of",
]

# Verification types (JVMS 4.10.1.2): these marks, names of classes with slashes, and descriptors of arrays.
INT, FLOAT, LONG, DOUBLE, TOP, NULL, FRESH = "!I", "!F", "!J", "!D", "!T", "!N", "!U"
_OF_LETTER = {"I": INT, "Z": INT, "B": INT, "C": INT, "S": INT, "F": FLOAT, "J": LONG, "D": DOUBLE}
PRIMITIVE_ARRAYS = {4: "[Z", 5: "[C", 6: "[F", 7: "[D", 8: "[B", 9: "[S", 10: "[I", 11: "[J"}


def type_of(descriptor: str) -> str:
    """The verification type of a field descriptor (JVMS 4.3.2)."""
    if descriptor.startswith("["):
        return descriptor
    return descriptor[1:-1] if descriptor.startswith("L") else _OF_LETTER[descriptor]


def _effects() -> dict[int, tuple[int, tuple[str, ...]]]:
    """Of instructions with a fixed effect: how many values they take off the stack and what they put there
    (JVMS 6.5); a long or double is one value here."""
    table: dict[int, tuple[int, tuple[str, ...]]] = {0x00: (0, ()), 0x01: (0, (NULL,)), 0xC2: (1, ()), 0xC3: (1, ())}

    def put(first: int, last: int, takes: int, *gives: str) -> None:
        for code in range(first, last + 1):
            table[code] = (takes, gives)

    put(0x02, 0x08, 0, INT)
    put(0x09, 0x0A, 0, LONG)
    put(0x0B, 0x0D, 0, FLOAT)
    put(0x0E, 0x0F, 0, DOUBLE)
    put(0x10, 0x11, 0, INT)
    for code, kind in ((0x15, INT), (0x16, LONG), (0x17, FLOAT), (0x18, DOUBLE)):
        put(code, code, 0, kind)
    for index, kind in enumerate((INT, LONG, FLOAT, DOUBLE)):
        put(0x1A + 4 * index, 0x1D + 4 * index, 0, kind)
        put(0x2E + index, 0x2E + index, 2, kind)  # loads from an array
        for code in range(0x60 + index, 0x74, 4):  # add, subtract, multiply, divide, remainder
            put(code, code, 2, kind)
        put(0x74 + index, 0x74 + index, 1, kind)
    put(0x33, 0x35, 2, INT)
    put(0x4F, 0x56, 3)
    put(0x57, 0x57, 1)
    for code, kind in ((0x78, INT), (0x79, LONG), (0x7A, INT), (0x7B, LONG), (0x7C, INT), (0x7D, LONG)):
        put(code, code, 2, kind)
    for code in range(0x7E, 0x84):
        put(code, code, 2, LONG if code % 2 else INT)
    put(0x84, 0x84, 0)
    for code, kind in zip(
        range(0x85, 0x94),
        (LONG, FLOAT, DOUBLE, INT, FLOAT, DOUBLE, INT, LONG, DOUBLE, INT, LONG, FLOAT, INT, INT, INT),
        strict=True,
    ):
        put(code, code, 1, kind)
    put(0x94, 0x98, 2, INT)
    put(0x99, 0x9E, 1)
    put(0x9F, 0xA6, 2)
    put(0xA7, 0xA7, 0)
    put(0xAA, 0xAB, 1)
    put(0xAC, 0xAF, 1)
    put(0xB1, 0xB1, 0)
    put(0xBE, 0xBE, 1, INT)
    put(0xC6, 0xC7, 1)
    put(0xC8, 0xC8, 0)
    return table


EFFECTS = _effects()


def places_of(kind: str) -> list[str]:
    """The places that a value of a type takes among the local variables: two for a long or a double."""
    return [kind, TOP] if kind in (LONG, DOUBLE) else [kind]
