"""Every class of an archive by itself, whoever may use it: for libraries, which start nothing.

Nothing is followed here, so nothing is said of what a server will do; it says which classes cannot be used on one.
"""

from collections.abc import Sequence

import msgspec

from rhizon.core.archives.bytecode import refs_of
from rhizon.core.archives.classes import ArchiveClasses
from rhizon.core.archives.classfile import INTERFACE, ClassFile, ClassFileError, parse_class
from rhizon.core.archives.namespaces import Namespaces
from rhizon.core.archives.verifier import loads_of_verification

__all__ = ["ClassUse", "EveryClass", "every_class"]

MOST_TOLD = 1_000  # of each kind; the counts are of all


class ClassUse(msgspec.Struct, frozen=True, kw_only=True):
    """A class (with dots), the client-only class that it needs or names, and why or in which method."""

    name: str
    client: str
    why: str


class EveryClass(msgspec.Struct, frozen=True, kw_only=True):
    """How many ``classes`` there are; ``unloadable``: those that no server can load, since an ancestor is missing or
    the verifier loads a missing one; ``referring``: others with a method that names client code, once for each class
    that it names. The lists end at :data:`MOST_TOLD`, the counts are of all classes; ``unread`` are damaged ones."""

    classes: int
    unloadable_count: int
    referring_count: int
    unread: int
    unloadable: tuple[ClassUse, ...]
    referring: tuple[ClassUse, ...]


def every_class(classes: ArchiveClasses, client: Namespaces) -> EveryClass:
    """Looks at each class of an archive and of those inside it. Raises TrustError where reading costs too much."""
    supers: dict[str, tuple[str, ...]] = {}
    parsed: dict[str, ClassFile] = {}
    raw: dict[str, bytes] = {}
    interfaces: dict[str, bool] = {}
    unread = 0
    for name in classes.where:
        data = classes.read_if_whole(name)
        try:
            found = parse_class(data) if data is not None else None
        except ClassFileError:
            found = None
        if found is None or data is None:
            unread += 1
            continue
        supers[name] = (found.super_name, *found.interfaces)
        interfaces[name] = bool(found.access & INTERFACE)
        if client.named_in(data):
            parsed[name], raw[name] = found, data
    missing = _Missing(supers, classes, client)
    unloadable: list[ClassUse] = []
    referring: list[ClassUse] = []
    for name in supers:
        why = missing.ancestor(name) or (_verified(raw[name], interfaces, missing) if name in raw else None)
        if why is not None:
            unloadable.append(ClassUse(name=_dotted(name), client=_dotted(why[0]), why=why[1]))
        elif name in parsed:
            referring += _references(parsed[name], client, missing)
    return EveryClass(
        classes=len(classes.where),
        unloadable_count=len(unloadable),
        referring_count=len({one.name for one in referring}),
        unread=unread,
        unloadable=tuple(unloadable[:MOST_TOLD]),
        referring=tuple(referring[:MOST_TOLD]),
    )


class _Missing:
    """Which classes a server does not have, and which ancestors are among them."""

    def __init__(self, supers: dict[str, tuple[str, ...]], classes: ArchiveClasses, client: Namespaces) -> None:
        self._supers = supers
        self._classes = classes
        self._client = client

    def has(self, name: str) -> bool:
        """Whether a class is client-only and not in the archive itself."""
        return self._client.has(name) and name not in self._classes.where

    def ancestor(self, name: str) -> tuple[str, str] | None:
        """The missing class that one extends or implements, however far up, and who does so."""
        waiting, seen = [name], {name}
        while waiting:
            here = waiting.pop()
            for other in self._supers.get(here, ()):
                if self.has(other):
                    return other, f"{_dotted(here)} extends or implements it"
                if other not in seen:
                    seen.add(other)
                    waiting.append(other)
        return None


def _verified(data: bytes, interfaces: dict[str, bool], missing: _Missing) -> tuple[str, str] | None:
    """The missing class that verifying a class loads."""
    for load in loads_of_verification(data, interfaces.get)[0]:
        if missing.has(load.name):
            return load.name, f"the verifier loads it for {load.method}, since {load.why}"
    return None


def _references(one: ClassFile, client: Namespaces, missing: _Missing) -> Sequence[ClassUse]:
    """Each client class or need of a screen that the methods of a class name, once."""
    found: dict[str, ClassUse] = {}
    for method in one.methods:
        for ref in refs_of(method):
            spelled = client.spelled(ref.owner) if ref.kind == "string" else ref.owner
            if spelled and (missing.has(spelled) or client.wants_screen(ref)):
                why = f"in {method.name}" + (", which needs a screen" if client.wants_screen(ref) else "")
                use = ClassUse(name=_dotted(one.name), client=_dotted(spelled), why=why)
                found.setdefault(spelled, use)
    return list(found.values())


def _dotted(name: str) -> str:
    return name.replace("/", ".")
