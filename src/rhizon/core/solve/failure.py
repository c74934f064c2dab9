"""Why no target carries a list: the clashes of the target that came nearest, and changes that lift them."""

from collections.abc import Iterator

import msgspec

from rhizon.core.errors import NoSolutionError
from rhizon.core.model.lock import Target
from rhizon.core.solve.engine import RefusedError
from rhizon.core.solve.problem import Request
from rhizon.core.solve.reasons import Fact, Need, Wished, joined, sentence
from rhizon.core.solve.refusal import folded, headline, irreducible
from rhizon.core.solve.repairs import Fit, Repair, Repairs, repairs
from rhizon.core.solve.search import Search
from rhizon.core.solve.space import Space
from rhizon.core.solve.targets import candidates
from rhizon.core.solve.universe import Universe
from rhizon.core.solve.watch import GaveUpError, Watch

__all__ = ["Failure", "no_solution"]

MOST_CLASHES = 5
MOST_TARGETS = 12  # on which a change is tried, those that came nearest first
MOST_LINES = 14  # of one clash
MOST_HIDDEN = 20  # items that are looked for in later catalogs


class Failure(msgspec.Struct):
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
            return Fit(self.target, Search(space, self.search.watch).run(required))
        space.ask_again(universe, item)
        return Fit(self.target, self.search.run(required))


class _Clash(msgspec.Struct):
    """Facts that cannot all hold, and what lifts them; the wishes of other clashes were left out for that."""

    facts: list[Fact]
    repairs: Repairs


def no_solution(universe: Universe, failures: list[Failure], watch: Watch) -> NoSolutionError:
    """The story of the target that came furthest; ties go to the preferred one. Clashes that share no wish are told one
    after the other, each with what lifts it."""
    watch.phase("looking for what would fix it")
    watch.allow_reasons()
    ranked = sorted(failures, key=lambda one: -one.carried)
    nearest = ranked[0]
    on = nearest.target.words_for(universe.game.title)
    if nearest.target.runtime_major:
        on += f", {nearest.target.runtime.capitalize()} {nearest.target.runtime_major}"
    cores, more = _cores(universe, nearest, watch)
    clashes = []
    for core in cores:
        others = {fact.item for other in cores if other is not core for fact in other if isinstance(fact, Wished)}
        clashes.append(_Clash(core, _mended(universe, core, others, ranked if not others else [nearest], watch)))
    alone = clashes[0].repairs
    together: list[Repair] | None = None
    if len(clashes) > 1:  # what lifts each on this target may be more than one change; on another target one may do
        alone = _mended(universe, [fact for core in cores for fact in core], set(), ranked, watch)
        together = _together(universe, clashes, watch) if not alone.found else None
    error = NoSolutionError(
        "no-solution",
        headline(cores[0], on) + (f", and {len(cores) - 1} more clashes" if len(cores) > 2 else
                                  ", and 1 more clash" if len(cores) == 2 else ""),
        details=[
            *_details(universe.request, clashes, alone, len(failures), more=more),
            *_hidden(universe, [fact for core in cores for fact in core]),
        ],
        hint=_hint(clashes, alone, together),
    )  # fmt: skip
    error.core = tuple(sentence(fact, universe.request) for core in cores for fact in core)
    error.clashes = tuple(
        {
            "facts": [sentence(fact, universe.request) for fact in clash.facts],
            "repairs": [_as_data(one) for one in clash.repairs.found],
        }
        for clash in clashes
    )
    error.repairs = tuple(_as_data(one) for one in alone.found)
    return error


def _as_data(repair: Repair) -> dict[str, str | None]:
    return {"kind": repair.kind, "item": repair.item, "text": repair.text}


def _together(universe: Universe, clashes: list[_Clash], watch: Watch) -> list[Repair] | None:
    """The first change of each clash, where all of them together make the list fit."""
    first = [one for clash in clashes for one in clash.repairs.found[:1]]
    if len(first) < len(clashes):
        return None
    changed = universe.request
    for one in first:
        changed = one.change(changed)
    try:
        return first if _answer(universe, changed, watch) is not None else None
    except GaveUpError:
        return None


def _cores(universe: Universe, nearest: Failure, watch: Watch) -> tuple[list[list[Fact]], bool]:
    """Irreducible clashes that share no wish, the first ones; whether there are more."""
    request = universe.request
    found = [irreducible(nearest.search.space, nearest.refused.facts, watch)]
    gone = {fact.item for fact in found[0] if isinstance(fact, Wished)}
    while gone:
        rest = _without(request, gone)
        required = [name for name, wish in rest.wishes.items() if not wish.optional]
        try:
            space = Space(universe.asked(rest), nearest.target, required)
            Search(space, watch).run(required)
        except RefusedError as refused:
            if len(found) == MOST_CLASHES:
                return found, True
            core = irreducible(space, refused.facts, watch)
            wished = {fact.item for fact in core if isinstance(fact, Wished)}
            if not wished:
                break
            found.append(core)
            gone |= wished
        except GaveUpError:
            break
        else:
            break
    return found, False


def _without(request: Request, gone: set[str]) -> Request:
    wishes = {name: wish for name, wish in request.wishes.items() if name not in gone}
    return msgspec.structs.replace(request, wishes=wishes)


def _mended(universe: Universe, core: list[Fact], others: set[str], failures: list[Failure], watch: Watch) -> Repairs:
    """Changes that lift one clash, each tried; the wishes of other clashes are left out."""
    request = _without(universe.request, others)

    def attempt(changed: Request, item: str | None) -> Fit | None:
        if item is None:
            return _answer(universe, changed, watch)
        if others:
            return _on_one(universe, changed, failures[0].target, watch)
        for failure in failures[:MOST_TARGETS]:
            try:
                return failure.again(universe.asked(changed), item)
            except RefusedError:
                continue
        return None

    return repairs(request, core, attempt)


def _on_one(universe: Universe, changed: Request, target: Target, watch: Watch) -> Fit | None:
    """A solution on one target, if there is one. Raises GaveUpError."""
    required = [name for name, wish in changed.wishes.items() if not wish.optional]
    try:
        return Fit(target, Search(Space(universe.asked(changed), target, required), watch).run(required))
    except RefusedError:
        return None


def _answer(universe: Universe, changed: Request, watch: Watch) -> Fit | None:
    """The first target that carries the required wishes, with its releases. Raises GaveUpError."""
    asked = universe.asked(changed)
    try:
        targets = candidates(changed, universe.game, universe.shelf.host(universe.game.id)[1])
    except NoSolutionError:
        return None
    for target, _ in targets:
        found = _on_one(asked, changed, target, watch)
        if found is not None:
            return found
    return None


def _details(request: Request, clashes: list[_Clash], alone: Repairs, targets: int, *, more: bool) -> Iterator[str]:
    """Each clash with what lifts it, then what lifts all of them at once."""
    number = 0
    for place, clash in enumerate(clashes, 1):
        if len(clashes) > 1:
            yield f"clash {place} of {len(clashes)}{' or more' if more else ''}:"
        told = [sentence(fact, request) for fact in folded(clash.facts)]
        for text in told[:MOST_LINES]:
            number += 1
            yield f"{number}. {text}"
        if len(told) > MOST_LINES:
            yield f"... and {len(told) - MOST_LINES} facts more (--json has all)"
        yield from _told(clash.repairs, "it" if len(clashes) == 1 else "this clash")
    if len(clashes) > 1:
        yield from _told(alone, "all of it, on one of the targets")
    if targets > 1:
        yield f"{targets} targets were tried; this one came closest"


def _hidden(universe: Universe, facts: list[Fact]) -> Iterator[str]:
    """Releases that only a later catalog has, of the items that the clashes speak of."""
    names = dict.fromkeys(fact.item for fact in facts)
    names |= dict.fromkeys(name for fact in facts if isinstance(fact, Need) for name, _ in fact.wanted)
    for name in list(names)[:MOST_HIDDEN]:
        for first, later, versions in universe.shelf.hidden(universe.game.id, name):
            shown = ", ".join(versions[-3:])
            yield f"not asked: the catalog {later} has {name} {shown}; {first}, which has {name} too, comes first"


def _told(repairs: Repairs, it: str) -> Iterator[str]:
    if repairs.found:
        one = len(repairs.found) == 1
        yield f"this change would fix {it}:" if one else f"any one of these changes would fix {it}:"
        yield from (f"- {one.text}" for one in repairs.found)
    if repairs.untried:
        yield f"not tried in time: {joined(repairs.untried)}"


def _hint(clashes: list[_Clash], alone: Repairs, together: list[Repair] | None) -> str:
    if alone.found:
        return f"For example: {alone.found[0].text}."
    if together is not None:
        return f"Each clash needs a change of its own, for example: {'; '.join(one.text for one in together)}."
    if len(clashes) > 1:
        return "Each clash needs a change of its own: remove items, or loosen [target]."
    if alone.untried:
        return "Allow more time (rhizon solve --wait), or remove items."
    return "No single change fixes this: loosen [target] or remove items."
