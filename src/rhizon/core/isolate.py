"""Which content a failure needs, found by trying subsets that respect what content needs.

What delta debugging looks for (A. Zeller, R. Hildebrandt, IEEE TSE 28(2), 2002), a smallest failing set, is found here
in fewer tries where few of many are at fault. Content is put in order, what is needed first; the shortest beginning
that fails ends with a culprit, which halving finds; with that one in, the shortest beginning that fails ends with the
next (as U. Junker's QuickXplain does for constraints, AAAI 2004). What is known of a set is known of its supersets if
it fails, and of its subsets if it works.
"""

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from typing import NamedTuple

__all__ = ["Isolated", "Trial", "isolate"]


class Isolated(NamedTuple):
    """A smallest failing set, and whether both directions were seen: it fails with only what it needs, and the rest
    works without the first of it."""

    culprits: tuple[str, ...]
    fails_alone: bool
    rest_works: bool


class Trial:
    """Tries sets of items with all that they need, each set once. ``fails`` really tries one."""

    def __init__(
        self,
        items: Sequence[str],
        needs: Mapping[str, Collection[str]],
        fails: Callable[[frozenset[str]], bool],
    ) -> None:
        self._items = list(items)
        self._needs = needs
        self._really = fails
        self._failing: list[frozenset[str]] = []
        self._working: list[frozenset[str]] = []
        self.tries = 0

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

    def fails(self, items: frozenset[str]) -> bool:
        """Whether a set fails; what follows from earlier tries is not tried again."""
        if any(one <= items for one in self._failing):
            return True
        if any(items <= one for one in self._working):
            return False
        self.tries += 1
        failed = self._really(items)
        (self._failing if failed else self._working).append(items)
        return failed


def isolate(items: Sequence[str], trial: Trial) -> Isolated | None:
    """A smallest failing set; None where all of it does not fail."""
    if not trial.fails(frozenset(items)):
        return None
    order = _needed_first(items, trial)
    found: list[str] = []
    end = len(order)  # what is behind the last culprit is not needed
    while not found or not trial.fails(trial.closure(found)):
        works, fails = 0, end
        while fails - works > 1:
            middle = (works + fails) // 2
            if trial.fails(trial.closure([*found, *order[:middle]])):
                fails = middle
            else:
                works = middle
        end = fails - 1
        found.append(order[end])
    return Isolated(tuple(sorted(found)), True, not trial.fails(trial.without(found[:1])))


def _needed_first(items: Sequence[str], trial: Trial) -> list[str]:
    """The items in an order in which each comes after all that it needs."""
    order: dict[str, None] = {}
    for one in items:
        before = trial.closure([one]) - {one}
        order.update(dict.fromkeys(sorted(before - order.keys(), key=lambda each: (len(trial.closure([each])), each))))
        order[one] = None
    return list(order)
