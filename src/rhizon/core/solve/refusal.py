"""From a refusal to an irreducible set of facts, told as a chain."""

from collections.abc import Iterable, Mapping

from rhizon.core.solve.engine import Engine, RefusedError
from rhizon.core.solve.project import ABSENT
from rhizon.core.solve.reasons import Chain, Clash, Fact, Folded, Limit, Need, Wished, natural
from rhizon.core.solve.space import Space
from rhizon.core.solve.watch import Watch

__all__ = ["chain", "folded", "headline", "irreducible"]

MOST_CONFLICTS = 3000  # of one look at whether some facts can hold
MOST_IN_HEADLINE = 5
LONG_CHAIN = 4


def irreducible(space: Space, facts: Iterable[object], watch: Watch | None = None) -> list[Fact]:
    """Facts that cannot all hold, wishes among them, of which none can be taken away; in the order of a story.

    Deletion, with each refusal on the way shrinking the set to what it needed (Belov and Marques-Silva,
    "Accelerating MUS Extraction with Recursive Model Rotation", FMCAD 2011, section II). A fact of which that is not
    decided in bounded time, or before ``watch`` is over, stays.
    """
    watch = watch if watch is not None else Watch()
    given = list(facts)
    left = sorted(dict.fromkeys(space.told(given)), key=repr)
    refused = _refused(space, left, watch)
    if refused is None:  # why the releases of a wish cannot be, which alone is no clash
        left = sorted(dict.fromkeys(space.told([*given, *space.wished()])), key=repr)
        refused = _refused(space, left, watch)
    if refused is not None:
        left = [one for one in left if one in refused]
    needed: set[Fact] = set()
    for fact in _expendable_first(left):
        if watch.over():
            break
        if fact in needed or fact not in left:
            continue
        rest = [one for one in left if one is not fact]
        refused = _refused(space, rest, watch)
        if refused is None:
            needed.add(fact)
        else:
            left = [one for one in rest if one in refused]
    return chain(left)


def _expendable_first(facts: list[Fact]) -> list[Fact]:
    """Long facts are tried first, wishes last: what stays is short and near to the list."""
    rank = {Limit: 1, Clash: 0, Need: 0, Wished: 2}
    return sorted(facts, key=lambda one: (rank[type(one)], -len(repr(one)), repr(one)))


def _refused(space: Space, facts: list[Fact], watch: Watch) -> set[Fact] | None:
    """Facts behind the refusal when these alone cannot hold; None when they can, or when that is not decided."""
    engine = Engine()
    limits: dict[str, list[tuple[int, Fact]]] = {}
    clauses: list[tuple[Mapping[str, int], Fact]] = []
    names: dict[str, None] = {}
    for fact in facts:
        said: Mapping[str, int] = space.meaning[fact]
        names.update(dict.fromkeys(said))
        if len(said) == 1 and isinstance(fact, Wished | Limit):
            name, mask = next(iter(said.items()))
            limits.setdefault(name, []).append((mask, fact))
        else:
            clauses.append((said, fact))
    variables = {name: engine.variable(space.project(name).full, limits.get(name, ())) for name in names}
    try:
        for name, var in variables.items():
            if not engine.domain[var]:
                raise engine.refuse(var, space.project(name).full)
        for literals, fact in clauses:
            false = engine.assert_clause(engine.add({variables[n]: mask for n, mask in literals.items()}, fact))
            if false is not None:
                engine.learn(false)
        _complete(engine, watch)
    except RefusedError as refused:
        return {fact for fact in facts if fact in refused.facts}
    return None


def _complete(engine: Engine, watch: Watch) -> None:
    """Any values that fit, absent first; as far as bounded time goes. Raises RefusedError."""
    while engine.conflicts < MOST_CONFLICTS and not watch.over():
        false = engine.propagate()
        if false is not None:
            engine.learn(false)
            continue
        loose = next((var for var, mask in enumerate(engine.domain) if mask & (mask - 1)), None)
        if loose is None:
            return
        mask = engine.domain[loose]
        engine.decide(loose, ABSENT if mask & ABSENT else 1 << (mask.bit_length() - 1))


def chain(facts: list[Fact]) -> list[Fact]:
    """Wishes first, each followed by what it leads to; an item is spoken of before what hangs on it."""
    told: list[Fact] = []
    waiting = sorted(facts, key=lambda one: (not isinstance(one, Wished), natural(repr(one))))
    items: list[str] = []
    while waiting:
        step = next(
            (one for item in items for one in waiting if one.item == item and not isinstance(one, Wished)), None
        )
        fact = step if step is not None else waiting[0]
        waiting.remove(fact)
        told.append(fact)
        led = [fact.item]
        if isinstance(fact, Need):
            led = [name for name, _ in fact.wanted]
        elif isinstance(fact, Clash):
            led = [fact.other]
        items = [*led, *(one for one in items if one not in led)]
        if isinstance(fact, Wished) and fact.item not in items:
            items.insert(0, fact.item)
    return told


def folded(facts: list[Fact]) -> list[Fact | Folded | Chain]:
    """The same with facts of one kind told together: wishes for any release, needs and conflicts of the same releases,
    limits of one reason, and chains of needs."""
    groups: dict[object, list[Fact]] = {}
    for fact in facts:
        groups.setdefault(_kind_of(fact), []).append(fact)
    found: list[Fact | Folded | Chain] = []
    for alike in groups.values():
        found += [Folded(tuple(alike))] if len(alike) > 1 else alike
    return _chained(found)


def _chained(facts: list[Fact | Folded | Chain]) -> list[Fact | Folded | Chain]:
    """Long runs of needs, each of what the one before leads to, as one."""
    found: list[Fact | Folded | Chain] = []
    run: list[Need] = []

    def end() -> None:
        found.extend([Chain(tuple(run))] if len(run) >= LONG_CHAIN else run)
        run.clear()

    for fact in facts:
        link = isinstance(fact, Need) and len(fact.wanted) == 1 and not fact.missing and not fact.there
        if not link or (run and isinstance(fact, Need) and run[-1].wanted[0][0] != fact.item):
            end()
        if link and isinstance(fact, Need):
            run.append(fact)
        else:
            found.append(fact)
    end()
    return found


def _kind_of(fact: Fact) -> object:
    """What facts that are told together share."""
    match fact:
        case Wished(_, "*", ()):
            return Wished
        case Limit(_, _, reason, _):
            return Limit, reason
        case Need(item, versions, wanted, missing, there) if len(wanted) == 1 and not missing and not there:
            return Need, item, versions
        case Clash(item, versions, _, _, only):
            return Clash, item, versions, only
    return fact


def headline(facts: list[Fact], target: str) -> str:
    """The clash in one sentence."""
    wished = sorted((one.item for one in facts if isinstance(one, Wished)), key=natural)
    if not wished:
        return f"nothing fits on {target}"
    if len(wished) == 1:
        return f"{wished[0]} is not available on {target}"
    if len(wished) > MOST_IN_HEADLINE:
        names = f"{', '.join(wished[: MOST_IN_HEADLINE - 1])} and {len(wished) - MOST_IN_HEADLINE + 1} more"
    else:
        names = f"{', '.join(wished[:-1])} and {wished[-1]}"
    return f"{names} are not available together on {target}"
