"""Where the classes of an archive are in its file: enough to read one again without reading the archive's directory.

Remembered with the facts of an archive, for sets of hundreds of archives of which a few classes each are wanted. A
file that has changed meanwhile gives no class: what is read must have the name and the checksum that were noted.
"""

import struct
import zlib
from array import array
from collections.abc import Callable
from typing import NamedTuple

from rhizon.core.archives.classes import LONGEST_CLASS, ArchiveClasses
from rhizon.core.archives.entries import Archive, Bytes

__all__ = ["PlacedClasses", "places_of"]

_PLACE = struct.Struct("<QIIIB")  # offset of the header, packed size, size, checksum; 1: deflated, 2: not in this file
_INSIDE = _PLACE.pack(0, 0, 0, 0, 2)
_HEADER = 30  # bytes of a local file header before the name (APPNOTE.TXT 4.3.7)


class _Place(NamedTuple):
    """One class in a file; offsets and sizes in bytes."""

    offset: int
    packed: int
    size: int
    checksum: int
    how: int


def places_of(classes: ArchiveClasses, archive: Archive) -> bytes:
    """The places of all classes in the order of their names; those of archives inside have none."""
    return b"".join(
        _place(archive, path) if one is archive else _INSIDE
        for _, (one, path) in sorted(classes.where.items(), key=lambda item: item[0].encode())
    )


def _place(archive: Archive, path: str) -> bytes:
    entry = archive.place(path)
    return _PLACE.pack(*entry) if entry is not None else _INSIDE


class PlacedClasses:
    """The classes of a file by their places; ``names`` are the checksums of their names in the same order. ``whole``
    opens the archive for a class that is in an archive inside."""

    def __init__(self, data: Bytes, names: bytes, places: bytes, whole: Callable[[], ArchiveClasses | None]) -> None:
        self._data = data
        self._numbers = {checksum: number for number, checksum in enumerate(array("I", names))}
        self._places = places
        self._open = whole
        self._whole: ArchiveClasses | None = None

    def __len__(self) -> int:
        return len(self._numbers)

    def __contains__(self, name: object) -> bool:
        """Whether there is a class of this name (with slashes)."""
        return isinstance(name, str) and self.read_if_whole(name) is not None

    def read_if_whole(self, name: str) -> bytes | None:
        """The bytes of a class; None where there is none, or it is damaged or no longer there."""
        number = self._numbers.get(zlib.crc32(name.encode()))
        if number is None:
            return None
        place = _Place(*_PLACE.unpack_from(self._places, number * _PLACE.size))
        if place.how == 2:
            return self._from_inside(name)
        try:
            return self._read(name, place)
        except (OSError, zlib.error):
            return None

    def _read(self, name: str, place: _Place) -> bytes | None:
        wanted = f"{name}.class".encode()
        # the header, its name and most of what follows in one go: a second one only where it has extra fields
        data = self._data.read_at(place.offset, _HEADER + len(wanted) + 48 + place.packed)
        if len(data) < _HEADER or data[:4] != b"PK\x03\x04" or place.size > LONGEST_CLASS:
            return None
        length, extra = struct.unpack_from("<HH", data, 26)
        path = data[_HEADER : _HEADER + length]
        if path != wanted and not (path.startswith(b"META-INF/versions/") and path.endswith(b"/" + wanted)):
            return None
        begin = _HEADER + length + extra
        packed = data[begin : begin + place.packed]
        if len(packed) < place.packed:
            packed = self._data.read_at(place.offset + begin, place.packed)
        found = zlib.decompressobj(-15).decompress(packed, place.size + 1) if place.how == 1 else packed
        return found if len(found) == place.size and zlib.crc32(found) == place.checksum else None

    def _from_inside(self, name: str) -> bytes | None:
        if self._whole is None:
            self._whole = self._open()
        return self._whole.read_if_whole(name) if self._whole is not None else None
