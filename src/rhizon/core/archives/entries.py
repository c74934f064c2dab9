"""The entries of a zip archive, each with a name that stays in its folder and a size that is bounded."""

import io
import stat
import zipfile
import zlib
from collections.abc import Iterator

from rhizon.core.errors import TrustError
from rhizon.core.names import RelPath, UnsafeNameError, fold, plain, safe_path

__all__ = ["MOST_BYTES", "MOST_ENTRIES", "Archive"]

MOST_ENTRIES = 100_000
MOST_BYTES = 8 << 30
# Ordinary text deflates 3 to 20 times; only bombs and long runs of one byte go beyond this.
MOST_RATIO = 200
RATIO_FREE_BYTES = 1 << 20


class Archive:
    """A zip read from bytes. ``source`` names it in messages.

    Opening it checks every entry: a hostile archive raises :class:`TrustError` before one byte of it
    is unpacked.
    """

    def __init__(self, data: bytes, source: str) -> None:
        self.source = source
        self._data = memoryview(data)
        try:
            self._zip = zipfile.ZipFile(io.BytesIO(data))
        except (zipfile.BadZipFile, ValueError, NotImplementedError, OSError) as broken:
            raise _bad(
                source, "archive-unreadable", f"it is not a whole zip archive ({plain(str(broken), 120)})"
            ) from None
        self._entries = self._checked(self._zip.infolist())

    def _checked(self, infos: list[zipfile.ZipInfo]) -> dict[RelPath, zipfile.ZipInfo]:
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
        return entries

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

    def read(self, name: str, most: int = MOST_BYTES) -> bytes:
        """One entry's bytes; more than ``most``, or more than promised, is a :class:`TrustError`."""
        info = self._entries[RelPath(name)]
        if info.file_size > most:
            raise _bad(self.source, "archive-bomb", f"{plain(name, 120)!r} has {info.file_size} bytes, {most} are read")
        data = self._inflated(info, info.file_size + 1)
        if len(data) != info.file_size or zlib.crc32(data) != info.CRC:
            raise self._damaged(info, "its length or check sum is not the one that it promises")
        return data

    def head(self, name: str, count: int) -> bytes:
        """The first bytes of an entry, without unpacking the rest; TrustError when even they are damaged."""
        return self._inflated(self._entries[RelPath(name)], count, 16 * count + 64)[:count]

    def _inflated(self, info: zipfile.ZipInfo, most: int, packed_most: int | None = None) -> bytes:
        """Straight from the bytes: zipfile's own way to one entry costs more than inflating a small one. Only
        ``packed_most`` bytes are looked at where that is said: what zlib is given and not asked for it copies."""
        at = info.header_offset
        lengths = self._data[at + 26 : at + 30]
        if bytes(self._data[at : at + 4]) != b"PK\x03\x04" or len(lengths) < 4:
            raise self._damaged(info, "it is not where the directory says")
        begin = at + 30 + int.from_bytes(lengths[:2], "little") + int.from_bytes(lengths[2:], "little")
        packed = self._data[begin : begin + min(info.compress_size, packed_most or info.compress_size)]
        if info.compress_type == zipfile.ZIP_STORED:
            return bytes(packed[:most])
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
        where = f"its entry {plain(info.filename, 120)!r} is damaged"
        return _bad(self.source, "archive-unreadable", f"{where} ({plain(why, 120)})")

    def files(self) -> Iterator[tuple[RelPath, bytes]]:
        """Every file with its bytes, in name order."""
        for name in self.names():
            yield name, self.read(name)


def _shown(info: zipfile.ZipInfo) -> str:
    return repr(plain(info.orig_filename, 120))


def _bad(source: str, code: str, why: str) -> TrustError:
    return TrustError(
        code,
        f"{source} cannot be used: {why}",
        hint="Get the archive again from where it is published; if it comes the same, tell its author.",
    )
