"""Bounds that need no search: fewest moves, lowest highest load, fewest machines.

Each is a relaxation: it looks at one resource, or at one machine, as if the others did not matter.
"""

import math

import numpy as np

from rhizon.core.machines.problem import MEMORY, Ints, Problem

__all__ = ["fewest_machines", "fewest_moves", "fits_in_sum", "lowest_load", "stays"]


def fits_in_sum(problem: Problem) -> bool:
    """False where all units need more of a resource than the machines that they may be on have together.

    Sizes that are all multiples of a number fill a machine only to a multiple of it; the sum counts no more than that.
    """
    open_machines = problem.allowed.any(axis=0)
    if not problem.allowed.any(axis=1).all():
        return False
    if not _sum_fits(problem.demand, problem.capacity[open_machines]):
        return False
    # units that may be on few machines, by those machines
    rows, which = np.unique(problem.allowed, axis=0, return_inverse=True)
    if len(rows) > 64:
        return True
    for row in rows:
        inside = np.flatnonzero(~(rows & ~row).any(axis=1))
        if not _sum_fits(problem.demand[np.isin(which.reshape(-1), inside)], problem.capacity[row]):
            return False
    return True


def _sum_fits(demand: Ints, capacity: Ints) -> bool:
    for resource in range(demand.shape[1]):
        step = int(np.gcd.reduce(demand[:, resource])) if len(demand) else 0
        if step and demand[:, resource].sum() > (np.maximum(capacity[:, resource], 0) // step * step).sum():
            return False
    return True


def stays(problem: Problem) -> tuple[Ints, Ints]:
    """For each unit the machine where it costs least (-1 where every machine costs the same), and that cost."""
    cost = np.where(problem.allowed, problem.cost, np.iinfo(np.int64).max)
    least = cost.min(axis=1)
    home = cost.argmin(axis=1)
    most = np.where(problem.allowed, problem.cost, -1).max(axis=1)
    return np.where(most > least, home, -1), np.where(least < np.iinfo(np.int64).max, least, 0)


def fewest_moves(problem: Problem) -> int:
    """No placement has fewer moves: each unit's cheapest place, and what must leave each machine that is too full."""
    home, least = stays(problem)
    total = int(least.sum())
    groups = [set(group) for group in problem.apart]
    for machine in np.unique(home[home >= 0]):
        units = np.flatnonzero(home == machine)
        weight = _second(problem, units, machine) - least[units]
        total += max(
            [_cheapest_cover(problem, units, weight, int(machine), r) for r in range(problem.demand.shape[1])]
            + [_apart_cover(group, units, weight) for group in groups]
        )
    return total


def _second(problem: Problem, units: Ints, machine: int) -> Ints:
    """What each of these costs at the least elsewhere; a huge number where it may be nowhere else."""
    cost = np.where(problem.allowed[units], problem.cost[units], 1 << 30)
    cost[:, machine] = 1 << 30
    least: Ints = cost.min(axis=1)
    return least


def _cheapest_cover(problem: Problem, units: Ints, weight: Ints, machine: int, resource: int) -> int:
    """The least weight of units that must leave so that one resource is enough (the fractional knapsack, rounded
    up)."""
    excess = int(problem.demand[units, resource].sum() - problem.capacity[machine, resource])
    if excess <= 0:
        return 0
    size = problem.demand[units, resource]
    order = np.argsort(-size / np.maximum(weight, 1), kind="stable")
    spent = 0.0
    for u in order:
        if size[u] >= excess:
            return math.ceil(spent + float(weight[u]) * excess / int(size[u]) - 1e-9)
        excess -= int(size[u])
        spent += float(weight[u])
    return math.ceil(spent - 1e-9)


def _apart_cover(group: set[int], units: Ints, weight: Ints) -> int:
    """All but the heaviest of a group must leave a machine."""
    inside = sorted(int(w) for u, w in zip(units, weight, strict=True) if int(u) in group)
    return sum(inside[:-1])


def lowest_load(problem: Problem) -> int:
    """No placement has a lower highest memory load (whole percent, rounded up)."""
    low, high = 0, 100
    while low < high:
        middle = (low + high) // 2
        if fits_in_sum(problem.with_memory(problem.capacity[:, MEMORY] * middle // 100)):
            high = middle
        else:
            low = middle + 1
    return low


def fewest_machines(problem: Problem, most_moves: int | None) -> int:
    """No placement uses fewer machines: the largest that hold each resource's sum; with ``most_moves`` also as many as
    cannot be emptied."""
    open_machines = problem.allowed.any(axis=0)
    fewest = 1 if len(problem.units) else 0
    for resource in range(problem.demand.shape[1]):
        sizes = np.sort(problem.capacity[open_machines, resource])[::-1].cumsum()
        fewest = max(fewest, int(np.searchsorted(sizes, problem.demand[:, resource].sum())) + 1)
    if not len(problem.units):
        return 0
    if most_moves is not None:
        home, least = stays(problem)
        budget = most_moves - int(least.sum())
        homes = np.unique(home[home >= 0])
        prices = sorted(
            int((_second(problem, np.flatnonzero(home == m), int(m)) - least[home == m]).sum()) for m in homes
        )
        emptied = int(np.searchsorted(np.cumsum(prices), budget, side="right"))
        fewest = max(fewest, len(homes) - emptied)
    return fewest
