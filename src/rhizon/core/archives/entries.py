"""The entries of a zip archive, each with a name that stays in its folder and a size that is bounded.

An archive is read by position from wherever it is (:class:`Bytes`), so that a large one costs no memory. What its
directory says is checked before anything is unpacked. Whoever only looks into archives of strangers gives a
:class:`Budget` for all that is unpacked of one, archives inside it included.
"""

import io
import stat
import zipfile
import zlib
from collections.abc import Iterator
from typing import Protocol

from rhizon.core.errors import TrustError
from rhizon.core.names import RelPath, UnsafeNameError, fold, printable, safe_path

__all__ = ["MOST_BYTES", "MOST_ENTRIES", "Archive", "Budget", "Bytes", "MemoryBytes"]

MOST_ENTRIES = 100_000
MOST_DIRECTORY = 24 << 20  # bytes of the central directory
MOST_BYTES = 8 << 30
# Ordinary text deflates 3 to 20 times; only bombs and long runs of one byte go beyond this.
MOST_RATIO = 200
RATIO_FREE_BYTES = 1 << 20
_END = b"PK\x05\x06"  # APPNOTE.TXT 4.3.16
_END_64 = b"PK\x06\x06"  # 4.3.14
_END_BYTES, _LONGEST_COMMENT = 22, 65_535


class Bytes(Protocol):
    """Bytes that are somewhere, read by position."""

    size: int

    def read_at(self, offset: int, count: int) -> bytes:
        """At most ``count`` bytes from ``offset`` on; fewer only at the end."""


class MemoryBytes:
    """Bytes in memory."""

    def __init__(self, data: bytes) -> None:
        self._data = data
        self.size = len(data)

    def read_at(self, offset: int, count: int) -> bytes:
        """A slice."""
        return self._data[offset : offset + count]


class Budget:
    """What looking into one archive may cost: bytes that are unpacked of it in all, by default 64 MiB and 24 times its
    own size, at most 1 GiB, and bytes of archives inside it that are held in memory."""

    HELD = 96 << 20

    def __init__(self, source: str, size: int) -> None:
        self._source = source
        self._left = min((64 << 20) + 24 * size, 1 << 30)
        self._held = self.HELD

    def spend(self, count: int) -> None:
        """Raises :class:`TrustError` when the archive costs more than its size allows."""
        self._left -= count
        if self._left < 0:
            raise _bad(self._source, "archive-costly", "reading it costs far too much for an archive of its size")

    def hold(self, count: int) -> None:
        """The same for bytes that stay in memory."""
        self._held -= count
        if self._held < 0:
            raise _bad(self._source, "archive-costly", "the archives inside it take too much memory")


class _Stream(io.RawIOBase):
    """Bytes as the file that zipfile wants."""

    def __init__(self, data: Bytes) -> None:
        self._data = data
        self._at = 0

    def readable(self) -> bool:
        return True

    def seekable(self) -> bool:
        return True

    def seek(self, offset: int, whence: int = io.SEEK_SET) -> int:
        base = {io.SEEK_SET: 0, io.SEEK_CUR: self._at, io.SEEK_END: self._data.size}[whence]
        if base + offset < 0:
            raise ValueError("a position before the beginning")
        self._at = base + offset
        return self._at

    def tell(self) -> int:
        return self._at

    def readinto(self, buffer: "memoryview") -> int:  # type: ignore[override]
        data = self._data.read_at(self._at, len(buffer))
        buffer[: len(data)] = data
        self._at += len(data)
        return len(data)


class Archive:
    """A zip. ``source`` names it in messages.

    Opening it checks every entry: a hostile archive raises :class:`TrustError` before one byte of it
    is unpacked.
    """

    def __init__(self, data: bytes | Bytes, source: str, budget: Budget | None = None) -> None:
        self.source = source
        self.budget = budget
        self._data: Bytes = MemoryBytes(data) if isinstance(data, bytes) else data
        self._check_directory()
        try:
            self._zip = zipfile.ZipFile(io.BufferedReader(_Stream(self._data), 1 << 16))
        except (zipfile.BadZipFile, ValueError, NotImplementedError, OSError, OverflowError, EOFError) as broken:
            raise _bad(
                source, "archive-unreadable", f"it is not a complete zip archive ({printable(str(broken), 120)})"
            ) from None
        self._entries = self._checked(self._zip.infolist())

    def _check_directory(self) -> None:
        """Refuses a central directory that is too long to be read at all, by what its end record says."""
        tail = self._data.read_at(
            max(self._data.size - _END_BYTES - _LONGEST_COMMENT, 0), _END_BYTES + _LONGEST_COMMENT
        )
        at = tail.rfind(_END)
        if at < 0 or len(tail) < at + _END_BYTES:
            return  # zipfile says what is wrong
        entries = int.from_bytes(tail[at + 10 : at + 12], "little")
        size = int.from_bytes(tail[at + 12 : at + 16], "little")
        wide = tail.rfind(_END_64, 0, at)
        if wide >= 0 and len(tail) >= wide + 56:
            entries = max(entries, int.from_bytes(tail[wide + 32 : wide + 40], "little"))
            size = max(size if size != 0xFFFFFFFF else 0, int.from_bytes(tail[wide + 40 : wide + 48], "little"))
        if entries > MOST_ENTRIES or min(size, self._data.size) > MOST_DIRECTORY:
            raise _bad(
                self.source, "archive-bomb", f"it says that it has {entries} entries in {size} bytes of directory"
            )

    def _checked(self, infos: list[zipfile.ZipInfo]) -> dict[RelPath, zipfile.ZipInfo]:
        """The entries, once names, sizes and offsets are shown to be harmless. Raises TrustError."""
        if len(infos) > MOST_ENTRIES:
            raise _bad(self.source, "archive-bomb", f"it has {len(infos)} entries, at most {MOST_ENTRIES} are read")
        entries: dict[RelPath, zipfile.ZipInfo] = {}
        folded: dict[str, str] = {}
        total = 0
        for info in infos:
            try:
                path = safe_path(info.orig_filename.rstrip("/"))
            except UnsafeNameError as why:
                raise _bad(
                    self.source, "archive-hostile", f"its entry {_shown(info)} could leave its folder: {why}"
                ) from None
            if stat.S_ISLNK(info.external_attr >> 16):
                raise _bad(self.source, "archive-hostile", f"its entry {_shown(info)} is a symbolic link")
            if info.is_dir():
                continue
            if info.flag_bits & 0x1:
                raise _bad(self.source, "archive-encrypted", f"its entry {_shown(info)} is encrypted")
            twin = folded.setdefault(fold(path), path)
            if path in entries or twin != path:
                raise _bad(
                    self.source, "archive-hostile", f"two of its entries are the same file: {twin!r}, {_shown(info)}"
                )
            total += info.file_size
            packed = max(info.compress_size, 1)
            if total > MOST_BYTES or (info.file_size > RATIO_FREE_BYTES and info.file_size > MOST_RATIO * packed):
                raise _bad(
                    self.source, "archive-bomb", f"its entry {_shown(info)} would unpack to {info.file_size} bytes"
                )
            entries[path] = info
        self._check_overlaps(entries)
        return entries

    def _check_overlaps(self, entries: dict[RelPath, zipfile.ZipInfo]) -> None:
        """Refuses entries that share bytes: a few of them can be unpacked thousands of times."""
        end, before = 0, ""
        for info in sorted(entries.values(), key=lambda one: one.header_offset):
            if info.header_offset < end:
                names = f"{printable(before, 80)!r} and {_shown(info)}"
                raise _bad(self.source, "archive-bomb", f"its entries {names} are the same bytes")
            end = info.header_offset + 30 + info.compress_size
            before = info.orig_filename

    def names(self) -> tuple[RelPath, ...]:
        """The files in it, sorted."""
        return tuple(sorted(self._entries))

    def __contains__(self, name: object) -> bool:
        return name in self._entries

    def size(self, name: str) -> int:
        """Unpacked size in bytes, as the archive promises."""
        return self._entries[RelPath(name)].file_size

    def executable(self, name: str) -> bool:
        """Whether it was packed as a program (on a system that marks such)."""
        return bool(self._entries[RelPath(name)].external_attr >> 16 & 0o100)

    def place(self, name: str) -> tuple[int, int, int, int, int] | None:
        """Where an entry is: offset of its header, packed and unpacked size, CRC-32, and 1 where it is deflated, 0
        where it is stored; None for another way of packing."""
        info = self._entries[RelPath(name)]
        if info.compress_type not in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED):
            return None
        deflated = int(info.compress_type == zipfile.ZIP_DEFLATED)
        return info.header_offset, info.compress_size, info.file_size, info.CRC, deflated

    def read(self, name: str, most: int = MOST_BYTES) -> bytes:
        """One entry's bytes; more than ``most``, or more than promised, is a :class:`TrustError`."""
        info = self._entries[RelPath(name)]
        if info.file_size > most:
            raise _bad(
                self.source, "archive-bomb", f"{printable(name, 120)!r} has {info.file_size} bytes, {most} are read"
            )
        data = self._inflated(info, info.file_size + 1)
        if len(data) != info.file_size or zlib.crc32(data) != info.CRC:
            raise self._damaged(info, "its length or checksum does not match")
        return data

    def head(self, name: str, count: int) -> bytes:
        """The first bytes of an entry, without unpacking the rest; TrustError when even they are damaged."""
        return self._inflated(self._entries[RelPath(name)], count, 16 * count + 64)[:count]

    def _inflated(self, info: zipfile.ZipInfo, most: int, packed_most: int | None = None) -> bytes:
        """Straight from the bytes: zipfile's own way to one entry costs more than inflating a small one. Only
        ``packed_most`` bytes are looked at where that is said: what zlib is given and not asked for it copies."""
        if self.budget is not None:
            self.budget.spend(most)
        count = min(info.compress_size, packed_most or info.compress_size)
        # the header, its name and most of what follows in one go: a second one only where it has extra fields
        guess = 30 + len(info.orig_filename.encode("utf-8", "replace")) + 32
        data = self._data.read_at(info.header_offset, guess + count)
        if data[:4] != b"PK\x03\x04" or len(data) < 30:
            raise self._damaged(info, "it is not at the offset in the directory")
        begin = 30 + int.from_bytes(data[26:28], "little") + int.from_bytes(data[28:30], "little")
        packed = data[begin : begin + count]
        if begin + count > len(data):
            packed = self._data.read_at(info.header_offset + begin, count)
        if info.compress_type == zipfile.ZIP_STORED:
            return packed[:most]
        if info.compress_type == zipfile.ZIP_DEFLATED:
            try:
                return zlib.decompressobj(-15).decompress(packed, most)
            except zlib.error as broken:
                raise self._damaged(info, str(broken)) from None
        try:
            with self._zip.open(info) as entry:
                return entry.read(most)
        except (zipfile.BadZipFile, NotImplementedError, EOFError, RuntimeError, OSError, ValueError) as broken:
            raise self._damaged(info, str(broken)) from None

    def _damaged(self, info: zipfile.ZipInfo, why: str) -> TrustError:
        where = f"its entry {printable(info.filename, 120)!r} is damaged"
        return _bad(self.source, "archive-unreadable", f"{where} ({printable(why, 120)})")

    def files(self) -> Iterator[tuple[RelPath, bytes]]:
        """Every file with its bytes, in name order."""
        for name in self.names():
            yield name, self.read(name)


def _shown(info: zipfile.ZipInfo) -> str:
    return repr(printable(info.orig_filename, 120))


def _bad(source: str, code: str, why: str) -> TrustError:
    return TrustError(
        code,
        f"{source} cannot be used: {why}",
        hint="Download the archive again from its publisher; if it is the same, report it to its author.",
    )
