"""The classes of an archive and of the archives inside it, as a runtime would find them by name."""

import itertools
import sys
import zlib
from collections.abc import Iterable, Iterator

from rhizon.core.archives.classfile import class_major
from rhizon.core.archives.entries import Archive
from rhizon.core.archives.facts import MANIFEST
from rhizon.core.archives.metadata.fields import MetadataError
from rhizon.core.archives.metadata.flat import main_attributes
from rhizon.core.archives.namespaces import Namespaces
from rhizon.core.errors import TrustError

__all__ = [
    "LATEST_MAJOR",
    "LONGEST_CLASS",
    "MOST_MANIFEST",
    "RUNTIME_MAJOR",
    "ArchiveClasses",
    "archive_classes",
    "archives_inside",
    "checksums",
    "is_multi_release",
]

LATEST_MAJOR = 999  # takes every entry of a multi-release archive
RUNTIME_MAJOR = 17  # whose entries of a multi-release archive count, where no other is named
MOST_DEEP = 3  # archives in archives
MOST_INSIDE = 64 << 20  # bytes of an archive inside
MOST_ARCHIVES = 500  # inside, in all
LONGEST_CLASS = 8 << 20
MOST_SERVICES = 2_000  # files that name providers, of all that is inside
MOST_SERVICE_BYTES = 4 << 20
MOST_MANIFEST = 8 << 20
_ARCHIVES = (".jar", ".zip")
_VERSIONS = "META-INF/versions/"
_SERVICES = "META-INF/services/"
# Bytes of which names of classes are made, with slashes or dots; all others are between words.
_NAMES = b"abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_$/."
_WORDS = bytes(byte if byte in _NAMES or byte > 0x7F else 0x20 for byte in range(256))


class ArchiveClasses:
    """The classes of an archive and of those inside it, by name with slashes; read when asked. ``providers`` are those
    that its service files name, by service; ``highest`` the highest class-file major that every runtime must load;
    ``client_in`` its packages of which a class names client code, ``client_packages`` how many classes name one of the
    packages that a server does not have."""

    def __init__(self) -> None:
        self.where: dict[str, tuple[Archive, str]] = {}
        self.highest: int | None = None
        self.client_in: set[str] = set()
        self.client_packages: dict[str, int] = {}
        self.providers: dict[str, list[str]] = {}
        self._words: dict[str, set[bytes]] = {}
        self._service_files = 0
        self._service_bytes = 0

    def add(self, archive: Archive, runtime_major: int) -> list[tuple[Archive, str]]:
        """Takes note of every class that a runtime of that major would load, and gives them all. An entry
        below META-INF/versions counts only where the manifest's main section says Multi-Release (JAR File
        Specification, "Multi-release JAR files")."""
        multi = is_multi_release(archive)
        versioned: dict[str, int] = {}
        bases: list[tuple[Archive, str]] = []  # that a later release replaces, and every runtime must be able to load
        for path in archive.names():
            if path.startswith(_SERVICES):
                self._service(archive, path)
            if not path.endswith(".class") or path.endswith("module-info.class"):
                continue
            name, release = path.removesuffix(".class"), 0
            if name.startswith(_VERSIONS):
                number, _, name = name.removeprefix(_VERSIONS).partition("/")
                if not (multi and number.isascii() and number.isdecimal() and int(number) <= runtime_major):
                    continue
                release = int(number)
            if release < versioned.get(name, 0):
                bases += [] if release else [(archive, path)]
                continue
            if not release and name in self.where:
                continue
            if not versioned.get(name, 1):
                bases.append(self.where[name])
            versioned[name] = release
            self.where[name] = (archive, path)
        return [*(self.where[name] for name in versioned), *bases]

    def search(self, found: Iterable[tuple[Archive, str]], client: Namespaces) -> None:
        """Reads classes for what is remembered of them: their highest major, the packages that they name (too many
        rather than too few), and whether any names client code."""
        for archive, path in found:
            data = archive.head(path, 8) if client.is_empty else archive.read(path, LONGEST_CLASS)
            if client.named_in(data):
                self.client_in.add(_class_name(path).rpartition("/")[0])
                for package in client.counted_in(data):
                    self.client_packages[package] = self.client_packages.get(package, 0) + 1
            major = class_major(data)
            if major is not None:
                # every word in the bytes, at the speed of split: the few that name a package are picked out once
                package = _class_name(path).rpartition("/")[0]
                self._words.setdefault(package, set()).update(data.translate(_WORDS).split())
                if not path.startswith(_VERSIONS):
                    self.highest = major if self.highest is None else max(self.highest, major)

    def _service(self, archive: Archive, path: str) -> None:
        """Providers that a file names, one a line; what is beyond the bounds names none."""
        self._service_files += 1
        self._service_bytes += archive.size(path)
        if self._service_files > MOST_SERVICES or self._service_bytes > MOST_SERVICE_BYTES:
            return
        lines = archive.read(path, 1 << 20).decode("utf-8", "replace").splitlines()
        named = [line.partition("#")[0].strip() for line in lines]
        self.providers.setdefault(path.removeprefix(_SERVICES), []).extend(filter(None, named))

    def read(self, name: str) -> bytes | None:
        """The bytes of a class. Raises TrustError where they are damaged."""
        found = self.where.get(name)
        return found[0].read(found[1], LONGEST_CLASS) if found is not None else None

    def __len__(self) -> int:
        return len(self.where)

    def __contains__(self, name: object) -> bool:
        """Whether there is a class of this name (with slashes)."""
        return name in self.where

    def lift_budget(self) -> None:
        """From now on reading a class costs nothing of what opening the archive may cost."""
        for archive, _ in self.where.values():
            archive.budget = None

    def read_if_whole(self, name: str) -> bytes | None:
        """The bytes of a class; None where they are damaged, too, as for a class that is not there."""
        try:
            return self.read(name)
        except TrustError:
            return None

    def uses(self) -> dict[int, bytes]:
        """For each of its packages, by checksum, those of the packages that its classes name. What precedes a name in a
        class file may look like a part of it (the ``L`` of a descriptor, the length of a text), so each counts without
        its first letter too."""
        found = {}
        for package, words in self._words.items():
            every = {word.replace(b".", b"/").rpartition(b"/")[0] for word in words if b"/" in word or b"." in word}
            found[zlib.crc32(package.encode())] = _checksums_of(every | {name[1:] for name in every})
        return found


def _class_name(path: str) -> str:
    """The class that an entry of an archive is, with slashes."""
    name = path.removesuffix(".class")
    return name.removeprefix(_VERSIONS).partition("/")[2] if name.startswith(_VERSIONS) else name


def is_multi_release(archive: Archive) -> bool:
    """Whether a runtime looks for versioned entries in it. A manifest that cannot be read says nothing."""
    if MANIFEST not in archive or archive.size(MANIFEST) > MOST_MANIFEST:
        return False
    data = archive.read(MANIFEST)
    if b"multi-release" not in data.lower():
        return False
    try:
        return main_attributes(data).get("multi-release", "").lower() == "true"
    except MetadataError:
        return False


def archive_classes(archive: Archive, runtime_major: int = RUNTIME_MAJOR) -> ArchiveClasses:
    """The classes of an archive and of those inside it, none of them read yet. Raises TrustError."""
    classes = ArchiveClasses()
    for one in (archive, *(inner for _, inner in archives_inside(archive))):
        classes.add(one, runtime_major)
    return classes


def archives_inside(archive: Archive) -> list[tuple[str, Archive]]:
    """Archives in it by path, and in those; what is damaged, too deep or beyond the bounds is passed over. Raises
    TrustError where reading them costs too much."""
    return list(itertools.islice(_below(archive, 0), MOST_ARCHIVES))


def _below(archive: Archive, depth: int) -> Iterator[tuple[str, Archive]]:
    for path in archive.names():
        if path.endswith(_ARCHIVES) and depth < MOST_DEEP and archive.size(path) <= MOST_INSIDE:
            try:
                if archive.budget is not None:
                    archive.budget.hold(archive.size(path))
                inner = Archive(archive.read(path), f"{archive.source}: {path}", archive.budget)
            except TrustError as wrong:
                if wrong.code == "archive-costly":
                    raise
                continue
            yield path, inner
            for below, one in _below(inner, depth + 1):
                yield f"{path}: {below}", one


def checksums(names: Iterable[str]) -> bytes:
    """Four bytes (a CRC) for each name, in the order of the names."""
    return _checksums_of(name.encode() for name in names)


def _checksums_of(names: Iterable[bytes]) -> bytes:
    return b"".join(zlib.crc32(name).to_bytes(4, sys.byteorder) for name in sorted(names))
