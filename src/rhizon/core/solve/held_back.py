"""Why a newer release of an item was not taken: which of the other releases it does not fit beside."""

from collections.abc import Collection, Mapping

from rhizon.core.model.catalog import Release
from rhizon.core.model.lock import Target
from rhizon.core.solve.engine import RefusedError
from rhizon.core.solve.reasons import Limit, Wished, joined, natural
from rhizon.core.solve.refusal import irreducible
from rhizon.core.solve.search import Assumption, Search
from rhizon.core.solve.space import Space
from rhizon.core.solve.universe import Universe
from rhizon.core.solve.watch import GaveUpError, Watch

__all__ = ["beside_what"]

MOST_WORK = 2000  # searches times items: nobody waits for reasons
MOST_CONFLICTS = 30  # of one
MOST_FACTS = 40  # of which the clash is looked for
MOST_NAMED = 3


def beside_what(
    universe: Universe, target: Target, chosen: Mapping[str, Release], gone: Collection[str], watch: Watch
) -> dict[str, str]:
    """For items whose newest release fits the target and the list, and was not taken: what it does not fit beside.

    ``gone`` are wishes that were given up.
    """
    wishes = [name for name in universe.request.wishes if name not in gone]
    asked = [
        (name, newest)
        for name in sorted(chosen)
        if (newest := _newest(universe, name, target)) is not None and newest.version > chosen[name].version
    ]
    if not asked:
        return {}
    required = [name for name in wishes if not universe.request.wishes[name].optional]
    search = Search(Space(universe, target, required), watch)
    found = {}
    for name, newest in sorted(asked, key=lambda one: one[0] not in universe.request.wishes):
        if (search.runs + 1) * len(search.space) > MOST_WORK:
            break
        try:
            with search.briefly(MOST_CONFLICTS):
                found[name] = _why(search, wishes, chosen, name, newest)
        except GaveUpError:
            if watch.over():
                break
    return {name: why for name, why in found.items() if why}


def _newest(universe: Universe, name: str, target: Target) -> Release | None:
    """The newest release that nothing speaks against by itself."""
    return next((one for one, reason in universe.releases(name, target) if not reason and not one.yanked), None)


def _why(search: Search, wishes: list[str], chosen: Mapping[str, Release], name: str, newest: Release) -> str:
    space = search.space
    project = space.project(name)
    bit = next(2 << at for at, one in enumerate(project.releases) if one is newest)
    one = Assumption(name, bit, ("newest", name))
    with_it = wishes if name in wishes else [*wishes, name]
    request = space.request
    hard = [
        Assumption(wish, space.project(wish).mask(request.wishes[wish].range), ("wish", wish))
        for wish in wishes
        if wish != name and request.wishes[wish].optional
    ]
    try:
        other = search.run(with_it, [*hard, one])
    except RefusedError as refused:
        if len(refused.facts) > MOST_FACTS:
            return ""
        fact = Wished(name, newest.version.text)
        space.meaning[fact] = {name: bit}
        facts = irreducible(space, {*refused.facts, fact}, search.watch)
        beside = {_item(fact) for fact in facts if not isinstance(fact, Wished | Limit)} | {
            fact.item for fact in facts if isinstance(fact, Wished)
        }
        named = sorted((one for one in beside if one in chosen and one != name), key=natural)
        if not named:
            return ""
        shown = [f"{one} {chosen[one].version}" for one in named[:MOST_NAMED]]
        return f"does not fit beside {joined(shown)}"
    older = [one for one in wishes if one in other and one in chosen and other[one].version < chosen[one].version]
    if older:
        return f"would need {older[0]} {other[older[0]].version} instead of {chosen[older[0]].version}"
    return ""


def _item(fact: object) -> str:
    return str(getattr(fact, "item", ""))
