"""Keep as many soft wishes as possible, by implicit hitting sets.

Everything soft is assumed; a refusal names assumptions that cannot hold together (a core); the smallest set that
hits every core seen so far is given up, and the question is asked again. The first answer is optimal, since
whatever fits must give up a hitting set (Davies and Bacchus, "Solving MAXSAT by Solving a Sequence of Simpler
SAT Instances", CP 2011). Among the smallest sets the preferred one is tried, so that answer is the preferred one, too.
"""

from collections.abc import Collection, Mapping, Sequence
from typing import NamedTuple

from rhizon.core.model.catalog import Release
from rhizon.core.solve.engine import RefusedError
from rhizon.core.solve.hitting import HittingSets, least_size
from rhizon.core.solve.search import Assumption, Search
from rhizon.core.solve.watch import GaveUpError

__all__ = ["Current", "Kept", "Ladder", "keep_most", "most_current"]

MOST_DROPPED = 6  # of one core at once, on the way to a first answer
FIRST_CONFLICTS = 500  # of all at once, before a first answer is looked for with less
NEXT_CONFLICTS = 100
MOST_PAIRED = 400  # soft ones of which each two are looked at
MOST_TRIMS = 4
MOST_DELETED = 12
MOST_WORK = 40_000  # searches times items, over one whole question: some ten seconds where each search is hard
MOST_NODES = 40_000  # of the search for the cheapest steps, over one whole question


class Kept:
    """The choice, the assumptions that were given up, and how few could have been (``least``); ``proved``: not
    fewer."""

    def __init__(self, chosen: dict[str, Release], given_up: list[Assumption], *, least: int) -> None:
        self.chosen = chosen
        self.given_up = given_up
        self.least = least

    @property
    def proved(self) -> bool:
        """Whether fewer could not have been given up, and no better ones of as many."""
        return len(self.given_up) <= self.least


def keep_most(search: Search, wishes: Sequence[str], hard: Sequence[Assumption], soft: Sequence[Assumption]) -> Kept:
    """Gives up as few of ``soft`` as possible; among as few, the later ones. A wish whose own assumption is given
    up is not a wish any more. When the time is over, the most that fitted so far. Raises RefusedError when even none
    of them fits, GaveUpError when it is not known whether they do."""
    first: RefusedError | None = None
    try:
        with search.briefly(FIRST_CONFLICTS):
            return Kept(search.run(wishes, [*hard, *soft]), [], least=0)
    except RefusedError as refused:
        first = refused
    except GaveUpError:
        search.watch.check()
    return _Most(search, wishes, hard, soft).found(first)


class _Most:
    """One search for what can be kept."""

    def __init__(
        self, search: Search, wishes: Sequence[str], hard: Sequence[Assumption], soft: Sequence[Assumption]
    ) -> None:
        self._search, self._wishes, self._hard, self._soft = search, wishes, hard, soft
        self._order = {one.tag: at for at, one in enumerate(soft)}
        self._cores: list[frozenset[int]] = []
        self._best: Kept | None = None
        self._floor = 0

    def found(self, first: RefusedError | None) -> Kept:
        """The most that can be kept, by one core after the other; ``first`` is the refusal of all, where that was
        decided."""
        watch = self._search.watch
        hitting = HittingSets(watch)
        try:
            if first is not None:
                self._learn(first)
                self._begin()
            else:
                self._grow()
            while True:
                drop = hitting.preferred(self._cores)
                self._floor = max(self._floor, len(drop))
                kept = self._tried(drop)
                if kept is not None:
                    return Kept(kept.chosen, kept.given_up, least=len(kept.given_up))
        except GaveUpError:
            if self._best is None:
                raise
            masks = (sum(1 << one for one in core) for core in self._cores)
            return Kept(self._best.chosen, self._best.given_up, least=max(self._floor, least_size(masks)))

    def _begin(self) -> None:
        """A first answer in any case: each one is kept that fits beside those before it. Then which two of them do not
        fit beside each other, as far as that follows without a search."""
        drop: set[int] = set()
        while True:
            kept = self._run(drop)
            if kept is not None:
                break
            drop |= self._cores[-1] if len(self._cores[-1]) < MOST_DROPPED else {max(self._cores[-1] - drop)}
        for at in sorted(drop):
            kept = self._run(drop - {at})
            if kept is not None:
                drop -= {at}
        if len(self._soft) <= MOST_PAIRED:
            for at, one in enumerate(self._soft):
                for other in self._search.ruled_out(self._wishes, [*self._hard, one], self._soft):
                    self._cores.append(frozenset((at, self._order[other.tag])))

    def _grow(self) -> None:
        """A first answer where all at once are too much for a first look: one more after the other, none for long."""
        drop = set(range(len(self._soft)))
        self._run(drop)
        for at in range(len(self._soft)):
            try:
                with self._search.briefly(NEXT_CONFLICTS):
                    if self._run(drop - {at}) is not None:
                        drop -= {at}
            except GaveUpError:
                self._search.watch.check()

    def _tried(self, drop: Collection[int]) -> Kept | None:
        """The answer without some, or None. Then more cores are looked for, which share nothing with the first."""
        kept = self._run(drop)
        if kept is not None:
            return kept
        gone = set(drop)
        while True:
            gone |= self._cores[-1]
            if self._run(gone) is not None:
                return None

    def _run(self, drop: Collection[int]) -> Kept | None:
        """The choice without some, or None and one core more. Raises RefusedError where the soft ones have no part in
        it."""
        kept = [one for at, one in enumerate(self._soft) if at not in drop]
        gone = {self._soft[at].item for at in drop if self._soft[at].tag[0] == "wish"}
        try:
            chosen = self._search.run([name for name in self._wishes if name not in gone], [*self._hard, *kept])
        except RefusedError as refused:
            self._learn(refused)
            return None
        found = Kept(chosen, [self._soft[at] for at in sorted(drop)], least=0)
        if self._best is None or len(found.given_up) < len(self._best.given_up):
            self._best = found
            most = len(self._soft) - max(self._floor, 1 if self._cores else 0)
            self._search.watch.step(self._search.conflicts, f"{len(kept)} of at most {most} kept")
        return found

    def _learn(self, refused: RefusedError) -> None:
        core = frozenset(self._order[tag] for tag in refused.assumed if tag in self._order)
        if not core:
            raise refused
        self._cores.append(core)


class Ladder(NamedTuple):
    """The releases of an item that could be taken, as bits, the newest first."""

    item: str
    bits: tuple[int, ...]


class Current(NamedTuple):
    """A choice with how many releases the list is behind over all; ``proved``: it cannot be less."""

    chosen: dict[str, Release]
    behind: int
    proved: bool


def most_current(
    search: Search, wishes: Sequence[str], hard: Sequence[Assumption], ladders: Sequence[Ladder]
) -> Current:
    """The fewest releases behind newest over all ladders together.

    Each item is asked to be among its newest few; a refusal says that one of some items must go a step further
    down, and the cheapest steps that satisfy everything refused so far are asked next: their sum is a lower bound.
    When that cannot be weighed up any more the choice in the order of the list is what was found. Raises RefusedError.
    """
    listed = search.run(wishes, hard)
    most = sum(_place(one, listed, search) for one in ladders)
    if most == 0:
        return Current(listed, 0, proved=True)
    try:
        return _stepped(search, wishes, hard, ladders, listed, most)
    except GaveUpError:
        return Current(listed, most, proved=False)


def _stepped(
    search: Search,
    wishes: Sequence[str],
    hard: Sequence[Assumption],
    ladders: Sequence[Ladder],
    listed: dict[str, Release],
    most: int,
) -> Current:
    """The same, below what the order of the list gives. Raises GaveUpError."""
    before = search.runs
    search.settle()
    steps = {one.item: _least(one, search) for one in ladders}
    if sum(steps.values()) == most:
        return Current(listed, most, proved=True)
    longest = {one.item: len(one.bits) - 1 for one in ladders}
    refusals: list[dict[str, int]] = []
    floor = dict(steps)
    weigher = _Weigher(floor)
    while True:
        cheapest = weigher.cheapest(refusals)
        if cheapest is None:
            return Current(listed, most, proved=False)
        steps = floor | cheapest
        if sum(steps.values()) >= most:  # nothing is below what the order of the list gives
            return Current(listed, most, proved=True)
        asked = [
            Assumption(one.item, sum(one.bits[: steps[one.item] + 1]), ("among", one.item, str(steps[one.item])))
            for one in ladders
            if steps[one.item] < longest[one.item]
        ]
        try:
            chosen = search.run(wishes, [*hard, *asked])
        except RefusedError as refused:
            core = _trimmed(search, wishes, hard, [one for one in asked if one.tag in refused.assumed])
            refusals.append({one.item: steps[one.item] + 1 for one in sorted(core)})
            if (search.runs - before) * len(search.space) > MOST_WORK:
                return Current(listed, most, proved=False)
            continue
        behind = sum(_place(one, chosen, search) for one in ladders)
        return Current(chosen, behind, proved=True)


def _trimmed(
    search: Search, wishes: Sequence[str], hard: Sequence[Assumption], core: list[Assumption]
) -> list[Assumption]:
    """Fewer assumptions that are refused all the same: asked alone as long as that leaves some out, then, where they
    are few, without each in turn. The smaller a refusal, the fewer ways there are to satisfy it."""
    for _ in range(MOST_TRIMS):
        try:
            search.run(wishes, [*hard, *core])
        except RefusedError as refused:
            smaller = [one for one in core if one.tag in refused.assumed]
            if len(smaller) == len(core):
                break
            core = smaller
    for one in core if len(core) <= MOST_DELETED else ():
        rest = [other for other in core if other is not one]
        try:
            search.run(wishes, [*hard, *rest])
        except RefusedError as refused:
            core = [other for other in rest if other.tag in refused.assumed]
    return core


def _place(ladder: Ladder, chosen: dict[str, Release], search: Search) -> int:
    project = search.space.project(ladder.item)
    taken = chosen.get(ladder.item)
    return next((at for at, bit in enumerate(ladder.bits) if project.release(bit) is taken), 0)


def _least(ladder: Ladder, search: Search) -> int:
    """How many steps down it is at least, by what follows before anything is decided."""
    left = search.space.domain(search.space.project(ladder.item))
    return next((at for at, bit in enumerate(ladder.bits) if bit & left), 0)


class _Weigher:
    """Finds the cheapest steps above a floor that satisfy refusals, until it has looked at too many ways.

    Iterative deepening over the total; each step branches on the ways out of the refusal that has fewest, and what an
    earlier branch has tried is barred from the later ones. Refusals that share no item each cost their cheapest way
    out, which bounds the total from below.
    """

    def __init__(self, floor: Mapping[str, int]) -> None:
        self._floor = floor
        self._nodes = 0
        self._budget = 0  # never less than for fewer refusals

    def cheapest(self, refusals: Sequence[dict[str, int]]) -> dict[str, int] | None:
        """Least total of steps so that of each refusal some item goes as far down as it asks."""
        while self._nodes <= MOST_NODES:
            found = self._within(refusals, self._budget, {}, {})
            if found is not None:
                return found
            self._budget += 1
        return None

    def _within(
        self, refusals: Sequence[dict[str, int]], budget: int, steps: dict[str, int], barred: dict[str, int]
    ) -> dict[str, int] | None:
        """The cheapest steps within a budget that satisfy all refusals."""
        self._nodes += 1
        if self._nodes > MOST_NODES:
            return None
        floor = self._floor
        open_ones = []
        for one in refusals:
            ways = []
            for item, far in one.items():
                at = steps.get(item, floor[item])
                if at >= far:
                    break
                if far < barred.get(item, far + 1):
                    ways.append((far - at, item, far))
            else:
                if not ways:
                    return None
                open_ones.append((len(ways), min(ways)[0], ways, one))
        if not open_ones:
            return steps
        open_ones.sort(key=lambda one: (one[0], -one[1]))
        used: set[str] = set()
        least = 0
        for _, cost, _, one in open_ones:
            if used.isdisjoint(one):
                used.update(one)
                least += cost
        if least > budget:
            return None
        rest = [one for _, _, _, one in open_ones]
        barred = dict(barred)
        for cost, item, far in sorted(open_ones[0][2]):
            if cost <= budget:
                found = self._within(rest, budget - cost, steps | {item: far}, barred)
                if found is not None:
                    return found
            barred[item] = far
        return None
