"""A good placement without a proof: what fits stays, what must leave is chosen, the rest is placed by size.

First-fit decreasing with several resources, then ejection: a unit that fits nowhere may push out one that fits
elsewhere (M. R. Garey, D. S. Johnson, 1979, on bin packing; ejection chains: F. Glover, 1996).
"""

import numpy as np

from rhizon.core.machines.bounds import stays
from rhizon.core.machines.problem import MEMORY, Bools, Ints, Problem, loads

__all__ = ["Placer", "even_out", "place"]

EJECTIONS = 400


class Placer:
    """A placement that is being made: where each unit is (-1 nowhere), and what is free on each machine."""

    def __init__(self, problem: Problem, where: Ints) -> None:
        self.problem = problem
        self.where = where.copy()
        self.free = problem.capacity - loads(problem, where)
        self.groups_of: dict[int, list[int]] = {}
        for g, group in enumerate(problem.apart):
            for u in group:
                self.groups_of.setdefault(u, []).append(g)
        self.at = np.zeros((len(problem.apart), len(problem.machines)), dtype=np.int64)
        for g, group in enumerate(problem.apart):
            for u in group:
                if where[u] >= 0:
                    self.at[g, where[u]] += 1

    def put(self, unit: int, machine: int) -> None:
        """Puts it there (-1: nowhere), from wherever it is."""
        before = int(self.where[unit])
        for there, sign in ((before, 1), (machine, -1)):
            if there >= 0:
                self.free[there] += sign * self.problem.demand[unit]
                for g in self.groups_of.get(unit, ()):
                    self.at[g, there] -= sign
        self.where[unit] = machine

    def fits(self, unit: int) -> Bools:
        """Where the unit, which is nowhere now, has room."""
        room: Bools = self.problem.allowed[unit] & (self.free >= self.problem.demand[unit]).all(axis=1)
        return room & self.apart_from(unit)

    def apart_from(self, unit: int) -> Bools:
        """Machines without a unit that it must be apart from; none for a unit that must be apart from itself."""
        room = np.ones(len(self.problem.machines), dtype=np.bool_)
        for g in self.groups_of.get(unit, ()):
            room &= self.at[g] == (-1 if self.problem.apart[g].count(unit) > 1 else 0)
        return room

    def best(self, unit: int, room: Bools, *, pack: bool) -> int:
        """The machine for a unit that has room: fewest moves first; then the emptiest after it, or to ``pack`` the
        fullest of those in use."""
        capacity = np.maximum(self.problem.capacity[:, MEMORY], 1)
        left = (self.free[:, MEMORY] - self.problem.demand[unit, MEMORY]) / capacity
        if pack:
            in_use = (self.free < self.problem.capacity).any(axis=1)
            rank = np.where(in_use, 1 - left, 0.0)
        else:
            rank = left
        score = np.where(room, rank - 10.0 * self.problem.cost[unit], -np.inf)
        return int(score.argmax())


def place(problem: Problem, *, pack: bool, random: np.random.Generator | None = None) -> Ints:
    """Where each unit is to be; -1 for those for which no room was found. ``random`` varies what has no reason."""
    home, _ = stays(problem)
    allowed_home = (home >= 0) & problem.allowed[np.arange(len(home)), home]
    placer = Placer(problem, np.where(allowed_home, home, -1))
    for machine in np.unique(home[allowed_home]):
        _shed(placer, int(machine))
    homeless = np.flatnonzero(placer.where < 0)
    stuck = [u for u in _by_size(problem, homeless, random) if not _settle(placer, int(u), pack=pack)]
    for u in stuck:
        _eject(placer, int(u), pack=pack)
    return placer.where


def _by_size(problem: Problem, units: Ints, random: np.random.Generator | None) -> Ints:
    """Large ones first, those that may be on few machines before them."""
    mean = np.maximum(problem.capacity.mean(axis=0), 1)
    size = (problem.demand[units] / mean).max(axis=1)
    if random is not None:
        size = size * random.uniform(0.9, 1.1, len(units))
    share = problem.allowed[units].sum(axis=1) / max(len(problem.machines), 1)
    return units[np.lexsort((-size, np.round(share, 1)))]


def _settle(placer: Placer, unit: int, *, pack: bool) -> bool:
    room = placer.fits(unit)
    if not room.any():
        return False
    placer.put(unit, placer.best(unit, room, pack=pack))
    return True


def _shed(placer: Placer, machine: int) -> None:
    """Takes units off a machine until it has room for the rest: those that free most of what is short; of those that
    are enough alone, the smallest."""
    problem = placer.problem
    for group in np.flatnonzero(placer.at[:, machine] > 1):
        members = [u for u in problem.apart[group] if placer.where[u] == machine]
        for u in sorted(set(members), key=lambda u: int(problem.demand[u, MEMORY]))[:-1]:
            placer.put(u, -1)
    while (placer.free[machine] < 0).any():
        units = np.flatnonzero(placer.where == machine)
        short = np.maximum(-placer.free[machine], 0)
        covered = np.minimum(problem.demand[units], short) / np.maximum(short, 1)
        price = np.maximum(problem.cost[units].max(axis=1) - problem.cost[units, machine], 1)
        size = problem.demand[units].sum(axis=1)
        order = np.lexsort((size, -covered.sum(axis=1) / price))
        placer.put(int(units[order[0]]), -1)


def _eject(placer: Placer, unit: int, *, pack: bool) -> bool:
    """Room for a unit by moving one other unit elsewhere."""
    problem = placer.problem
    need = problem.demand[unit]
    tries = 0
    machines = np.flatnonzero(problem.allowed[unit])
    for machine in machines[np.argsort(-placer.free[machines, MEMORY], kind="stable")]:
        if any(placer.at[g, machine] for g in placer.groups_of.get(unit, ())):
            continue
        units = np.flatnonzero(placer.where == machine)
        enough = (placer.free[machine] + problem.demand[units] >= need).all(axis=1)
        candidates = units[enough]
        price = problem.cost[candidates].max(axis=1, initial=0) - problem.cost[candidates, machine]
        for other in candidates[np.lexsort((problem.demand[candidates, MEMORY], price))]:
            tries += 1
            if tries > EJECTIONS:
                return False
            placer.put(int(other), -1)
            room = placer.fits(int(other))
            room[machine] = False
            if room.any():
                placer.put(int(other), placer.best(int(other), room, pack=pack))
                placer.put(unit, int(machine))
                return True
            placer.put(int(other), int(machine))
    return False


def even_out(problem: Problem, where: Ints, *, steps: int = 2000) -> Ints:
    """The same moves and the same machines, with loads nearer to each other: moves, then swaps, of units that cost
    nothing, as long as the sum of squared relative memory loads falls."""
    placer = Placer(problem, where)
    capacity = np.maximum(problem.capacity[:, MEMORY], 1).astype(float)
    movable = _free_to_move(problem, where)
    for _ in range(steps):
        load = (problem.capacity[:, MEMORY] - placer.free[:, MEMORY]) / capacity
        best: tuple[float, int, int] | None = None
        fullest = np.argsort(-load)[:3]
        for u in movable[np.isin(placer.where[movable], fullest)]:
            here = int(placer.where[u])
            price = int(problem.cost[u, here])
            placer.put(int(u), -1)
            room = placer.fits(int(u)) & (problem.cost[u] <= price)
            placer.put(int(u), here)
            room[here] = False
            if not room.any():
                continue
            size = problem.demand[u, MEMORY]
            after = np.maximum(load + size / capacity, load[here] - size / capacity[here])
            gain = np.where(room, load[here] - after, -np.inf)
            to = int(gain.argmax())
            if gain[to] > 1e-9 and (best is None or gain[to] > best[0]):
                best = float(gain[to]), int(u), to
        if best is None:
            break
        placer.put(best[1], best[2])
    return placer.where


def _free_to_move(problem: Problem, where: Ints) -> Ints:
    """Units that could be on another machine for no more than they cost where they are."""
    if not len(where):
        return np.zeros(0, dtype=np.int64)
    rows = np.arange(len(where))
    cost = np.where(problem.allowed, problem.cost, 1 << 30)
    return np.flatnonzero((where >= 0) & ((cost <= problem.cost[rows, where][:, None]).sum(axis=1) > 1))
