"""Places servers on machines, and the same by a direct model in the same solver; see README.md."""

import argparse
import random
import time
from typing import Any

import highspy
import numpy as np

from rhizon.core.machines.bounds import lowest_load
from rhizon.core.machines.plan import Found, Goal, Watch, highest_load, plan
from rhizon.core.machines.problem import Problem, as_problem, loads, moves_of
from rhizon.core.model.machines import Machine, MachinesFile, PlacementRules, ServerNeeds


def made(count: int, servers: int, seed: int, tight: float, step: int, arrange: Any, moves: Any) -> MachinesFile:
    """Machines of 16, 32 or 64 GiB, a third with a label; servers of log-normal sizes in steps of ``step`` MiB that
    fill ``tight`` of the memory, a seventh with a need for the label, nine tenths with a machine today."""
    draw = random.Random(seed)
    machines = {
        f"m{n:03}": Machine(
            memory_mib=draw.choice([16384, 32768, 65536]), cores=draw.choice([8, 16, 32]), ports=("24000-24199",),
            labels=("ssd",) if n % 3 == 0 else (),
        )
        for n in range(count)
    }  # fmt: skip
    sizes = [draw.lognormvariate(0, 0.6) for _ in range(servers)]
    scale = tight * sum(one.memory_mib for one in machines.values()) / sum(sizes)
    needs = {}
    for n, size in enumerate(sizes):
        mib = max(step, int(size * scale / step) * step)
        labels = ("ssd",) if n % 7 == 0 else ()
        today = draw.choice([name for name, one in machines.items() if set(labels) <= set(one.labels)])
        needs[f"s{n:04}"] = ServerNeeds(
            memory_mib=mib, cores=round(mib / 4096, 1), ports=draw.choice([1, 2, 3]), needs=labels,
            machine=today if draw.random() < 0.9 else None,
        )  # fmt: skip
    rules = PlacementRules(arrange=arrange, moves=moves)
    return MachinesFile(format="rhizon-machines/1", name="bench", machines=machines, servers=needs, placement=rules)


class Direct:
    """One binary unknown for each server and machine, and one for the highest load or for each machine in use."""

    def __init__(self, problem: Problem, *, pack: bool) -> None:
        self.problem, self.pack = problem, pack
        self.pairs = np.argwhere(problem.allowed)
        self.moved = problem.cost[self.pairs[:, 0], self.pairs[:, 1]].astype(float)

    def solve(self, seconds: float, *, moves: bool, most_moves: float | None, low: int) -> tuple[Any, float, float]:
        """The placement (None: none was found), its value, and the bound."""
        problem, pairs = self.problem, self.pairs
        count, units, machines = len(pairs), len(problem.units), len(problem.machines)
        extra = machines if self.pack else 1
        cost = np.concatenate([self.moved if moves else np.zeros(count), np.full(extra, 0.0 if moves else 1.0)])
        entries = [(int(u), n, 1.0) for n, (u, _) in enumerate(pairs)]
        lows, highs = [1.0] * units, [1.0] * units
        for resource in range(problem.demand.shape[1]):
            begin = len(lows)
            entries += [
                (begin + int(m), n, float(problem.demand[u, resource]))
                for n, (u, m) in enumerate(pairs)
                if problem.demand[u, resource]
            ]
            capacity = problem.capacity[:, resource].astype(float)
            if self.pack:
                entries += [(begin + m, count + m, -capacity[m]) for m in range(machines)]
            lows += [-np.inf] * machines
            highs += [0.0] * machines if self.pack else list(capacity)
        if not self.pack:  # the load in percent, which a whole unknown rounds up
            begin = len(lows)
            entries += [
                (begin + int(m), n, 100.0 * float(problem.demand[u, 0]) / float(problem.capacity[m, 0]))
                for n, (u, m) in enumerate(pairs)
            ]
            entries += [(begin + m, count, -1.0) for m in range(machines)]
            lows += [-np.inf] * machines
            highs += [0.0] * machines
        if most_moves is not None:
            entries += [(len(lows), n, value) for n, value in enumerate(self.moved) if value]
            lows.append(-np.inf)
            highs.append(most_moves)
        entries.sort(key=lambda one: (one[1], one[0]))
        model = highspy.HighsLp()
        model.num_col_, model.num_row_ = count + extra, len(lows)
        model.col_cost_ = cost
        model.col_lower_ = np.concatenate([np.zeros(count), np.full(extra, 0.0 if self.pack else float(low))])
        model.col_upper_ = np.concatenate([np.ones(count), np.full(extra, 1.0 if self.pack else 100.0)])
        model.row_lower_, model.row_upper_ = np.array(lows), np.array(highs)
        model.integrality_ = [highspy.HighsVarType.kInteger] * (count + extra)
        starts = np.zeros(count + extra + 1, dtype=np.int32)
        for _, column, _ in entries:
            starts[column + 1] += 1
        model.a_matrix_.format_ = highspy.MatrixFormat.kColwise
        model.a_matrix_.start_ = starts.cumsum().astype(np.int32)
        model.a_matrix_.index_ = np.array([one[0] for one in entries], dtype=np.int32)
        model.a_matrix_.value_ = np.array([one[2] for one in entries])
        highs_ = highspy.Highs()
        for option, value in (("output_flag", False), ("threads", 1), ("time_limit", seconds), ("mip_abs_gap", 0.999)):
            highs_.setOptionValue(option, value)
        highs_.passModel(model)
        highs_.run()
        info = highs_.getInfo()
        if info.primal_solution_status != highspy.SolutionStatus.kSolutionStatusFeasible:
            return None, np.inf, float(info.mip_dual_bound)
        values = np.asarray(highs_.getSolution().col_value)[:count]
        where = np.full(units, -1, dtype=np.int64)
        where[pairs[values > 0.5, 0]] = pairs[values > 0.5, 1]
        return where, float(info.objective_function_value), float(np.ceil(info.mip_dual_bound - 1e-6))


def main() -> None:
    """Runs both and prints what they reached."""
    options = argparse.ArgumentParser()
    options.add_argument("--machines", type=int, default=50)
    options.add_argument("--servers", type=int, default=500)
    options.add_argument("--seconds", type=float, default=60)
    options.add_argument("--seed", type=int, default=1)
    options.add_argument("--tight", type=float, default=0.75)
    options.add_argument("--step", type=int, default=512)
    options.add_argument("--arrange", choices=("spread", "pack"), default="spread")
    options.add_argument("--moves", choices=("few", "free"), default="few")
    options.add_argument("--alone", action="store_true", help="without the peer")
    given = options.parse_args()
    file = made(given.machines, given.servers, given.seed, given.tight, given.step, given.arrange, given.moves)
    problem, pack = as_problem(file), given.arrange == "pack"
    begun = time.monotonic()
    watch = Watch(lambda: begun + given.seconds * 0.9 - time.monotonic())
    found = plan(problem, Goal(pack=pack, moves=given.moves), watch)
    took = time.monotonic() - begun
    if isinstance(found, Found):
        print(f"rhizon: no placement, {took:.1f} s")
    else:
        assert (loads(problem, found.where) <= problem.capacity).all()
        load = f"load {found.load} % (bound {found.load_bound} %)"
        reached = f"{found.used} machines (bound {found.used_bound})" if pack else load
        proved = "proved" if found.proved(pack=pack) else "not proved"
        print(f"rhizon: {found.moves} moves (bound {found.moves_bound}), {reached}, {proved}, {took:.1f} s")
    if given.alone:
        return
    direct, begun, low = Direct(problem, pack=pack), time.monotonic(), lowest_load(problem)
    most = None
    first_bound: float = 0
    if given.moves == "few":
        where, value, first_bound = direct.solve(given.seconds, moves=True, most_moves=None, low=low)
        most = value
    left = max(given.seconds - (time.monotonic() - begun), 1)
    again, _, bound = direct.solve(left, moves=False, most_moves=most, low=low)
    where = again if again is not None else (where if given.moves == "few" else None)
    took = time.monotonic() - begun
    if where is None:
        print(f"direct: no placement, {took:.1f} s")
        return
    moves, load = moves_of(problem, where), highest_load(problem, where)
    reached = f"{len(np.unique(where))} machines" if pack else f"load {load} %"
    print(f"direct: {moves} moves (bound {first_bound:.0f}), {reached} (bound {bound:.0f}), {took:.1f} s")


if __name__ == "__main__":
    main()
