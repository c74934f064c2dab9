"""The placing as an integer program, solved by HiGHS (Q. Huangfu, J. A. J. Hall, 2018).

Units that do not differ are counted instead of told apart: for each kind and machine one whole number of those that
come there, and for each machine where some are today one of those that stay. Fifty machines and five hundred servers of
twenty sizes are then some thousand unknowns with no symmetry between equal servers.
"""

import threading
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np

from rhizon.core.errors import StateError
from rhizon.core.machines.problem import Ints, Problem

__all__ = ["Aim", "Solved", "program_size", "solve_program", "solve_relaxed"]

# fewest moves; fewest machines; fewest units that are left out
Aim = Literal["moves", "machines", "left-out"]
INFINITE = float("inf")


@dataclass(frozen=True)
class Solved:
    """``where`` as found (None: none yet), its value, the bound that was proved; ``impossible`` where no placement
    exists at all."""

    where: Ints | None
    value: float
    bound: float
    impossible: bool = False


@dataclass
class _Kind:
    """Units that do not differ but in where they are today (``homes``); or one unit with costs of its ``own``."""

    own: bool
    units: list[int] = field(default_factory=list)
    homes: dict[int, list[int]] = field(default_factory=dict)


class _Rows:
    """Columns and rows of the program as they are written down."""

    def __init__(self) -> None:
        self.cost: list[float] = []
        self.upper: list[float] = []
        self.entries: list[tuple[int, int, float]] = []
        self.low: list[float] = []
        self.high: list[float] = []

    def column(self, cost: float, upper: float) -> int:
        self.cost.append(cost)
        self.upper.append(upper)
        return len(self.cost) - 1

    def row(self, low: float, high: float) -> int:
        self.low.append(low)
        self.high.append(high)
        return len(self.low) - 1


def program_size(problem: Problem) -> int:
    """How many unknowns the program has."""
    kinds = _kinds(problem)
    return sum(int(problem.allowed[kind.units[0]].sum()) + len(kind.homes) for kind in kinds)


def solve_program(
    problem: Problem, aim: Aim, *, seconds: float, most_moves: int | None = None, most_machines: int | None = None,
    start: Ints | None = None, enough: float | None = None, copies: Ints | None = None, whole: bool = True,
) -> Solved:  # fmt: skip
    """Solves it with at most so many moves and machines in use, in one thread, until it is proved, ``seconds`` are over
    or the value is ``enough``. ``copies`` is how many there are of each machine; not ``whole``, parts of units may be
    placed, and ``where`` has the units that are not in parts. Raises StateError (``no-highspy``)."""
    if not len(problem.units):
        return Solved(np.zeros(0, dtype=np.int64), 0, 0)
    program = _Program(problem, aim, most_moves, most_machines, copies)
    return program.solve(seconds, start, enough, whole=whole)


def _kinds(problem: Problem) -> list[_Kind]:
    grouped = {u for group in problem.apart for u in group}
    kinds: dict[Any, _Kind] = {}
    for u in range(len(problem.units)):
        home = None if u in grouped else _home(problem, u)
        own = home is None
        key = u if own else (problem.demand[u].tobytes(), problem.allowed[u].tobytes())
        kind = kinds.setdefault(key, _Kind(own))
        kind.units.append(u)
        if home is not None and home >= 0:
            kind.homes.setdefault(home, []).append(u)
    return list(kinds.values())


def _home(problem: Problem, unit: int) -> int | None:
    """The machine at which it costs nothing, where every other costs 1; -1 where all cost the same; None where it is
    neither."""
    machines = np.flatnonzero(problem.allowed[unit])
    cost = problem.cost[unit, machines]
    low, high = int(cost.min(initial=1 << 30)), int(cost.max(initial=0))
    if high <= low:
        return -1
    if (low, high) != (0, 1) or int((cost == 0).sum()) != 1:
        return None
    return int(machines[cost.argmin()])


def solve_relaxed(problem: Problem, aim: Aim, *, seconds: float, whole: bool = True) -> Solved:
    """A bound: machines that do not differ are one machine as large as all of them, moves and groups do not count. Its
    ``where`` says nothing."""
    keys = np.concatenate([problem.capacity, problem.allowed.T.astype(np.int64)], axis=1)
    _, first, counts = np.unique(keys, axis=0, return_index=True, return_counts=True)
    small = Problem(
        tuple(problem.machines[m] for m in first), problem.units, problem.demand, problem.capacity[first],
        problem.allowed[:, first], np.zeros((len(problem.units), len(first)), dtype=np.int64), (),
    )  # fmt: skip
    return solve_program(small, aim, seconds=seconds, copies=counts.astype(np.int64), whole=whole)


class _Program:
    def __init__(
        self, problem: Problem, aim: Aim, most_moves: int | None, most_machines: int | None, copies: Ints | None
    ) -> None:  # fmt: skip
        self.copies = np.ones(len(problem.machines), dtype=np.int64) if copies is None else copies
        self.problem, self.aim = problem, aim
        self.kinds = _kinds(problem)
        self.rows = _Rows()
        self.come: list[dict[int, int]] = []  # for each kind: machine -> column
        self.stay: list[dict[int, int]] = []
        self.used: dict[int, int] = {}
        self.base = 0.0
        machines = range(len(problem.machines))
        load = {
            (m, r): self.rows.row(-INFINITE, float(problem.capacity[m, r] * self.copies[m]))
            for m in machines
            for r in range(4)
        }
        moves = self.rows.row(-INFINITE, INFINITE)
        moved_base = 0.0
        for kind in self.kinds:
            moved_base += self._columns(kind, load, moves)
        if most_moves is not None:
            self.rows.high[moves] = most_moves - moved_base
        if aim == "moves":
            self.base = moved_base
        self._groups()
        if aim == "machines" or most_machines is not None:
            self._machines(load)
        if most_machines is not None:
            row = self.rows.row(-INFINITE, float(most_machines))
            self.rows.entries += [(row, column, 1.0) for column in self.used.values()]

    def _columns(self, kind: _Kind, load: dict[tuple[int, int], int], moves: int) -> float:
        """The unknowns of one kind; answers how many moves it has where none of it stays."""
        problem, rows, first = self.problem, self.rows, kind.units[0]
        all_of = rows.row(len(kind.units), len(kind.units))
        self.come.append({})
        self.stay.append({})
        for machine in map(int, np.flatnonzero(problem.allowed[first])):
            price = float(problem.cost[first, machine]) if kind.own else 0.0
            self.come[-1][machine] = self._column(price, len(kind.units), first, machine, all_of, load, moves)
        for machine, units in kind.homes.items():
            self.stay[-1][machine] = self._column(-1.0, len(units), first, machine, all_of, load, moves)
        if self.aim == "left-out":
            rows.entries.append((all_of, rows.column(1.0, len(kind.units)), 1.0))
        if kind.own:
            return 0.0
        return float(sum(problem.cost[u, problem.allowed[u]].max(initial=0) for u in kind.units))

    def _column(
        self, price: float, most: int, unit: int, machine: int, all_of: int, load: dict[tuple[int, int], int],
        moves: int,
    ) -> int:  # fmt: skip
        rows = self.rows
        column = rows.column(price if self.aim == "moves" else 0.0, most)
        rows.entries.append((all_of, column, 1.0))
        if price:
            rows.entries.append((moves, column, price))
        for resource in range(4):
            size = int(self.problem.demand[unit, resource])
            if size:
                rows.entries.append((load[machine, resource], column, float(size)))
        return column

    def _groups(self) -> None:
        of_unit = {u: k for k, kind in enumerate(self.kinds) for u in kind.units}
        for group in self.problem.apart:
            kinds = [of_unit[u] for u in group]
            for machine in range(len(self.problem.machines)):
                columns = [table[k][machine] for k in kinds for table in (self.come, self.stay) if machine in table[k]]
                if len(columns) > 1:
                    row = self.rows.row(-INFINITE, 1.0)
                    for column in dict.fromkeys(columns):
                        self.rows.entries.append((row, column, float(columns.count(column))))

    def _machines(self, load: dict[tuple[int, int], int]) -> None:
        for machine in range(len(self.problem.machines)):
            self.used[machine] = column = self.rows.column(float(self.aim == "machines"), float(self.copies[machine]))
            for resource in range(4):
                row = load[machine, resource]
                self.rows.entries.append((row, column, -float(self.problem.capacity[machine, resource])))
                self.rows.high[row] = 0.0
            count = self.rows.row(-INFINITE, 0.0)  # also of what needs no resource at all
            for table in (self.come, self.stay):
                for columns in table:
                    if machine in columns:
                        self.rows.entries.append((count, columns[machine], 1.0))
            self.rows.entries.append((count, column, -float(len(self.problem.units))))

    def solve(self, seconds: float, start: Ints | None, enough: float | None, *, whole: bool) -> Solved:
        highspy = _highspy()
        highs = _silent(highspy)
        for option, value in (
            ("threads", 1), ("random_seed", 1), ("time_limit", max(seconds, 0.05)),
            ("mip_rel_gap", 0.0), ("mip_abs_gap", 0.999),
        ):  # fmt: skip
            highs.setOptionValue(option, value)
        if enough is not None:
            highs.setOptionValue("objective_target", float(enough) + 0.5)
        highs.passModel(self._model(highspy, whole=whole))
        if start is not None and self.aim != "left-out":
            solution = highspy.HighsSolution()
            solution.col_value = self._values(start)
            highs.setSolution(solution)
        # in a thread of its own: it answers no signal before it ends, and would hold up Ctrl-C for as long
        solving = threading.Thread(target=highs.run, daemon=True)
        solving.start()
        while solving.is_alive():
            solving.join(0.2)
        status = highs.getModelStatus()
        if status == highspy.HighsModelStatus.kInfeasible:
            return Solved(None, INFINITE, INFINITE, impossible=True)
        info = highs.getInfo()
        if not whole:
            if status != highspy.HighsModelStatus.kOptimal:
                return Solved(None, INFINITE, -INFINITE)
            value = info.objective_function_value
            return Solved(
                self._where(np.floor(np.asarray(highs.getSolution().col_value) + 1e-6)), value, _round_up(value)
            )
        bound = info.mip_dual_bound
        if info.primal_solution_status != highspy.SolutionStatus.kSolutionStatusFeasible:
            return Solved(None, INFINITE, _round_up(bound))
        where = self._where(np.asarray(highs.getSolution().col_value))
        return Solved(where, round(info.objective_function_value), _round_up(bound))

    def _model(self, highspy: Any, *, whole: bool) -> Any:
        rows, columns = self.rows, len(self.rows.cost)
        order = sorted(range(len(rows.entries)), key=lambda n: (rows.entries[n][1], rows.entries[n][0]))
        model = highspy.HighsLp()
        model.num_col_, model.num_row_ = columns, len(rows.low)
        model.col_cost_ = np.array(rows.cost)
        model.col_lower_, model.col_upper_ = np.zeros(columns), np.array(rows.upper, dtype=float)
        model.row_lower_, model.row_upper_ = np.array(rows.low, dtype=float), np.array(rows.high, dtype=float)
        model.offset_ = self.base
        if whole:
            model.integrality_ = [highspy.HighsVarType.kInteger] * columns
        begins = np.zeros(columns + 1, dtype=np.int32)
        for n in order:
            begins[rows.entries[n][1] + 1] += 1
        model.a_matrix_.format_ = highspy.MatrixFormat.kColwise
        model.a_matrix_.start_ = begins.cumsum().astype(np.int32)
        model.a_matrix_.index_ = np.array([rows.entries[n][0] for n in order], dtype=np.int32)
        model.a_matrix_.value_ = np.array([rows.entries[n][2] for n in order])
        return model

    def _values(self, where: Ints) -> list[float]:
        """A placement as values of the unknowns."""
        values = [0.0] * len(self.rows.cost)
        for k, kind in enumerate(self.kinds):
            at_home = {u: machine for machine, units in kind.homes.items() for u in units}
            for u in kind.units:
                machine = int(where[u])
                table = self.stay[k] if at_home.get(u) == machine else self.come[k]
                values[table[machine]] += 1.0
        for machine, column in self.used.items():
            values[column] = float((where == machine).any())
        return values

    def _where(self, values: Any) -> Ints:
        where = np.full(len(self.problem.units), -1, dtype=np.int64)
        for k, kind in enumerate(self.kinds):
            rest = list(kind.units)
            for machine, column in self.stay[k].items():
                for u in kind.homes[machine][: round(values[column])]:
                    where[u] = machine
                    rest.remove(u)
            places = [m for m, column in self.come[k].items() for _ in range(round(values[column]))]
            for u, machine in zip(rest, places, strict=False):
                where[u] = machine
        return where


def _round_up(bound: float) -> float:
    return float(np.ceil(bound - 1e-6)) if np.isfinite(bound) else bound


def _silent(highspy: Any) -> Any:
    """A solver that prints nothing; its own class prints a banner as it is made."""

    class SilentHighs(highspy.Highs):  # type: ignore[misc]
        def __init__(self) -> None:
            super(highspy.Highs, self).__init__()
            self.setOptionValue("output_flag", False)

    return SilentHighs()


def _highspy() -> Any:
    try:
        import highspy
    except ImportError:
        raise StateError(
            "no-highspy",
            "this plan needs the solver HiGHS",
            hint="Install it: pip install 'rhizon[machines]'",
        ) from None
    return highspy
