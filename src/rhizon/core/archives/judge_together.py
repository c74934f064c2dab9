"""The archives of one server judged together.

An entry class may extend, create or call what another archive brings. So each archive is judged with all that its code
can come to; which these are is told by checksums of packages, and only where one of them names client code is anything
read. References are followed once for the entries of all archives; where that finds something, once more for each
archive that can come to it.
"""

from collections.abc import Callable, Collection, Iterable, Mapping

from rhizon.core.archives.class_path import ClassPath, View
from rhizon.core.archives.class_store import Classes, ClassStore
from rhizon.core.archives.evidence import Evidence, certain_evidence, evidence_by_place, judge_code
from rhizon.core.archives.package_graph import Node
from rhizon.core.archives.scan import Scanned, client_namespaces, with_evidence
from rhizon.core.model.game import GameDefinition

__all__ = ["judge_together"]

_ROUNDS = 3  # an archive that turns out to be for players makes others miss its classes
_CLEAN = Evidence(verdict="clean")
_UNUSED = Evidence(verdict="unused")
_TELLING = {"certain": 0, "possible": 1, "clean": 2, "unused": 3}


def judge_together(
    archives: Mapping[str, Scanned],
    open_classes: Callable[[str], Classes | None],
    games: Mapping[str, GameDefinition],
    may_go_on: Callable[[], bool] = lambda: True,
) -> dict[str, Scanned]:
    """The archives by file name, each with the verdict that it has beside the others.

    ``open_classes`` gives the classes of one by its name, None where it cannot be read any more. Archives for players
    do not count as present, since a server does not get them: who needs a class of such a one misses it. Once
    ``may_go_on`` says no, the others keep the verdict that they have alone.
    """
    judged, store = dict(archives), ClassStore(open_classes)
    for _ in range(_ROUNDS):
        path = ClassPath(judged, store)
        certain = {name: with_evidence(judged[name], one) for name, one in _certain(judged, path, games, may_go_on)}
        if not certain:
            break
        judged |= certain
    for game in sorted({one.game for one in judged.values() if one.game in games and one.game is not None}):
        judged |= _judged_of_game(judged, ClassPath(judged, store), games[game], may_go_on)
    unused = (name for name, one in judged.items() if _is_library(one) and one.code.evidence is None)
    if not any(_starts(one, games) for one in judged.values()):
        judged |= {name: with_evidence(judged[name], _UNUSED) for name in list(unused)}
    return judged


def _starts(one: Scanned, games: Collection[str | None]) -> bool:
    """Whether a loader starts something of it on a server."""
    has_entry = one.facts is not None and bool(one.facts.entry) and one.code.evidence is not None
    return has_entry and one.game in games and one.placement != "player"


def _is_library(one: Scanned) -> bool:
    """Whether it names client code and no loader starts anything of it."""
    return bool(one.code.client_in) and not (one.facts and one.facts.entry) and one.placement != "player"


def _certain(
    archives: Mapping[str, Scanned],
    path: ClassPath,
    games: Mapping[str, GameDefinition],
    may_go_on: Callable[[], bool],
) -> Iterable[tuple[str, Evidence]]:
    """The archives of which something is certain now, and was not; small ones first."""
    for name in sorted(archives, key=lambda each: (archives[each].code.classes, each)):
        one = archives[name]
        if not _starts(one, games) or not may_go_on():
            continue
        if path.leads(name):
            assert one.facts is not None and one.game is not None
            view = View(name, path)
            evidence = certain_evidence(view.code(), one.facts.entry, client_namespaces(games[one.game]))
            if evidence is not None:
                yield name, view.with_archives(evidence)


def _judged_of_game(
    archives: Mapping[str, Scanned], path: ClassPath, game: GameDefinition, may_go_on: Callable[[], bool]
) -> dict[str, Scanned]:
    """The archives that a game's loaders start, and the libraries that these use, where their verdict changes. One that
    no entry comes to is "unused"; where time runs out, only what was found counts."""
    starting = [name for name, one in archives.items() if _starts(one, (game.id,)) and path.leads(name)]
    libraries = [name for name, one in archives.items() if _is_library(one)]
    found: dict[Node, Evidence] = {}
    whole = may_go_on()
    if starting and whole:
        view = View("", path)
        entries = [entry for name in sorted(starting) for entry in _entries(archives[name])]
        client = client_namespaces(game)
        found, whole = evidence_by_place(view.code(), entries, client, view.node_of_step, may_go_on)
        found = {node: view.with_archives(one) for node, one in found.items()}
    judged = {}
    if whole:
        path.only_to(node for node, one in found.items() if one.verdict != "clean")
    for name in sorted(starting, key=lambda each: (archives[each].code.classes, each)):
        evidence = _beside(name, archives[name], path, game) if may_go_on() else None
        if evidence is not None and evidence != archives[name].code.evidence:
            judged[name] = with_evidence(archives[name], evidence)
    for name in libraries:
        seen = [one for (holder, _), one in found.items() if holder == name]
        best = min(seen, key=lambda one: _TELLING[one.verdict], default=_UNUSED)
        if whole or best.verdict == "possible":
            judged[name] = with_evidence(archives[name], best)
    return judged


def _beside(name: str, one: Scanned, path: ClassPath, game: GameDefinition) -> Evidence:
    """The verdict on an archive that a loader starts."""
    assert one.code.evidence is not None and one.facts is not None
    if not path.leads(name):
        return _CLEAN
    view = View(name, path)
    return view.with_archives(judge_code(view.code(), one.facts.entry, client_namespaces(game)))


def _entries(one: Scanned) -> tuple[str, ...]:
    return one.facts.entry if one.facts is not None else ()
