"""Which code of a set of archives may come to client code, told by packages and without opening any archive.

A node is a package of an archive, an edge leads from one to every archive's package that its classes name. All names
are checksums: one that is the same by chance makes something be looked at in vain, and nothing be missed.
"""

import zlib
from array import array
from collections.abc import Iterable, Mapping

from rhizon.core.archives.scan import Scanned

__all__ = ["Node", "PackageGraph", "package_of"]

Node = tuple[str, int]  # the file name of an archive, and the checksum of a package's name


def package_of(class_name: str) -> int:
    """The checksum of a class's package; the class with slashes."""
    return zlib.crc32(class_name.rpartition("/")[0].encode())


class PackageGraph:
    """The packages of all archives of a set by file name."""

    def __init__(self, archives: Mapping[str, Scanned]) -> None:
        self._archives = archives
        self._nodes: list[Node] = []
        self._holders: dict[int, list[int]] = {}
        for name, one in sorted(archives.items()):
            for package in array("I", one.code.packages):
                self._holders.setdefault(package, []).append(len(self._nodes))
                self._nodes.append((name, package))
        self._numbers = {node: number for number, node in enumerate(self._nodes)}
        self._leading: frozenset[Node] | None = None
        self._beside_players: frozenset[Node] | None = None
        self._provided: dict[int, list[int]] | None = None
        self._backwards: dict[int, list[int]] | None = None

    def only_to(self, ends: Iterable[Node]) -> None:
        """From now on only these nodes and archives for players are ends, and what leads to them."""
        numbers = self._players() | {self._numbers[node] for node in ends if node in self._numbers}
        self._leading = frozenset(self._nodes[number] for number in self._leading_to(numbers))

    def holders(self, package: int) -> list[str]:
        """The archives that have a package, by file name."""
        return [self._nodes[number][0] for number in self._holders.get(package, ())]

    def leads(self, name: str, entries: Iterable[str]) -> bool:
        """Whether client code or an archive for players may be come to from entry classes (with dots) of an archive."""
        packages = {package_of(entry.replace(".", "/")) for entry in entries}
        return any((name, package) in self.leading for package in packages)

    @property
    def leading(self) -> frozenset[Node]:
        """Everything from which client code or an archive for players may be come to."""
        if self._leading is None:
            self._leading = frozenset(self._nodes[number] for number in self._leading_to(self._ends()))
        return self._leading

    @property
    def beside_players(self) -> frozenset[Node]:
        """Everything that names a package that an archive for players has, of others."""
        if self._beside_players is None:
            players = self._players()
            others = (number for number in range(len(self._nodes)) if players and number not in players)
            found = (number for number in others if any(other in players for other in self._next(number)))
            self._beside_players = frozenset(self._nodes[number] for number in found)
        return self._beside_players

    def _players(self) -> set[int]:
        return {n for n, (name, _) in enumerate(self._nodes) if self._archives[name].placement == "player"}

    def _next(self, number: int) -> Iterable[int]:
        """The nodes that a node names, and those that provide the services that it has."""
        name, package = self._nodes[number]
        for used in array("I", self._archives[name].code.uses.get(package, b"")):
            yield from self._holders.get(used, ())
        yield from self._providers().get(package, ())

    def _providers(self) -> dict[int, list[int]]:
        """What service files name, by the package of the service: who asks for a service names that one only."""
        if self._provided is None:
            self._provided = {}
            for name, one in self._archives.items():
                for service, providers in one.code.providers.items():
                    numbers = (self._numbers.get((name, package_of(each.replace(".", "/")))) for each in providers)
                    known = [number for number in numbers if number is not None]
                    self._provided.setdefault(package_of(service.replace(".", "/")), []).extend(known)
        return self._provided

    def _ends(self) -> set[int]:
        """The nodes that name client code or are of an archive for players."""
        naming = {name: frozenset(array("I", one.code.client_in)) for name, one in self._archives.items()}
        return self._players() | {n for n, (name, package) in enumerate(self._nodes) if package in naming[name]}

    def _leading_to(self, ends: set[int]) -> set[int]:
        """The ends, and every node from which one of them can be come to."""
        if not ends:
            return ends
        if self._backwards is None:
            self._backwards = {}
            for number in range(len(self._nodes)):
                for other in self._next(number):
                    self._backwards.setdefault(other, []).append(number)
        found, waiting = set(ends), list(ends)
        while waiting:
            for other in self._backwards.get(waiting.pop(), ()):
                if other not in found:
                    found.add(other)
                    waiting.append(other)
        return found
