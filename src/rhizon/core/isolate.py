"""Which content a failure needs, found by trying subsets that respect what content needs.

What delta debugging looks for (A. Zeller, R. Hildebrandt, IEEE TSE 28(2), 2002), a smallest failing set, is found here
in fewer tries where few of many are at fault. Content is put in order, what is needed first; the shortest beginning
that fails ends with a culprit, which halving finds; with that one in, the shortest beginning that fails ends with the
next (as U. Junker's QuickXplain does for constraints, AAAI 2004). What is known of a set is known of its supersets if
it fails, and of its subsets if it works.

Two sets may be tried at once where both answers are needed whatever the other is; no try is made on a guess.
"""

import math
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from typing import NamedTuple

__all__ = ["Evidence", "Isolated", "Trial", "evidence", "isolate", "repeats_for"]

MOST_SETS = 4  # of culprits that fail independently of each other
TRIES_AGAIN = 1
DOUBT = 0.02  # the chance that is left to a failure that did not show
MOST_REPEATS = 12


class Isolated(NamedTuple):
    """A smallest failing set (none: it fails without any content too), and whether both directions were seen: it fails
    with only what it needs, and the rest works without the first of it."""

    culprits: tuple[str, ...]
    fails_alone: bool
    rest_works: bool


class Evidence(NamedTuple):
    """Starts with all of a set of culprits and without, how many failed, and how likely it is that the rest is sound:
    from 0 to 1, by the starts without it that would have failed as often as those with it."""

    starts_with: int
    failed_with: int
    starts_without: int
    failed_without: int
    confidence: float


class Trial:
    """Tries sets of items with all that they need, each set once. ``try_sets`` really tries some, at once if it can,
    and says of each whether it fails; ``again`` tries a set that failed some more times, and says whether it always
    fails. ``suspects`` is how many items are not cleared, ``left`` about how many tries."""

    def __init__(
        self,
        items: Sequence[str],
        needs: Mapping[str, Collection[str]],
        try_sets: Callable[[Sequence[frozenset[str]]], Sequence[bool]],
        again: Callable[[frozenset[str]], bool] = lambda _: True,
    ) -> None:
        self._items = list(items)
        self._needs = needs
        self._try = try_sets
        self._again = again
        self._settled = False
        self._failing: list[frozenset[str]] = []
        self._working: list[frozenset[str]] = []
        self.tries = 0
        self.suspects = len(self._items)
        self.left = _tries_for(len(self._items)) + 1

    def expect(self, suspects: int) -> None:
        """Notes that so many items are not cleared."""
        self.suspects = suspects
        self.left = _tries_for(suspects)

    def closure(self, items: Iterable[str]) -> frozenset[str]:
        """The items and all that they need, as far as that is there."""
        found, waiting = set(), list(items)
        while waiting:
            one = waiting.pop()
            if one not in found and one in self._items:
                found.add(one)
                waiting += self._needs.get(one, ())
        return frozenset(found)

    def without(self, items: Collection[str]) -> frozenset[str]:
        """Everything that needs none of these items, however far."""
        gone = set(items)
        while True:
            more = {one for one in self._items if one not in gone and gone & set(self._needs.get(one, ()))}
            if not more:
                return frozenset(self._items) - gone
            gone |= more

    def known(self, items: frozenset[str]) -> bool | None:
        """Whether a set fails, as far as that follows from earlier tries."""
        if any(one <= items for one in self._failing):
            return True
        if any(items <= one for one in self._working):
            return False
        return None

    def smallest_failing(self) -> frozenset[str]:
        """The smallest set that is known to fail."""
        return min(self._failing, key=len)

    def comes_and_goes(self) -> bool:
        """Whether the failure does not always show, so that what worked may fail as well: that is forgotten then. Asked
        once, of the smallest failing set, where one culprit does not seem to be enough."""
        if self._settled:
            return False
        self._settled = True
        if self._again(self.smallest_failing()):
            return False
        self._working.clear()
        return True

    def fails_after_all(self, items: frozenset[str]) -> bool:
        """Whether a set that worked fails when it is tried again: then what worked may fail as well, and is
        forgotten."""
        for _ in range(TRIES_AGAIN):
            self.tries += 1
            if self._try([items])[0]:
                self._settled = True
                self._again(items)  # how often it fails is known better then
                self._working.clear()
                self._failing.append(items)
                return True
        return False

    def fails(self, items: frozenset[str], also: frozenset[str] | None = None) -> bool:
        """Whether a set fails; what follows from earlier tries is not tried again. ``also`` will be asked for in any
        case, and may be tried at the same time."""
        known = self.known(items)
        if known is not None:
            return known
        sets = [items]
        if also is not None and also != items and self.known(also) is None:
            sets.append(also)
        self.tries += len(sets)
        for one, failed in zip(sets, self._try(sets), strict=True):
            (self._failing if failed else self._working).append(one)
        return items in self._failing


def _tries_for(suspects: int) -> int:
    """To find one culprit of so many, and to see it both ways."""
    return math.ceil(math.log2(max(suspects, 1))) + 2


def isolate(items: Sequence[str], trial: Trial) -> list[Isolated]:
    """The smallest failing sets, each found in what is left without the ones before; none where all of it does not
    fail."""
    found: list[Isolated] = []
    rest = list(items)
    while rest and len(found) < MOST_SETS:
        one = _isolate(rest, trial, first=not found)
        if one is None:
            break
        found.append(one)
        if one.rest_works:
            break
        if not one.culprits:
            return [one]
        left = trial.without({name for each in found for name in each.culprits[:1]})
        rest = [name for name in rest if name in left]
    return found


def _isolate(items: Sequence[str], trial: Trial, *, first: bool) -> Isolated | None:
    """The smallest failing set of these items; with ``first`` it is not known yet that they fail."""
    order = _needed_first(items, trial)
    half = trial.closure(order[: len(order) // 2])
    trial.expect(len(order))
    if first:
        trial.left += 1
    if not trial.fails(frozenset(items), half if half else None):
        return None
    found: list[str] = []
    end = len(order)  # what is behind the last culprit is not needed
    while not found or not trial.fails(trial.closure(found), trial.without(found[:1])):
        if found and trial.comes_and_goes():
            return _isolate(sorted(trial.smallest_failing()), trial, first=False)
        works, fails = 0, end
        while fails - works > 1:
            trial.expect(fails - works)
            middle = (works + fails) // 2
            if trial.fails(trial.closure([*found, *order[:middle]])):
                fails = middle
            else:
                works = middle
        end = fails - 1
        found.append(order[end])
        trial.expect(1)
    if len(found) > 1:
        for one in map(trial.closure, ([name] for name in found)):
            if trial.fails_after_all(one):
                return _isolate(sorted(one), trial, first=False)
    rest = trial.without(found[:1])
    rest_works = not trial.fails(rest & frozenset(items))
    if not rest_works and trial.fails(frozenset()):
        return Isolated((), True, False)
    return Isolated(tuple(sorted(found)), True, rest_works)


def _needed_first(items: Sequence[str], trial: Trial) -> list[str]:
    """The items in an order in which each comes after all that it needs."""
    order: dict[str, None] = {}
    for one in items:
        before = trial.closure([one]) - {one}
        order.update(dict.fromkeys(sorted(before - order.keys(), key=lambda each: (len(trial.closure([each])), each))))
        order[one] = None
    return list(order)


def repeats_for(failed: int, starts: int) -> int:
    """How often a set has to work before it counts as sound, for a failure that showed in ``failed`` of ``starts``:
    so often that a failure as frequent as that (by Laplace's rule of succession) would not have shown with a chance of
    2 %."""
    if failed >= starts:
        return 1
    often = (failed + 1) / (starts + 2)
    return min(MOST_REPEATS, math.ceil(math.log(DOUBT) / math.log(1 - often)))


def evidence(
    culprits: Collection[str], others: Iterable[Collection[str]], tried: Sequence[tuple[frozenset[str], bool]]
) -> Evidence:
    """What all tries, sets and whether they failed, say of a set of culprits; tries that have one of the ``others``
    whole are left out. How often a failure shows is estimated by Laplace's rule of succession."""
    clear = [(chosen, failed) for chosen, failed in tried if not any(set(one) <= chosen for one in others)]
    with_it = [failed for chosen, failed in clear if set(culprits) <= chosen]
    without = [failed for chosen, failed in clear if not set(culprits) <= chosen]
    often = (sum(with_it) + 1) / (len(with_it) + 2)
    passed = len(without) - sum(without)
    confidence = 0.0 if sum(without) else min(1 - (1 - often) ** passed, 0.99)
    return Evidence(len(with_it), sum(with_it), len(without), sum(without), confidence)
