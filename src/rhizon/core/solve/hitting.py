"""Minimum hitting sets: which members to give up so that something of every core is given up.

Exact, by branch and bound: a core that contains another one says nothing; what shares no core is solved apart; of
members that are in cores of two with each other (a clique) all but one go, and disjoint cliques and cores bound the
size from below, as in branch and bound for maximum independent sets (Tomita and Seki, "An Efficient Branch-and-Bound
Algorithm for Finding a Maximum Clique", DMTCS 2003). Cores are bit masks.
"""

from collections.abc import Iterable, Sequence

from rhizon.core.solve.watch import Watch

__all__ = ["HittingSets", "least_size"]

CHECK_NODES = 256
MOST_KNOWN = 200_000


def least_size(cores: Iterable[int]) -> int:
    """A lower bound of what has to be given up: of a clique all but one, of any other core one, all disjoint."""
    pairs: dict[int, int] = {}
    wide = []
    for core in cores:
        if core.bit_count() == 2:
            low = core & -core
            pairs[low] = pairs.get(low, 0) | core ^ low
            pairs[core ^ low] = pairs.get(core ^ low, 0) | low
        else:
            wide.append(core)
    used, least = 0, 0
    for vertex in sorted(pairs, key=lambda one: (pairs[one].bit_count(), one)):
        if vertex & used:
            continue
        used |= vertex
        common = pairs[vertex] & ~used
        while common:
            other = max(_bits(common), key=lambda one: ((pairs[one] & common).bit_count(), one))
            used |= other
            least += 1
            common &= pairs[other]
    for core in sorted(wide, key=lambda one: (one.bit_count(), one)):
        if not core & used:
            used |= core
            least += 1
    return least


class HittingSets:
    """Answers for growing lists of cores; what was found for a part is remembered. Members are numbers from 0, the
    earlier the dearer."""

    def __init__(self, watch: Watch) -> None:
        self._watch = watch
        self._nodes = 0
        self._known: dict[tuple[int, ...], int] = {}  # by cores: a smallest set
        self._floor: dict[tuple[int, ...], int] = {}  # by cores: no set is smaller
        self._best: dict[tuple[int, ...], int] = {}  # by cores of a part: the preferred one

    def preferred(self, cores: Iterable[frozenset[int]]) -> frozenset[int]:
        """A set of least size that meets every core; among those the one whose first member is the latest, then the
        second, and so on. Raises GaveUpError."""
        masks = _minimal(sum(1 << one for one in core) for core in cores)
        found = 0
        for part in _parts(masks):
            if part not in self._best:
                self._best[part] = self._preferred_of(part)
            found |= self._best[part]
        return frozenset(_numbers(found))

    def _preferred_of(self, cores: tuple[int, ...]) -> int:
        """The same for a part: members are kept one after the other, the earliest first, where that costs nothing."""
        witness = self._smallest(cores)
        size = witness.bit_count()
        left, given = cores, 0
        members = 0
        for core in cores:
            members |= core
        for member in _bits(members):
            if not any(core & member for core in left):
                continue
            if member & witness:
                kept = _kept(left, member)
                other = None
                if 0 not in kept:
                    other = self._within(_minimal(kept), size - given.bit_count())
                if other is None:  # it has to go
                    given |= member
                    left = tuple(core for core in left if not core & member)
                    continue
                witness = given | other
            left = _minimal(_kept(left, member))
        return given | witness if any(left) else given

    def _smallest(self, cores: tuple[int, ...]) -> int:
        found = self._within(cores, sum(1 for _ in cores))
        assert found is not None, "giving up a member of each core is always possible"
        return found

    def _within(self, cores: tuple[int, ...], most: int) -> int | None:
        """A smallest set of at most so many members; None where there is none."""
        given = 0
        while True:  # cores of one leave no choice; a member of one pair only is kept, and the other one goes
            forced = _forced(cores)
            if not forced:
                break
            given |= forced
            cores = _minimal(core for core in cores if not core & forced)
        most -= given.bit_count()
        if most < 0:
            return None
        parts = _parts(cores)
        least = [least_size(part) for part in parts]
        if sum(least) > most:
            return None
        for part, bound in zip(parts, least, strict=True):
            spare = most - (sum(least) - bound)
            found = self._branched(part, bound, spare)
            if found is None:
                return None
            given |= found
            most -= found.bit_count()
            least[parts.index(part)] = 0
        return given

    def _branched(self, cores: tuple[int, ...], least: int, most: int) -> int | None:
        """The same for a part that nothing is forced in: one member is kept, or given up. Sizes grow from the bound."""
        known = self._known.get(cores)
        if known is not None:
            return known if known.bit_count() <= most else None
        least = max(least, self._floor.get(cores, 0))
        if least > most:
            return None
        self._nodes += 1
        if self._nodes % CHECK_NODES == 0:
            self._watch.check()
        counts: dict[int, int] = {}
        for core in cores:
            for member in _bits(core):
                counts[member] = counts.get(member, 0) + 1
        pivot = max(counts, key=lambda one: (counts[one], one))
        kept = _minimal(_kept(cores, pivot))
        gone = _minimal(core for core in cores if not core & pivot)
        for size in range(least, most + 1):
            with_it = self._within(kept, size)
            found = with_it
            if found is None:
                without = self._within(gone, size - 1) if size else None
                found = without | pivot if without is not None else None
            if found is not None:
                if len(self._known) < MOST_KNOWN:
                    self._known[cores] = found
                return found
        if len(self._floor) < MOST_KNOWN:
            self._floor[cores] = most + 1
        return None


def _forced(cores: Sequence[int]) -> int:
    """Members that may be given up without a loss: of cores of one; the other one of a pair whose first is in no other
    core."""
    found = 0
    for core in cores:
        if core.bit_count() == 1:
            found |= core
    if found:
        return found
    once, more = 0, 0
    for core in cores:
        more |= once & core
        once |= core
    for core in cores:
        if core.bit_count() == 2 and core & ~more:
            alone = core & ~more
            low = alone & -alone
            return core ^ low
    return 0


def _kept(cores: Iterable[int], member: int) -> tuple[int, ...]:
    """The cores where a member is kept."""
    return tuple(core & ~member for core in cores)


def _minimal(cores: Iterable[int]) -> tuple[int, ...]:
    """Without those that contain another one, in a fixed order."""
    every = sorted(set(cores), key=lambda one: (one.bit_count(), one))
    if every and every[0] == 0:
        return (0,)
    alone = 0
    beside: dict[int, int] = {}
    found: list[int] = []
    wide: list[int] = []
    for core in every:
        if core & alone:
            continue
        count = core.bit_count()
        if count == 1:
            alone |= core
        elif count == 2:
            low = core & -core
            beside[low] = beside.get(low, 0) | core
            beside[core ^ low] = beside.get(core ^ low, 0) | core
        else:
            if any(beside.get(one, 0) & core & ~one for one in _bits(core)) or any(core & one == one for one in wide):
                continue
            wide.append(core)
        found.append(core)
    return tuple(found)


def _parts(cores: Sequence[int]) -> list[tuple[int, ...]]:
    """Cores that are connected by members they share, each part in the given order."""
    parts: list[tuple[int, list[int]]] = []
    for core in cores:
        joined, members = [core], core
        rest = []
        for mask, inside in parts:
            if mask & core:
                joined = inside + joined
                members |= mask
            else:
                rest.append((mask, inside))
        parts = [*rest, (members, joined)]
    return [tuple(sorted(inside, key=lambda one: (one.bit_count(), one))) for _, inside in sorted(parts)]


def _bits(mask: int) -> Iterable[int]:
    while mask:
        low = mask & -mask
        yield low
        mask ^= low


def _numbers(mask: int) -> Iterable[int]:
    return (bit.bit_length() - 1 for bit in _bits(mask))
