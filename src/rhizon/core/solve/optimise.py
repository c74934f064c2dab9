"""Keep as many soft wishes as can be kept, by implicit hitting sets.

Everything soft is assumed; a refusal names assumptions that cannot hold together (a core); the smallest set that
hits every core seen so far is given up, and the question is asked again. The first answer is optimal, since
whatever fits must give up a hitting set (Davies and Bacchus, "Solving MAXSAT by Solving a Sequence of Simpler
SAT Instances", CP 2011).
"""

from collections.abc import Sequence

from rhizon.core.model.catalog import Release
from rhizon.core.solve.engine import RefusedError
from rhizon.core.solve.search import Assumption, Search

__all__ = ["Kept", "keep_most", "smallest_hitting_set"]

MOST_CORES = 80


class Kept:
    """The choice, the assumptions that were given up, and whether fewer could not have been (``proved``)."""

    def __init__(self, chosen: dict[str, Release], given_up: list[Assumption], *, proved: bool) -> None:
        self.chosen = chosen
        self.given_up = given_up
        self.proved = proved


def keep_most(search: Search, wishes: Sequence[str], hard: Sequence[Assumption], soft: Sequence[Assumption]) -> Kept:
    """Gives up as few of ``soft`` as possible; among as few, the later ones. A wish whose own assumption is given
    up is no wish any more. Raises RefusedError when even none of them fits."""
    cores: list[frozenset[int]] = []
    order = {one.tag: at for at, one in enumerate(soft)}
    proved = True
    while True:
        if len(cores) < MOST_CORES:
            drop = smallest_hitting_set(cores)
        else:  # too many ways to weigh up: from here on whole cores go, which is no longer the least
            proved = False
            drop = frozenset().union(*cores[MOST_CORES - 1 :], smallest_hitting_set(cores[: MOST_CORES - 1]))
        kept = [one for at, one in enumerate(soft) if at not in drop]
        gone = {soft[at].item for at in drop if soft[at].tag[0] == "wish"}
        try:
            chosen = search.run([name for name in wishes if name not in gone], [*hard, *kept])
        except RefusedError as refused:
            core = frozenset(order[tag] for tag in refused.assumed if tag in order)
            if not core:
                raise
            cores.append(core)
            continue
        return Kept(chosen, [soft[at] for at in sorted(drop)], proved=proved)


def smallest_hitting_set(cores: Sequence[frozenset[int]]) -> frozenset[int]:
    """A set of least size that meets every core; among those, the one whose members are the latest.

    Iterative deepening over the size; each step branches on the members of one core that is not met.
    """
    for size in range(len(cores) + 1):
        found = _hit(cores, size, frozenset())
        if found is not None:
            return found
    return frozenset()


def _hit(cores: Sequence[frozenset[int]], size: int, taken: frozenset[int]) -> frozenset[int] | None:
    unmet = [core for core in cores if not core & taken]
    if not unmet:
        return taken
    if size == 0 or _disjoint(unmet) > size:
        return None
    best: frozenset[int] | None = None
    for member in sorted(sorted(unmet, key=len)[0], reverse=True):
        found = _hit(unmet, size - 1, taken | {member})
        if found is not None and (best is None or sorted(found) > sorted(best)):
            best = found
    return best


def _disjoint(cores: Sequence[frozenset[int]]) -> int:
    """How many cores share nothing with each other, at least: each needs a member of its own."""
    seen: set[int] = set()
    count = 0
    for core in sorted(cores, key=len):
        if not core & seen:
            seen |= core
            count += 1
    return count
