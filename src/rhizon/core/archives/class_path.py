"""Archives of one server as its loaders see them: one class path.

An entry class may extend, create or call what another archive brings, so an archive is judged together with all that
its code can come to. Which these are is told by checksums of packages, without opening any: what an archive names and
what another holds. Only where one of them names client code is anything read.
"""

import zlib
from array import array
from collections.abc import Callable, Mapping, Sequence

import msgspec

from rhizon.core.archives.classes import ArchiveClasses
from rhizon.core.archives.evidence import Evidence, evidence_by_owner, judge_code
from rhizon.core.archives.scan import Scanned, client_namespaces, with_evidence
from rhizon.core.model.game import GameDefinition

__all__ = ["ClassPath", "judge_together", "reachable"]

_ROUNDS = 3  # an archive that turns out to be for players makes others miss its classes


def judge_together(
    archives: Mapping[str, Scanned],
    open_classes: Callable[[str], ArchiveClasses | None],
    games: Mapping[str, GameDefinition],
    may_go_on: Callable[[], bool] = lambda: True,
) -> dict[str, Scanned]:
    """The archives by file name, each with the verdict that it has beside the others; small ones first.

    ``open_classes`` gives the classes of one by its name, None where it cannot be read any more. Archives for players
    do not count as present, since a server does not get them: who needs a class of such a one misses it. Once
    ``may_go_on`` says no, the others keep the verdict that they have alone.
    """
    judged = dict(archives)
    for _ in range(_ROUNDS):
        path = ClassPath(judged, open_classes)
        order = sorted(judged, key=lambda name: (judged[name].code.classes, name))
        again = {name: _judged(name, judged[name], path, games) if may_go_on() else judged[name] for name in order}
        if again == judged:
            break
        judged = again
    return {**judged, **_libraries(judged, open_classes, games, may_go_on)}


def _libraries(
    archives: Mapping[str, Scanned],
    open_classes: Callable[[str], ArchiveClasses | None],
    games: Mapping[str, GameDefinition],
    may_go_on: Callable[[], bool],
) -> dict[str, Scanned]:
    """The libraries that name client code, judged by what the entries of the whole set use of them. One that nobody
    comes to is "unused"; where time runs out, only those get a verdict that were found to use client code."""
    wanted = {
        name for name, one in archives.items() if one.code.names_client and not (one.facts and one.facts.entry)
    } - {name for name, one in archives.items() if one.placement == "player"}
    if not wanted:
        return {}
    path = ClassPath(archives, open_classes)
    judged = {}
    by_game: dict[str, list[str]] = {}
    for name, one in sorted(archives.items()):
        starts = one.game is not None and one.game in games and one.placement != "player" and bool(_entries(one))
        if one.game is not None and starts and wanted.intersection(path.reached_from(name)):
            by_game.setdefault(one.game, []).append(name)
    whole = bool(by_game) and may_go_on()
    for game, starting in by_game.items():
        reached = {other for name in starting for other in path.reached_from(name)}
        view = _View("", [name for name in reached if not path.is_for_players(name)], path)
        entries = [entry for name in starting for entry in _entries(archives[name])]
        client = client_namespaces(games[game])
        found, ended = evidence_by_owner(view.read, entries, client, view.providers(), view.owner_of_step, may_go_on)
        whole = whole and ended
        for name in wanted & found.keys():
            if ended or found[name].verdict != "clean":
                chain = tuple(view.marked(step) for step in found[name].chain)
                judged[name] = with_evidence(archives[name], msgspec.structs.replace(found[name], chain=chain))
    unused = wanted - judged.keys() if whole or not by_game else ()
    return {**judged, **{name: with_evidence(archives[name], Evidence(verdict="unused")) for name in unused}}


def _entries(one: Scanned) -> tuple[str, ...]:
    return one.facts.entry if one.facts is not None else ()


def _judged(name: str, one: Scanned, path: "ClassPath", games: Mapping[str, GameDefinition]) -> Scanned:
    if one.facts is None or one.code.evidence is None or one.game is None or one.game not in games:
        return one
    others = path.worth_reading(name)
    if not others and one.code.evidence.verdict == "clean":
        return one
    view = _View(name, others, path)
    client = client_namespaces(games[one.game])
    players = view.is_for_players if any(path.is_for_players(other) for other in others) else None
    evidence = judge_code(view.read, one.facts.entry, client, view.providers(), players)
    if evidence.chain:
        evidence = msgspec.structs.replace(evidence, chain=tuple(view.marked(step) for step in evidence.chain))
    return with_evidence(one, evidence) if evidence != one.code.evidence else one


class ClassPath:
    """All archives of a set by file name, and which of them has a class."""

    def __init__(self, archives: Mapping[str, Scanned], open_classes: Callable[[str], ArchiveClasses | None]) -> None:
        self._archives = archives
        self._open = open_classes
        self._opened: dict[str, ArchiveClasses | None] = {}
        self._uses = {name: frozenset(array("I", one.code.uses)) for name, one in archives.items()}
        self._holders: dict[int, list[str]] = {}
        for name, one in sorted(archives.items()):
            for package in array("I", one.code.packages):
                self._holders.setdefault(package, []).append(name)
        self._names: dict[str, frozenset[int]] = {}
        self._leading: set[str] | None = None
        self._next: dict[str, list[str]] = {}

    def reached_from(self, name: str) -> list[str]:
        """Archives that the code of one may come to, itself first, nearest next."""
        return reachable(name, self._neighbours)

    def _neighbours(self, name: str) -> list[str]:
        if name not in self._next:
            found = {holder for package in self._uses[name] for holder in self._holders.get(package, ())}
            self._next[name] = sorted(found - {name})
        return self._next[name]

    def matters(self, name: str) -> bool:
        """Whether its presence can change a verdict: it names client code, or is for players itself."""
        one = self._archives[name]
        return one.code.names_client or one.placement == "player"

    def worth_reading(self, name: str) -> list[str]:
        """The other archives that the code of one may come to, and from which it may come to one that matters."""
        reached = self.reached_from(name)[1:]
        if self._leading is None:
            backwards: dict[str, list[str]] = {}
            for one in self._archives:
                for other in self._neighbours(one):
                    backwards.setdefault(other, []).append(one)
            self._leading = {
                leads
                for one in self._archives
                if self.matters(one)
                for leads in reachable(one, lambda each: backwards.get(each, ()))
            }
        return [one for one in reached if one in self._leading]

    def is_for_players(self, name: str) -> bool:
        """Whether no server gets the archive."""
        return self._archives[name].placement == "player"

    def classes(self, name: str) -> ArchiveClasses | None:
        """The classes of an archive of the set."""
        if name not in self._opened:
            self._opened[name] = self._open(name)
        return self._opened[name]

    def may_have(self, name: str, checksum: int) -> bool:
        """Whether an archive has a class of this checksum; wrong one time in millions, to be looked up then."""
        if name not in self._names:
            self._names[name] = frozenset(array("I", self._archives[name].code.names))
        return checksum in self._names[name]

    def holders(self, class_name: str) -> list[str]:
        """The archives that have a class (with slashes), by file name: the question that a crash asks."""
        checksum = zlib.crc32(class_name.encode())
        package = zlib.crc32(class_name.rpartition("/")[0].encode())
        found = []
        for name in self._holders.get(package, ()):
            if self.may_have(name, checksum):
                classes = self.classes(name)
                if classes is not None and class_name in classes.where:
                    found.append(name)
        return found


class _View:
    """The class path as the code of one archive sees it: its own classes, then those of the archives it can come to.
    Without an own one, as all of these see it."""

    def __init__(self, own: str, others: Sequence[str], path: ClassPath) -> None:
        self._own = own
        self._others = frozenset(others)
        self._path = path
        self._owner: dict[str, str | None] = {}

    def owner(self, class_name: str) -> str | None:
        """The archive that has a class; its own before all others."""
        if class_name not in self._owner:
            own = self._path.classes(self._own) if self._own else None
            if own is not None and class_name in own.where:
                self._owner[class_name] = self._own
            else:
                holders = [one for one in self._path.holders(class_name) if one in self._others]
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
        classes = self._path.classes(owner)
        return classes.read_if_whole(class_name) if classes is not None else None

    def providers(self) -> dict[str, list[str]]:
        """What the service files of all these archives name."""
        every: dict[str, list[str]] = {}
        for name in (*filter(None, [self._own]), *sorted(self._others)):
            classes = self._path.classes(name) if not self._path.is_for_players(name) or name == self._own else None
            for service, named in classes.providers.items() if classes is not None else ():
                every.setdefault(service, []).extend(named)
        return every

    def marked(self, step: str) -> str:
        """A step of a chain with the archive where it is not the one that is judged."""
        owner = self.owner_of_step(step)
        return f"{step} ({owner})" if owner not in (None, self._own) else step

    def owner_of_step(self, step: str) -> str | None:
        """The archive of a class, or of a class with a method, as chains name them."""
        name = step.replace(".", "/")
        return self.owner(name) or self.owner(name.rpartition("/")[0])


def reachable(start: str, neighbours: Callable[[str], Sequence[str]]) -> list[str]:
    """Everything that can be come to from ``start`` by way of neighbours, breadth first, ``start`` included."""
    order = [start]
    seen = {start}
    for one in order:
        for other in neighbours(one):
            if other not in seen:
                seen.add(other)
                order.append(other)
    return order
