"""Archives of one server as its loaders see them: one class path.

An archive is opened when a class of it is asked for, and not before.
"""

import zlib
from array import array
from collections.abc import Iterable, Mapping, Sequence

import msgspec

from rhizon.core.archives.class_store import ClassStore
from rhizon.core.archives.classfile import ClassFile
from rhizon.core.archives.evidence import Evidence, VisibleCode
from rhizon.core.archives.package_graph import Node, PackageGraph, package_of
from rhizon.core.archives.scan import Scanned

__all__ = ["ClassPath", "View"]


class ClassPath:
    """All archives of a set by file name, and which of them has a class."""

    def __init__(self, archives: Mapping[str, Scanned], store: ClassStore) -> None:
        self._archives = archives
        self.store = store
        self._graph = PackageGraph(archives)
        self._names: dict[str, frozenset[int]] = {}

    def leads(self, name: str) -> bool:
        """Whether the entries of an archive may come to what matters for a verdict."""
        facts = self._archives[name].facts
        return facts is not None and self._graph.leads(name, facts.entry)

    @property
    def leading(self) -> frozenset[Node]:
        """What is worth reading: everything from which something that matters may be come to."""
        return self._graph.leading

    @property
    def beside_players(self) -> frozenset[Node]:
        """Everything that names a package of an archive for players."""
        return self._graph.beside_players

    def only_to(self, ends: Iterable[Node]) -> None:
        """From now on nothing matters but these nodes: all others were followed and lead nowhere."""
        self._graph.only_to(ends)

    def is_for_players(self, name: str) -> bool:
        """Whether no server gets the archive."""
        return self._archives[name].placement == "player"

    def providers(self, name: str) -> Mapping[str, Sequence[str]]:
        """What the service files of an archive name."""
        return self._archives[name].code.providers

    def has(self, name: str, class_name: str) -> bool:
        """Whether an archive has a class (with slashes). It is opened only where its checksums say so: they are wrong
        one time in millions."""
        if name not in self._names:
            self._names[name] = frozenset(array("I", self._archives[name].code.names))
        if zlib.crc32(class_name.encode()) not in self._names[name]:
            return False
        classes = self.store.classes(name)
        return classes is not None and class_name in classes

    def holders(self, class_name: str) -> list[str]:
        """The archives that have a class (with slashes), by file name: the question that a crash asks."""
        return [name for name in self._graph.holders(package_of(class_name)) if self.has(name, class_name)]


class View:
    """The class path as the code of one archive sees it: its own classes, then those of others that are worth reading.
    Without an own one, as all of these see it."""

    def __init__(self, own: str, path: ClassPath) -> None:
        self._own = own
        self._nodes = path.leading
        self._path = path
        self._owner: dict[str, str | None] = {}

    def code(self) -> VisibleCode:
        """What following references asks for."""
        names_players = self.names_players if self._path.beside_players else None
        return VisibleCode(self.read, self.providers(), self.parsed, self.is_for_players, names_players)

    def names_players(self, class_name: str) -> bool:
        """Whether a class may name one of an archive for players."""
        owner = self.owner(class_name)
        return owner is not None and (owner, package_of(class_name)) in self._path.beside_players

    def with_archives(self, evidence: Evidence) -> Evidence:
        """Evidence whose chain names the archives of its steps."""
        chain = tuple(self.marked(step) for step in evidence.chain)
        return msgspec.structs.replace(evidence, chain=chain) if chain else evidence

    def owner(self, class_name: str) -> str | None:
        """The archive that has a class; its own before all others."""
        if class_name not in self._owner:
            if self._own and self._path.has(self._own, class_name):
                self._owner[class_name] = self._own
            else:
                package = package_of(class_name)
                holders = [one for one in self._path.holders(class_name) if (one, package) in self._nodes]
                here = [one for one in holders if not self._path.is_for_players(one)]
                self._owner[class_name] = next(iter(here or holders), None)
        return self._owner[class_name]

    def is_for_players(self, class_name: str) -> str | None:
        """The archive for players that alone has a class."""
        owner = self.owner(class_name)
        return owner if owner is not None and owner != self._own and self._path.is_for_players(owner) else None

    def read(self, class_name: str) -> bytes | None:
        """The bytes of a class; None for one that no archive of the server has."""
        owner = self.owner(class_name)
        if owner is None or self.is_for_players(class_name) is not None:
            return None
        classes = self._path.store.classes(owner)
        return classes.read_if_whole(class_name) if classes is not None else None

    def parsed(self, class_name: str) -> ClassFile | None:
        """The class as it was parsed for this or another archive; None where there is none, or it is damaged."""
        owner = self.owner(class_name)
        if owner is None or self.is_for_players(class_name) is not None:
            return None
        return self._path.store.parsed(owner, class_name)

    def providers(self) -> dict[str, list[str]]:
        """What the service files of all these archives name."""
        every: dict[str, list[str]] = {}
        for name in sorted({self._own, *(other for other, _ in self._nodes)} - {""}):
            here = self._path.providers(name) if not self._path.is_for_players(name) or name == self._own else {}
            for service, named in here.items():
                every.setdefault(service, []).extend(named)
        return every

    def marked(self, step: str) -> str:
        """A step of a chain with the archive where it is not the one that is judged."""
        owner = self.owner_of_step(step)
        return f"{step} ({owner})" if owner not in (None, self._own) else step

    def owner_of_step(self, step: str) -> str | None:
        """The archive of a class, or of a class with a method, as chains name them."""
        node = self.node_of_step(step)
        return node[0] if node is not None else None

    def node_of_step(self, step: str) -> Node | None:
        """The same with the package."""
        name = step.replace(".", "/")
        for class_name in (name, name.rpartition("/")[0]):
            owner = self.owner(class_name)
            if owner is not None:
                return owner, package_of(class_name)
        return None
