"""Try the targets in their order of preference and take the first that carries the list best."""

import functools

import msgspec

from rhizon.core.errors import NoSolutionError
from rhizon.core.finding import Finding
from rhizon.core.model.catalog import LoaderBuild
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.lock import Dropped, Target
from rhizon.core.names import suggestions
from rhizon.core.solve.engine import RefusedError
from rhizon.core.solve.failure import Failure, no_solution
from rhizon.core.solve.held_back import beside_what
from rhizon.core.solve.optimise import Kept, Ladder, keep_most, most_current
from rhizon.core.solve.problem import Request, Shelf
from rhizon.core.solve.project import ABSENT
from rhizon.core.solve.reasons import Fact, Wished, sentence
from rhizon.core.solve.refusal import folded, irreducible
from rhizon.core.solve.search import Assumption, Search
from rhizon.core.solve.solution import Solution, make_lock
from rhizon.core.solve.space import Space
from rhizon.core.solve.targets import candidates
from rhizon.core.solve.universe import Universe
from rhizon.core.solve.watch import GaveUpError, Watch
from rhizon.core.units import counted

__all__ = ["solve"]


class _Best(msgspec.Struct):
    """The best target so far; ``cost`` is what it gives up, in the order in which that counts: how many optional
    wishes, which (earlier ones count more), how many changes of a lock that is to be kept."""

    cost: tuple[int, tuple[bool, ...], int]
    target: Target
    build: LoaderBuild | None
    kept: Kept
    dropped: tuple[Dropped, ...]
    behind: int | None = None
    behind_proved: bool = True


def solve(request: Request, game: GameDefinition, shelf: Shelf, watch: Watch | None = None) -> Solution:
    """The preferred target that meets every required wish and keeps most optional ones.

    Raises :class:`NoSolutionError` with irreducible cores and verified repairs when none does, and when it is not
    decided before ``watch`` is over; an answer that was found by then is returned, with a finding that says so.
    """
    watch = watch if watch is not None else Watch()
    shelf = _Remembering(shelf)
    universe = Universe(request, game, shelf)
    findings = _known(request, game, shelf, universe)
    host = shelf.host(game.id)
    targets = _keep_first(request, candidates(request, game, host[1]))
    universe.warm(targets[0][0])
    best, failures, untried = _tried(universe, targets, watch)
    if best is None:
        raise no_solution(universe, failures, watch)
    findings += _kept_findings(universe, best, untried)
    findings += [
        Finding(
            code="catalog-contradiction",
            severity="warning",
            subject=f"{name} {version}",
            what=f"the catalog has {count} different releases of this version; none of them is used",
            remedy="Report it to the catalog's maintainer; choose another release until then.",
        )
        for name, version, count in sorted(universe.contradictions)
    ]
    why = beside_what(universe, best.target, best.kept.chosen, {one.item for one in best.kept.given_up}, watch)
    lock = make_lock(universe, best.target, best.build, host, best.kept.chosen, best.dropped, why)
    return Solution(lock=lock, findings=tuple(findings))


def _tried(
    universe: Universe, targets: list[tuple[Target, LoaderBuild | None]], watch: Watch
) -> tuple[_Best | None, list[Failure], int]:
    """The best target, those that carry not even the required wishes, and how many were not decided when the time was
    over. Raises NoSolutionError where nothing was found by then."""
    request = universe.request
    best: _Best | None = None
    failures: list[Failure] = []
    for number, (target, build) in enumerate(targets):
        watch.phase(f"target {number + 1} of {len(targets)}: {target.words_for(universe.game.title)}")
        try:
            outcome = _on_target(universe, target, build, watch)
        except GaveUpError:
            if best is None:
                raise _not_decided(request, len(targets) - number, len(targets), watch) from None
            return best, failures, len(targets) - number
        if isinstance(outcome, Failure):
            failures.append(outcome)
            continue
        if best is None or outcome.cost < best.cost:
            best = outcome
        if not any(outcome.cost) or (request.keep is not None and best.target == request.keep.target):
            break
        if not outcome.kept.proved and watch.over():
            return best, failures, len(targets) - number - 1
    return best, failures, 0


def _not_decided(request: Request, left: int, count: int, watch: Watch) -> NoSolutionError:
    refused = count - left
    return NoSolutionError(
        "solve-gave-up",
        f"{request.source} was not decided {watch.limit()}",
        details=[f"of {count} targets {refused} cannot carry it; {left} are not decided"] if count > 1 else [],
        hint="Allow more time (rhizon solve --wait), set the target in the list ([target]), or use narrower ranges.",
    )


class _Remembering:
    """A shelf whose answers are asked for once: repairs ask the same again and again."""

    def __init__(self, shelf: Shelf) -> None:
        self._shelf = shelf
        self.prefetch = shelf.prefetch
        self.index = functools.cache(shelf.index)
        self.item = functools.cache(shelf.item)
        self.host = functools.cache(shelf.host)
        self.other_game = functools.cache(shelf.other_game)
        self.hidden = shelf.hidden


def _keep_first(
    request: Request, found: list[tuple[Target, LoaderBuild | None]]
) -> list[tuple[Target, LoaderBuild | None]]:
    """A lock that is to be kept is kept with its target, where that is still admissible."""
    if request.keep is None:
        return found
    return sorted(found, key=lambda one: one[0] != request.keep.target)  # type: ignore[union-attr]


def _on_target(universe: Universe, target: Target, build: LoaderBuild | None, watch: Watch) -> _Best | Failure:
    """Solves on one target. Raises GaveUpError."""
    required = [name for name, wish in universe.request.wishes.items() if not wish.optional]
    space = Space(universe, target, required)
    search = Search(space, watch)
    try:
        return _best_on(universe, search, build, required)
    except RefusedError as refused:
        carried = sum(bool(space.domain(space.project(name)) & ~ABSENT) for name in required)
        return Failure(target, search, refused, carried)


def _best_on(universe: Universe, search: Search, build: LoaderBuild | None, required: list[str]) -> _Best:
    """Most optional wishes, then fewest changes of a lock that is to be kept. Raises RefusedError, GaveUpError."""
    request = universe.request
    space = search.space
    optional = [name for name, wish in request.wishes.items() if wish.optional]
    if not optional and request.keep is None and request.prefer == "list":
        return _Best((0, (), 0), space.target, build, Kept(search.run(required), [], least=0), ())
    soft = [Assumption(name, space.project(name).mask(request.wishes[name].range), ("wish", name)) for name in optional]
    kept = keep_most(search, list(request.wishes), (), soft)
    dropped = tuple(Dropped(id=one.item, reason=_why_dropped(space, search, required, one)) for one in kept.given_up)
    gone = {one.item for one in kept.given_up}
    cost = (len(dropped), tuple(name in gone for name in optional))
    if (request.keep is None and request.prefer == "list") or not kept.proved:
        return _Best((*cost, 0), space.target, build, kept, dropped)
    hard = [one for one in soft if one.item not in gone]
    wishes = [name for name in request.wishes if name not in gone]
    if request.keep is None:
        current = most_current(search, wishes, hard, [_ladder(space, name) for name in wishes])
        final = Kept(current.chosen, [], least=0)
        return _Best(
            (*cost, 0), space.target, build, final, dropped, behind=current.behind, behind_proved=current.proved
        )
    stay = []
    for name, version in universe.locked.items():
        project = space.project(name)
        locked = sum(2 << at for at, one in enumerate(project.releases) if one.version == version)
        stay.append(Assumption(name, locked | ABSENT, ("stay", name)))
    final = keep_most(search, wishes, hard, stay)
    return _Best((*cost, len(final.given_up)), space.target, build, final, dropped)


def _ladder(space: Space, name: str) -> Ladder:
    """The releases of a wish that the list and the target admit, the newest first."""
    project = space.project(name)
    left = space.admitted(project) & project.mask(space.request.wishes[name].range)
    bits = [2 << at for at in range(len(project.releases)) if left & 2 << at]
    return Ladder(name, tuple(reversed(bits)))


def _why_dropped(space: Space, search: Search, required: list[str], one: Assumption) -> str:
    """Why an optional wish is not met: what refuses it by itself, else the kept ones that it does not fit beside."""
    try:
        search.run([*required, one.item], [one])
    except RefusedError as refused:
        facts = irreducible(space, {*refused.facts, *_as_wished(space, one)}, search.watch)
        told = [sentence(fact, space.request) for fact in folded(facts) if not isinstance(fact, Wished)]
        return "; ".join(told)[:400]
    except GaveUpError:
        return "it was not decided whether it fits"
    return "it does not fit together with the other optional items"


def _as_wished(space: Space, one: Assumption) -> list[Fact]:
    """An assumption as a fact, so that a refusal under it can be explained without it."""
    fact = Wished(one.item, space.request.wishes[one.item].range.text)
    space.meaning[fact] = {one.item: one.mask}
    return [fact]


def _kept_findings(universe: Universe, best: _Best, untried: int) -> list[Finding]:
    """What to know of a solution that stays close to a lock, or was not proved to be the best."""
    request = universe.request
    findings = [
        Finding(
            code="yanked-kept",
            severity="warning",
            subject=f"{name} {release.version}",
            what=f"withdrawn by its author ({release.yanked}), kept from the lock",
            remedy="Solve without --close-to to change to another release.",
        )
        for name, release in sorted(best.kept.chosen.items())
        if release.yanked
    ]

    def unproved(code: str, what: str, remedy: str) -> None:
        findings.append(Finding(code=code, severity="note", subject=request.source, what=what, remedy=remedy))

    longer = "Allow more time (rhizon solve --wait), or use narrower ranges."
    if best.behind is not None:
        sure = "the fewest possible" if best.behind_proved else "the fewest found"
        unproved(
            "releases-behind", f"the whole list is {counted(best.behind, 'release')} behind the newest, {sure}", ""
        )
    elif not best.kept.proved and request.keep is not None and all(one.tag[0] == "stay" for one in best.kept.given_up):
        unproved(
            "keep-not-proved",
            "it was not proved that the lock is kept as far as possible",
            "Check the changes; pin what must stay.",
        )
    elif not best.kept.proved:
        optional = sum(wish.optional for wish in request.wishes.values())
        kept, most = optional - len(best.kept.given_up), optional - best.kept.least
        unproved("optional-not-proved", f"{kept} of {optional} optional items are kept, at most {most} can be", longer)
    if untried:
        unproved("target-not-proved", f"{counted(untried, 'target')} could not be compared in time", longer)
    return findings


def _known(request: Request, game: GameDefinition, shelf: Shelf, universe: Universe) -> list[Finding]:
    """Every wish must be in a catalog; look-alikes of a wish are findings."""
    index = shelf.index(game.id).items
    unknown = []
    for name in request.wishes:
        if universe.item(name) is not None:
            continue
        other = shelf.other_game(game.id, name)
        guesses = suggestions(name, index)
        if other is not None:
            unknown.append(f"{name} exists only for the game {other}")
        elif guesses:
            unknown.append(f"{name} is in no catalog; similar: {', '.join(guesses)}")
        else:
            unknown.append(f"{name} is in no catalog")
    if unknown:
        lead = unknown[0] if len(unknown) == 1 else f"{len(unknown)} items of {request.source} are not available"
        raise NoSolutionError(
            "unknown-content",
            lead,
            details=unknown if len(unknown) > 1 else (),
            hint="Correct the id in the list, or add a catalog that has it (--catalog).",
        )
    return _look_alikes(request, {name: line.title for name, line in index.items()})


def _look_alikes(request: Request, titles: dict[str, str]) -> list[Finding]:
    """Items of the solution that are easily mistaken for others."""
    asked = {_key(text) for name in request.wishes for text in (name, titles.get(name, name))}
    alike: dict[str, set[str]] = {}
    for name, title in titles.items():
        for key in {_key(name), _key(title)} if name != title else (_key(name),):
            if key in asked:
                alike.setdefault(key, set()).add(name)
    findings = []
    for name in request.wishes:
        rivals = alike.get(_key(name), set()) | alike.get(_key(titles.get(name, name)), set())
        findings += [
            Finding(
                code="look-alike",
                severity="warning",
                subject=name,
                what=f"similar to {rival} ({titles[rival]}), which is another item",
                remedy=f"If you meant {rival}, write that id in the list.",
            )
            for rival in sorted(rivals - {name})
        ]
    return findings


_BETWEEN = {ord(c): None for c in " -_.,:;!?'\"()[]{}/\\&+*#|"}


def _key(text: str) -> str:
    """A name without what people leave out or put between words."""
    return text.casefold().translate(_BETWEEN)
