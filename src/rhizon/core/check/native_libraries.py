"""Shared libraries that a native program needs, as its file says (ELF, System V ABI, chapter 5: dynamic linking)."""

import mmap
import struct
from collections.abc import Iterator
from typing import NamedTuple

__all__ = ["NeededLibraries", "needed_libraries"]

_DYNAMIC, _LOAD = 2, 1  # kinds of program headers
_NEEDED, _STRTAB, _RPATH, _RUNPATH = 1, 5, 15, 29  # tags of the dynamic section
MOST = 500
LONGEST = 4096


class NeededLibraries(NamedTuple):
    """The names of libraries, and the folders that the file itself names for them, with ``$ORIGIN`` as it is there."""

    names: tuple[str, ...]
    folders: tuple[str, ...]


class _Form(NamedTuple):
    """How numbers are written in a file."""

    header: str
    program: str
    entry: str
    wide: bool


def needed_libraries(data: "bytes | mmap.mmap") -> NeededLibraries | None:
    """None for what is no ELF file that is linked dynamically, or is damaged."""
    if data[:4] != b"\x7fELF" or len(data) < 64 or data[4] not in (1, 2) or data[5] not in (1, 2):
        return None
    order = "<" if data[5] == 1 else ">"
    wide = data[4] == 2
    form = _Form(f"{order}{'QQQIHHH' if wide else 'IIIIHHH'}", f"{order}{'IIQQQQQQ' if wide else 'IIIIIIII'}",
                 f"{order}{'qQ' if wide else 'iI'}", wide)  # fmt: skip
    try:
        return _read(data, form)
    except (struct.error, IndexError, UnicodeDecodeError):
        return None


def _read(data: "bytes | mmap.mmap", form: _Form) -> NeededLibraries | None:
    _, table, _, _, _, size, count = struct.unpack_from(form.header, data, 24)
    segments = [struct.unpack_from(form.program, data, table + number * size) for number in range(min(count, 200))]
    known = [_segment(one, form) for one in segments]
    loads = [one for one in known if one[0] == _LOAD]
    dynamic = next((one for one in known if one[0] == _DYNAMIC), None)
    if dynamic is None:
        return None
    tags = list(_entries(data[dynamic[1] : dynamic[1] + dynamic[3]], form))
    address = next((value for tag, value in tags if tag == _STRTAB), None)
    load = next((one for one in loads if address is not None and one[2] <= address < one[2] + one[3]), None)
    if load is None or address is None:
        return None
    texts = load[1] + address - load[2]

    def text(at: int) -> str:
        end = data.find(b"\0", texts + at, texts + at + LONGEST)
        return data[texts + at : max(end, texts + at)].decode("utf-8")

    names = [text(value) for tag, value in tags if tag == _NEEDED]
    paths = [text(value) for tag, value in tags if tag in (_RPATH, _RUNPATH)]
    return NeededLibraries(tuple(names[:MOST]), tuple(part for one in paths for part in one.split(":") if part))


def _segment(one: tuple[int, ...], form: _Form) -> tuple[int, int, int, int]:
    """Kind, place in the file, address, size in the file."""
    if form.wide:
        return one[0], one[2], one[3], one[5]
    return one[0], one[1], one[2], one[4]


def _entries(data: bytes, form: _Form) -> Iterator[tuple[int, int]]:
    size = struct.calcsize(form.entry)
    for tag, value in struct.iter_unpack(form.entry, data[: len(data) // size * size]):
        if tag == 0:
            return
        yield tag, value
