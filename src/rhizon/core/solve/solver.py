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
from rhizon.core.solve.optimise import Kept, Ladder, keep_most, most_current
from rhizon.core.solve.problem import Request, Shelf
from rhizon.core.solve.project import ABSENT
from rhizon.core.solve.reasons import Fact, Wished, sentence
from rhizon.core.solve.refusal import headline, irreducible
from rhizon.core.solve.repairs import Fit, repairs
from rhizon.core.solve.search import Assumption, GaveUpError, Search
from rhizon.core.solve.solution import Solution, make_lock
from rhizon.core.solve.space import Space
from rhizon.core.solve.targets import candidates
from rhizon.core.solve.universe import Universe

__all__ = ["answer", "solve"]


class _Best(msgspec.Struct):
    """The best target so far; ``cost`` is what it gives up, in the order in which that counts."""

    cost: tuple[int, int]
    target: Target
    build: LoaderBuild | None
    kept: Kept
    dropped: tuple[Dropped, ...]
    behind: int | None = None


class _Failure(msgspec.Struct):
    """A target that does not carry the required wishes; ``carried`` counts those that it has releases for."""

    target: Target
    search: Search
    refused: RefusedError
    carried: int

    def again(self, universe: Universe, item: str) -> Fit:
        """Meets the required wishes of a question that was changed in one item only, with all that is known of the
        releases. Raises RefusedError, GaveUpError."""
        space = self.search.space
        required = [name for name, wish in universe.request.wishes.items() if not wish.optional]
        if space.carries(item):
            space = Space(universe, self.target, required)
            return Fit(self.target, Search(space).run(required))
        space.ask_again(universe, item)
        return Fit(self.target, self.search.run(required))


def solve(request: Request, game: GameDefinition, shelf: Shelf) -> Solution:
    """The preferred target that meets every required wish and keeps most optional ones.

    Raises :class:`NoSolutionError` with an irreducible core and verified repairs when none does.
    """
    shelf = _Remembering(shelf)
    universe = Universe(request, game, shelf)
    findings = _known(request, game, shelf, universe)
    host = shelf.host(game.id)
    best: _Best | None = None
    failures: list[_Failure] = []
    targets = _keep_first(request, candidates(request, game, host[1]))
    universe.warm(targets[0][0])
    for target, build in targets:
        outcome = _on_target(universe, target, build)
        if isinstance(outcome, _Failure):
            failures.append(outcome)
            continue
        if best is None or outcome.cost < best.cost:
            best = outcome
        if best.cost == (0, 0) or (request.keep is not None and best.target == request.keep.target):
            break
    if best is None:
        raise _no_solution(universe, shelf, failures)
    findings += _kept_findings(universe, best)
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
    lock = make_lock(universe, best.target, best.build, host, best.kept.chosen, best.dropped)
    return Solution(lock=lock, findings=tuple(findings))


class _Remembering:
    """A shelf whose answers are asked for once: repairs ask the same again and again."""

    def __init__(self, shelf: Shelf) -> None:
        self._shelf = shelf
        self.prefetch = shelf.prefetch
        self.index = functools.cache(shelf.index)
        self.item = functools.cache(shelf.item)
        self.host = functools.cache(shelf.host)
        self.other_game = functools.cache(shelf.other_game)


def _keep_first(
    request: Request, found: list[tuple[Target, LoaderBuild | None]]
) -> list[tuple[Target, LoaderBuild | None]]:
    """A lock that is to be kept is kept with its target, where that is still admissible."""
    if request.keep is None:
        return found
    return sorted(found, key=lambda one: one[0] != request.keep.target)  # type: ignore[union-attr]


def _on_target(universe: Universe, target: Target, build: LoaderBuild | None) -> _Best | _Failure:
    """Solves on one target. Raises RefusedError with the facts that conflict."""
    required = [name for name, wish in universe.request.wishes.items() if not wish.optional]
    space = Space(universe, target, required)
    search = Search(space)
    try:
        return _best_on(universe, search, build, required)
    except RefusedError as refused:
        carried = sum(bool(space.domain(space.project(name)) & ~ABSENT) for name in required)
        return _Failure(target, search, refused, carried)
    except GaveUpError:
        raise NoSolutionError(
            "solve-gave-up",
            f"no answer was found for {universe.request.source} within the search limit",
            hint="Set the target in the list ([target]), or use narrower ranges.",
        ) from None


def _best_on(universe: Universe, search: Search, build: LoaderBuild | None, required: list[str]) -> _Best:
    """Most optional wishes, then fewest changes of a lock that is to be kept. Raises RefusedError."""
    request = universe.request
    space = search.space
    optional = [name for name, wish in request.wishes.items() if wish.optional]
    if not optional and request.keep is None and request.prefer == "list":
        return _Best((0, 0), space.target, build, Kept(search.run(required), [], proved=True), ())
    soft = [Assumption(name, space.project(name).mask(request.wishes[name].range), ("wish", name)) for name in optional]
    kept = keep_most(search, list(request.wishes), (), soft)
    dropped = tuple(Dropped(id=one.item, reason=_why_dropped(space, search, required, one)) for one in kept.given_up)
    if request.keep is None and request.prefer == "list":
        return _Best((len(dropped), 0), space.target, build, kept, dropped)
    gone = {one.item for one in kept.given_up}
    hard = [one for one in soft if one.item not in gone]
    wishes = [name for name in request.wishes if name not in gone]
    if request.keep is None:
        current = most_current(search, wishes, hard, [_ladder(space, name) for name in wishes])
        final = Kept(current.chosen, [], proved=current.proved)
        return _Best((len(dropped), 0), space.target, build, final, dropped, current.behind)
    stay = []
    for name, version in universe.locked.items():
        project = space.project(name)
        locked = sum(2 << at for at, one in enumerate(project.releases) if one.version == version)
        stay.append(Assumption(name, locked | ABSENT, ("stay", name)))
    final = keep_most(search, wishes, hard, stay)
    return _Best((len(dropped), len(final.given_up)), space.target, build, final, dropped)


def _ladder(space: Space, name: str) -> Ladder:
    """The releases of a wish that the list and the target admit, the newest first."""
    project = space.project(name)
    left = space.admitted(project) & project.mask(space.request.wishes[name].range)
    bits = [2 << at for at in range(len(project.releases)) if left & 2 << at]
    return Ladder(name, tuple(reversed(bits)))


def _why_dropped(space: Space, search: Search, required: list[str], one: Assumption) -> str:
    try:
        search.run([*required, one.item], [one])
    except RefusedError as refused:
        facts = irreducible(space, {*refused.facts, *_as_wished(space, one)})
        told = [sentence(fact, space.request) for fact in facts if not isinstance(fact, Wished)]
        return "; ".join(told)[:400]
    return "it does not fit together with the other optional items"


def _as_wished(space: Space, one: Assumption) -> list[Fact]:
    """An assumption as a fact, so that a refusal under it can be explained without it."""
    fact = Wished(one.item, space.request.wishes[one.item].range.text)
    space.meaning[fact] = {one.item: one.mask}
    return [fact]


def _kept_findings(universe: Universe, best: _Best) -> list[Finding]:
    """What to know of a solution that stays close to a lock."""
    findings = []
    for name, release in sorted(best.kept.chosen.items()):
        if release.yanked:
            findings.append(
                Finding(
                    code="yanked-kept",
                    severity="warning",
                    subject=f"{name} {release.version}",
                    what=f"withdrawn by its author ({release.yanked}), kept from the lock",
                    remedy="Solve without --close-to to change to another release.",
                )
            )
    if best.behind is not None:
        sure = "the fewest possible" if best.kept.proved else "the fewest found"
        findings.append(
            Finding(
                code="releases-behind",
                severity="note",
                subject=universe.request.source,
                what=f"the whole list is {best.behind} releases behind the newest, {sure}",
            )
        )
    elif not best.kept.proved:
        findings.append(
            Finding(
                code="keep-not-proved",
                severity="note",
                subject=universe.request.source,
                what="it was not proved that the lock is kept as far as possible",
                remedy="Check the changes; pin what must stay.",
            )
        )
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


def _no_solution(universe: Universe, shelf: Shelf, failures: list[_Failure]) -> NoSolutionError:
    """The story of the target that came furthest; ties go to the preferred one."""
    nearest = max(failures, key=lambda one: one.carried)
    target = nearest.target
    on = target.words_for(universe.game.title)
    if target.runtime_major:
        on += f", {target.runtime.capitalize()} {target.runtime_major}"
    facts = irreducible(nearest.search.space, nearest.refused.facts)

    def attempt(changed: Request, item: str | None) -> Fit | None:
        try:
            if item is None:
                return answer(changed, universe.game, shelf)
            return nearest.again(universe.asked(changed), item)
        except (NoSolutionError, RefusedError, GaveUpError):
            return None

    core = tuple(sentence(fact, universe.request) for fact in facts)
    mended = tuple(repairs(universe.request, facts, attempt))
    tried = len(failures)
    error = NoSolutionError(
        "no-solution",
        headline(facts, on),
        details=[
            *(f"{number}. {text}" for number, text in enumerate(core, 1)),
            *([f"{tried} targets were tried; this one came closest"] if tried > 1 else []),
            *(["any one of these changes would fix it:"] if mended else []),
            *(f"- {one.text}" for one in mended),
        ],
        hint=f"For example: {mended[0].text}."
        if mended
        else "No single change fixes this: loosen [target] or remove items.",
    )
    error.core = core
    error.repairs = tuple({"kind": one.kind, "item": one.item, "text": one.text} for one in mended)
    return error


def answer(request: Request, game: GameDefinition, shelf: Shelf) -> Fit:
    """The first target that carries the required wishes, with its releases; no story when there is none.

    Raises NoSolutionError.
    """
    universe = Universe(request, game, shelf)
    for target, build in candidates(request, game, shelf.host(game.id)[1]):
        outcome = _on_target(universe, target, build)
        if isinstance(outcome, _Best):
            return Fit(target, outcome.kept.chosen)
    raise NoSolutionError("no-solution", "it has no solution", hint="")
