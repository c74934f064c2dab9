"""The plan: fewest moves or best arrangement first, as the file says, each proved where time allows.

Whatever is asked comes down to one question: which placement within these capacities has the fewest moves? A lower
highest load is smaller capacities, fewer machines are machines left out. Bounds answer it where they meet a placement
that was found; an integer program where they do not; and where that is too large, programs over parts of it (large
neighbourhood search: P. Shaw, 1998).
"""

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Literal, NamedTuple

import numpy as np

from rhizon.core.machines.bounds import fewest_machines, fewest_moves, fits_in_sum, lowest_load, stays
from rhizon.core.machines.problem import MEMORY, Ints, Problem, loads, moves_of
from rhizon.core.machines.program import program_size, solve_program, solve_relaxed
from rhizon.core.machines.start import Placer, even_out, place

__all__ = ["Found", "Goal", "Placed", "Watch", "fewest", "highest_load", "plan"]

LARGEST_PROGRAM = 30_000  # unknowns; above it only parts are solved exactly
RESTARTS = 6
PART_MACHINES = 8
PART_SECONDS = 3.0


class Watch(NamedTuple):
    """``left`` returns the remaining seconds; ``tell`` receives the name of each step."""

    left: Callable[[], float]
    tell: Callable[[str], None] = lambda _: None


@dataclass(frozen=True)
class Goal:
    """``pack`` or spread; ``moves`` as in the file: "few", "free", or at most so many."""

    pack: bool = False
    moves: Literal["few", "free"] | int = "few"


@dataclass(frozen=True)
class Found:
    """The placement with the fewest moves that was found (None: none), and the bound; ``impossible`` where it is proved
    that there is none."""

    where: Ints | None
    moves: int
    bound: int
    impossible: bool = False

    @property
    def proved(self) -> bool:
        """Whether no more search can help."""
        return self.impossible or (self.where is not None and self.moves <= self.bound)


@dataclass(frozen=True)
class Placed:
    """A plan: where each unit is to be, and of each figure what was reached and what is proved to be the best:
    ``moves`` (for this arrangement, or of all), ``load`` (highest memory load in whole percent) to spread, ``used``
    (machines) to pack."""

    where: Ints
    moves: int
    moves_bound: int
    load: int
    load_bound: int
    used: int
    used_bound: int

    def proved(self, *, pack: bool) -> bool:
        """Whether it is the best there is, in both figures."""
        arranged = self.used <= self.used_bound if pack else self.load <= self.load_bound
        return arranged and self.moves <= self.moves_bound


def highest_load(problem: Problem, where: Ints) -> int:
    """The highest memory load in whole percent, rounded up."""
    capacity = np.maximum(problem.capacity[:, MEMORY], 1)
    return int((-(-loads(problem, where)[:, MEMORY] * 100 // capacity)).max(initial=0))


def plan(problem: Problem, goal: Goal, watch: Watch) -> Placed | Found:
    """The best placement that was found; or, where there is none, what is known of that."""
    watch.tell("fewest moves")
    first = fewest(problem, watch, pack=goal.pack, share=0.4)
    most = goal.moves if isinstance(goal.moves, int) else first.moves if goal.moves == "few" else None
    if first.where is None or (isinstance(most, int) and first.moves > most):
        return first
    arranged = _pack(problem, first, most, watch) if goal.pack else _spread(problem, first, most, watch)
    return replace(arranged, moves_bound=first.bound) if goal.moves == "few" else arranged


def fewest(
    problem: Problem, watch: Watch, *, pack: bool = False, share: float = 1.0, most: int | None = None,
    start: Ints | None = None, quick: bool = False,
) -> Found:  # fmt: skip
    """The placement with the fewest moves, or any with at most ``most``. It takes a ``share`` of the time that is left;
    ``quick`` leaves out all integer programs, and then knows less."""
    if not len(problem.units):
        return Found(np.zeros(0, dtype=np.int64), 0, 0)
    bound = fewest_moves(problem) if fits_in_sum(problem) else 1 << 30
    if bound >= 1 << 30:
        return Found(None, 0, 0, impossible=True)
    enough = bound if most is None else max(bound, most)
    if most is not None and bound > most:
        return Found(None, bound, bound)
    end = watch.left() * (1 - share)
    best, partial = _best_start(problem, enough, pack=pack, start=start, quick=quick)
    if best is not None and moves_of(problem, best) <= enough:
        return Found(best, moves_of(problem, best), bound)
    if quick:
        return Found(best, moves_of(problem, best) if best is not None else 0, bound)
    if program_size(problem) <= LARGEST_PROGRAM:
        if best is None:
            parts = solve_program(problem, "moves", seconds=watch.left() - end, most_moves=most, whole=False)
            if parts.impossible:
                return Found(None, 0, (1 << 30) if most is None else most + 1, impossible=most is None)
            if parts.where is not None:
                partial = _place_rest(problem, parts.where, watch.left() * 0.8 + end * 0.2, watch)
            best = _by_parts(problem, partial, enough, watch, watch.left() * 0.7 + end * 0.3)
            if best is not None and moves_of(problem, best) <= enough:
                return Found(best, moves_of(problem, best), bound)
        seconds = watch.left() - end
        solved = solve_program(problem, "moves", seconds=seconds, start=best, most_moves=most, enough=most)
        if solved.impossible:
            return Found(None, 0, (1 << 30) if most is None else most + 1, impossible=most is None)
        if solved.where is not None and (best is None or solved.value <= moves_of(problem, best)):
            best = solved.where
        bound = max(bound, int(solved.bound)) if np.isfinite(solved.bound) else bound
    else:
        if best is None and solve_relaxed(problem, "moves", seconds=watch.left() - end).impossible:
            return Found(None, 0, (1 << 30) if most is None else most + 1, impossible=most is None)
        best = _by_parts(problem, partial if best is None else best, enough, watch, end)
    return Found(best, moves_of(problem, best) if best is not None else 0, bound)


def _best_start(
    problem: Problem, enough: int, *, pack: bool, start: Ints | None, quick: bool
) -> tuple[Ints | None, Ints]:
    """The best of some quick placements, and the one that placed most."""
    best = start if start is not None and (loads(problem, start) <= problem.capacity).all() else None
    partial = place(problem, pack=pack)
    random = np.random.default_rng(7)
    large = len(problem.units) * len(problem.machines) > 200_000
    for attempt in range(1 if large else 2 if quick else RESTARTS):
        where = partial if attempt == 0 else place(problem, pack=pack, random=random)
        if (where < 0).sum() < (partial < 0).sum():
            partial = where
        if (where >= 0).all() and (best is None or moves_of(problem, where) < moves_of(problem, best)):
            best = where
        if best is not None and moves_of(problem, best) <= enough:
            break
    return best, partial


def _place_rest(problem: Problem, where: Ints, end: float, watch: Watch) -> Ints:
    """The units of a linear program's solution that were placed in parts (a vertex has few), by an integer program
    around those that were not; as many as fit."""
    placer = Placer(problem, where)
    rest = np.flatnonzero(where < 0)
    if not len(rest):
        return where
    part = problem.part(rest.tolist(), list(range(len(problem.machines))), loads(problem, where))
    allowed = part.allowed & np.array([placer.apart_from(int(u)) for u in rest]).reshape(part.allowed.shape)
    solved = solve_program(
        replace(part, allowed=allowed), "left-out", seconds=min(PART_SECONDS * 2, watch.left() - end)
    )
    where = where.copy()
    if solved.where is not None:
        where[rest] = solved.where
    return where


def _by_parts(problem: Problem, where: Ints, enough: int, watch: Watch, end: float) -> Ints | None:
    """Solves some machines at a time exactly: first for units that are nowhere, then for fewer moves."""
    random = np.random.default_rng(11)
    where = where.copy()
    failures = 0
    while watch.left() > end and failures < 60:
        nowhere = np.flatnonzero(where < 0)
        if not len(nowhere) and moves_of(problem, where) <= enough:
            break
        free = (problem.capacity - loads(problem, where))[:, MEMORY]
        if len(nowhere):
            unit = int(random.choice(nowhere))
            good = np.flatnonzero(problem.allowed[unit])
        else:
            moved = np.flatnonzero(problem.cost[np.arange(len(where)), where] > 0)
            unit = int(random.choice(moved))
            good = np.flatnonzero(problem.cost[unit] < problem.cost[unit, where[unit]])
        roomy = good[np.argsort(-free[good] - random.uniform(0, 1 + free.max() / 4, len(good)))][: PART_MACHINES // 2]
        others = random.choice(len(problem.machines), min(PART_MACHINES // 2, len(problem.machines)), replace=False)
        chosen = np.unique(np.concatenate([roomy, others, where[[unit]][where[[unit]] >= 0]]))
        units = np.flatnonzero(np.isin(where, chosen))
        if where[unit] < 0:
            units = np.append(units, unit)
        part = problem.part(
            units.tolist(), chosen.tolist(), np.zeros((len(chosen), problem.capacity.shape[1]), np.int64)
        )
        solved = solve_program(part, "moves", seconds=min(PART_SECONDS, max(watch.left() - end, 0.1)))
        before = int(problem.cost[units, where[units]].sum()) if where[unit] >= 0 else 1 << 30
        if solved.where is None or solved.value >= before:
            failures += 1
            continue
        where[units] = chosen[solved.where]
        failures = 0
    return where if (where >= 0).all() else None


def _spread(problem: Problem, first: Found, most: int | None, watch: Watch) -> Placed:
    """The lowest highest load with at most ``most`` moves, then the fewest moves at that load."""
    assert first.where is not None
    memory = problem.capacity[:, MEMORY]

    def at(percent: int) -> Problem:
        return problem.with_memory(memory * percent // 100)

    best, low, high = first.where, lowest_load(problem), highest_load(problem, first.where)
    limit = most if most is not None else len(problem.units) * 1000
    watch.tell("lowest highest load")
    low = _load_bound(at, low, high, watch)
    low, high, best, unknown = _bisect(at, best, low, high, limit, watch, quick=True)
    end = watch.left() * 0.15
    while unknown and watch.left() > end:
        watch.tell(f"lowest highest load, between {low} % and {high} %")
        low, high, best, unknown = _bisect(at, best, low, high, limit, watch, quick=False)
    watch.tell("fewest moves at that load")
    least = fewest(at(high), watch, start=best)
    if least.where is not None and least.moves <= moves_of(problem, best):
        best = least.where
    best_moves = moves_of(problem, best)
    smooth = even_out(at(high), best)
    if moves_of(problem, smooth) <= best_moves and highest_load(problem, smooth) <= high:
        best = smooth
    used = len(np.unique(best))
    return Placed(best, moves_of(problem, best), least.bound, highest_load(problem, best), low, used, used)


def _load_bound(at: Callable[[int], Problem], low: int, high: int, watch: Watch) -> int:
    """A bound by linear programs: below it not even parts of units fit."""
    while low < high and watch.left() > 0:
        middle = (low + high) // 2
        if solve_relaxed(at(middle), "moves", seconds=watch.left() * 0.05, whole=False).impossible:
            low = middle + 1
        else:
            high = middle
    return low


def _bisect(
    at: Callable[[int], Problem], best: Ints, low: int, high: int, limit: int, watch: Watch, *, quick: bool
) -> tuple[int, int, Ints, list[int]]:
    """Narrows the lowest load between ``low`` (nothing below is possible) and ``high`` (reached): answers both, the
    placement, and the loads of which nothing is known."""
    unknown: list[int] = []
    floor = low
    while floor < high and watch.left() > 0:
        middle = (floor + high) // 2
        found = fewest(at(middle), watch, most=limit, quick=quick, share=0.4)
        if found.where is not None and found.moves <= limit:
            best, high = found.where, middle
        else:
            floor = middle + 1
            if found.impossible or found.bound > limit:
                low = floor
            else:
                unknown.append(middle)
    return low, high, best, [percent for percent in unknown if low <= percent < high]


def _pack(problem: Problem, first: Found, most: int | None, watch: Watch) -> Placed:
    """The fewest machines with at most ``most`` moves, then the fewest moves on as many."""
    assert first.where is not None
    limit = most if most is not None else len(problem.units) * 1000
    best = first.where
    bound = fewest_machines(problem, most)
    watch.tell("fewest machines")
    best = _empty_machines(problem, best, limit, bound, watch)
    used = len(np.unique(best))
    small = program_size(problem) <= LARGEST_PROGRAM
    if used > bound and not small:
        for whole in (False, True):
            relaxed = solve_relaxed(problem, "machines", seconds=watch.left() * 0.3, whole=whole)
            bound = max(bound, int(relaxed.bound)) if np.isfinite(relaxed.bound) else bound
    if used > bound and small:
        seconds = watch.left() * 0.85
        solved = solve_program(problem, "machines", seconds=seconds, most_moves=most, start=best)
        if solved.where is not None and len(np.unique(solved.where)) < used:
            best = solved.where
        if np.isfinite(solved.bound):
            bound = max(bound, int(solved.bound))
        used = len(np.unique(best))
    moves, moves_bound = moves_of(problem, best), fewest_moves(problem)
    if moves > moves_bound and small:
        watch.tell("fewest moves on these machines")
        least = solve_program(problem, "moves", seconds=watch.left(), start=best, most_machines=used)
        if least.where is not None and least.value < moves:
            best = least.where
        if np.isfinite(least.bound):
            moves_bound = max(moves_bound, int(least.bound))
    best = even_out(problem.with_machines(np.isin(np.arange(len(problem.machines)), best)), best)
    load = highest_load(problem, best)
    return Placed(best, moves_of(problem, best), moves_bound, load, load, used, bound)


def _few_large_machines(problem: Problem, best: Ints, limit: int, bound: int, watch: Watch) -> Ints:
    """The shortest beginning that is enough of all machines in order: those with most servers that would have to move,
    then those that hold most."""
    home, _ = stays(problem)
    machines = len(problem.machines)
    kept = np.bincount(home[home >= 0], minlength=machines) if limit < len(problem.units) else np.zeros(machines)
    size = (problem.capacity / np.maximum(problem.demand.sum(axis=0), 1)).min(axis=1)
    order = np.lexsort((-size, -kept))
    low, high = bound, len(np.unique(best))
    while low < high and watch.left() > 0:
        middle = (low + high) // 2
        used = np.isin(np.arange(machines), order[:middle])
        found = fewest(problem.with_machines(used), watch, pack=True, most=limit, quick=True)
        if found.where is not None and found.moves <= limit:
            best, high = found.where, middle
        else:
            low = middle + 1
    return best


def _empty_machines(problem: Problem, best: Ints, limit: int, bound: int, watch: Watch) -> Ints:
    """Leaves out one machine after another, the ones with least on them first, as long as the rest is enough; many at
    a time while that goes well."""
    # what is small is left to the program, which is better at it
    end = watch.left() * (0.8 if program_size(problem) <= LARGEST_PROGRAM else 0.3)
    best = _few_large_machines(problem, best, limit, bound, watch)
    given_up: set[int] = set()
    step = max(1, len(problem.machines) // 8)
    while len(np.unique(best)) > bound and watch.left() > end:
        in_use = np.unique(best)
        held = loads(problem, best)[:, MEMORY]
        order = sorted((m for m in in_use if int(m) not in given_up), key=lambda m: (int(held[m]), int(m)))
        if not order:
            break
        step = min(step, len(in_use) - bound, len(order))
        gone = order[:step]
        used = np.isin(np.arange(len(problem.machines)), np.setdiff1d(in_use, gone))
        found = fewest(problem.with_machines(used), watch, pack=True, most=limit, quick=True)
        if found.where is not None and found.moves <= limit:
            best = found.where
        elif step > 1:
            step //= 2
        else:
            given_up.add(int(gone[0]))
    return best
