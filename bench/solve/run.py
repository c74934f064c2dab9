"""The solver beside other solvers on the same sets: python bench/solve/run.py [SEEDS]

Peers, each told the same closure: CaDiCaL (python-sat), CP-SAT (OR-Tools), resolvelib (15 s at most). Times are wall
seconds of one run each, in one process; "read" is decoding the items that a solver touches, which every peer is given
for nothing. Ratios are peer / Rhizon (prepare + solve). "refuse" is a refusal with its core and verified repairs.
A second table is ``--prefer current`` beside CP-SAT with the same objective, 60 s at most, and RC2 (python-sat); where
two prove an optimum they must agree. Needs: pip install python-sat ortools resolvelib
"""

import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
from universes import KINDS, MemoryShelf, plan, write_catalog

from rhizon.adapters.games import GAMES, read_game
from rhizon.core.errors import NoSolutionError
from rhizon.core.model.contentlist import TargetWish, Wish
from rhizon.core.solve import Request, solve
from rhizon.core.solve.engine import RefusedError
from rhizon.core.solve.search import Search
from rhizon.core.solve.space import Space
from rhizon.core.solve.targets import candidates
from rhizon.core.solve.universe import Universe
from rhizon.core.version import parse_range, parse_version

SIZES = ((500, 40), (5_000, 200), (20_000, 400))
RESOLVELIB_SECONDS = 15
CP_SAT_SECONDS = 60
TANGLED_MOST = 5_000
RC2_TANGLED_MOST = 500  # more takes it minutes
GAME = read_game(GAMES / "tarnholt.game.toml")


def request(wished: list[str]) -> Request:
    return Request(
        name="bench",
        source="list",
        game="tarnholt",
        target=TargetWish(game_version=parse_range("4.2"), runtime=parse_range("17")),
        wishes={name: Wish() for name in wished},
        channel="stable",
        exclude=frozenset(),
        majors=(17,),
    )


def closure(items: dict[str, dict[str, Any]], wished: list[str]) -> dict[str, list[tuple[Any, list[tuple[str, Any]]]]]:
    """Everything that could be needed: id to releases, oldest first, each with what it requires."""
    found: dict[str, list[tuple[Any, list[tuple[str, Any]]]]] = {}
    waiting = list(wished)
    while waiting:
        name = waiting.pop()
        if name in found:
            continue
        releases = []
        for release in items[name]["releases"]:
            needs = [(one["id"], parse_range(one["range"])) for one in release["requires"]]
            releases.append((parse_version(release["version"]), needs))
            waiting.extend(one for one, _ in needs)
        found[name] = sorted(releases, key=lambda one: one[0])
    return found


def encoded(space: dict[str, Any], wished: list[str]) -> tuple[dict[tuple[str, int], int], list[list[int]]]:
    """Clauses over one Boolean for each release."""
    number: dict[tuple[str, int], int] = {}
    for name, releases in space.items():
        for at in range(len(releases)):
            number[name, at] = len(number) + 1
    clauses = [[number[name, at] for at in range(len(space[name]))] for name in wished]
    for name, releases in space.items():
        own = [number[name, at] for at in range(len(releases))]
        clauses += [[-a, -b] for i, a in enumerate(own) for b in own[i + 1 :]]
        for at, (_, needs) in enumerate(releases):
            for other, wanted in needs:
                fitting = [number[other, i] for i, (v, _) in enumerate(space[other]) if wanted.admits(v)]
                clauses.append([-number[name, at], *fitting])
    return number, clauses


def cadical(space: dict[str, Any], wished: list[str]) -> bool:
    from pysat.solvers import Cadical153

    _, clauses = encoded(space, wished)
    with Cadical153(bootstrap_with=clauses) as solver:
        return bool(solver.solve())


def cp_sat(space: dict[str, Any], wished: list[str], *, current: bool = False) -> Any:
    """Whether there is a solution; with ``current`` the fewest releases behind, None when that was not proved."""
    from ortools.sat.python import cp_model

    number, clauses = encoded(space, wished)
    model = cp_model.CpModel()
    variables = [model.new_bool_var("") for _ in number]
    for clause in clauses:
        model.add_bool_or([variables[abs(one) - 1] if one > 0 else variables[-one - 1].negated() for one in clause])
    solver = cp_model.CpSolver()
    solver.parameters.num_workers = 1
    if current:
        last = {name: len(releases) - 1 for name, releases in space.items()}
        behind = [(last[name] - at, variables[one - 1]) for (name, at), one in number.items() if name in set(wished)]
        model.minimize(sum(cost * variable for cost, variable in behind))
        solver.parameters.max_time_in_seconds = CP_SAT_SECONDS
        return round(solver.objective_value) if solver.solve(model) == cp_model.OPTIMAL else None
    return bool(solver.solve(model) in (cp_model.OPTIMAL, cp_model.FEASIBLE))


def rc2(space: dict[str, Any], wished: list[str]) -> int:
    """The fewest releases behind by core-guided MaxSAT."""
    from pysat.examples.rc2 import RC2
    from pysat.formula import WCNF

    number, clauses = encoded(space, wished)
    formula = WCNF()
    formula.extend(clauses)
    for name in wished:
        last = len(space[name]) - 1
        for at in range(last):
            formula.append([-number[name, at]], weight=last - at)
    with RC2(formula) as solver:
        solver.compute()
        return int(solver.cost)


RESOLVELIB = """
import sys; sys.path.insert(0, sys.argv[1])
import resolvelib, run
import msgspec
from universes import plan
items, wished = plan(sys.argv[2], int(sys.argv[3]), int(sys.argv[4]), int(sys.argv[5]))
space = run.closure(items, wished)
class Provider(resolvelib.AbstractProvider):
    def identify(self, requirement_or_candidate): return requirement_or_candidate[0]
    def get_preference(self, identifier, resolutions, candidates, information, backtrack_causes): return identifier
    def find_matches(self, identifier, requirements, incompatibilities):
        bad = {one[1] for one in incompatibilities[identifier]}
        wanted = [one[1] for one in requirements[identifier]]
        return [(identifier, i) for i, (v, _) in reversed(list(enumerate(space[identifier])))
                if i not in bad and all(one.admits(v) for one in wanted)]
    def is_satisfied_by(self, requirement, candidate):
        return requirement[1].admits(space[candidate[0]][candidate[1]][0])
    def get_dependencies(self, candidate): return space[candidate[0]][candidate[1]][1]
import time; t = time.perf_counter()
wanted = [(n, run.parse_range("*")) for n in wished]
try: resolvelib.Resolver(Provider(), resolvelib.BaseReporter()).resolve(wanted, 10**6); ok = True
except resolvelib.ResolutionImpossible: ok = False
print(time.perf_counter() - t, ok)
"""


def resolvelib_seconds(kind: str, items: int, wishes: int, seed: int) -> str:
    here = str(Path(__file__).parent)
    try:
        done = subprocess.run(
            [sys.executable, "-c", RESOLVELIB, here, kind, str(items), str(wishes), str(seed)],
            capture_output=True,
            text=True,
            timeout=RESOLVELIB_SECONDS + 10,
        )
        return f"{float(done.stdout.split()[0]):.2f}" if done.stdout else "failed"
    except subprocess.TimeoutExpired:
        return f">{RESOLVELIB_SECONDS}"


def timed(work: Callable[[], Any]) -> tuple[float, Any]:
    begun = time.perf_counter()
    result = work()
    return time.perf_counter() - begun, result


def solved(wished: list[str], shelf: MemoryShelf) -> bool:
    """The search alone, as the peers are asked: no lock, no reasons, no story."""
    asked = request(wished)
    universe = Universe(asked, GAME, shelf)
    for target, _ in candidates(asked, GAME, shelf.host(GAME.id)[1]):
        try:
            Search(Space(universe, target, wished)).run(wished)
        except RefusedError:
            continue
        return True
    return False


class Read:
    """The shelf with its items decoded beforehand."""

    def __init__(self, shelf: MemoryShelf, names: list[str]) -> None:
        self._items = {name: shelf.item("", name) for name in names}
        self.index, self.host, self.other_game = shelf.index, shelf.host, shelf.other_game
        self.prefetch, self.hidden = shelf.prefetch, shelf.hidden

    def item(self, _game: str, name: str) -> Any:
        return self._items.get(name)


def main() -> None:
    seeds = int(sys.argv[1]) if len(sys.argv) > 1 else 2
    head = f"{'set':>22} {'read':>6} {'rhizon':>7} {'refuse':>7} {'cadical':>8} {'cp-sat':>7} {'resolvelib':>10}"
    print(f"{head}  {'cadical/rhizon':>14} {'cp-sat/rhizon':>13}")
    for items, wishes in SIZES:
        for kind in KINDS:
            if kind == "tangled" and items > TANGLED_MOST:
                continue  # minutes for every solver here
            for seed in range(1, seeds + 1):
                made, wished = plan(kind, items, wishes, seed)
                space = closure(made, wished)
                shelf = MemoryShelf(made)
                read, ready = timed(lambda shelf=shelf, space=space: Read(shelf, list(space)))
                own, possible = timed(lambda ready=ready, wished=wished: solved(wished, ready))
                refuse = 0.0
                if not possible:
                    refuse, _ = timed(lambda ready=ready, wished=wished: refused(wished, ready))
                sat, same = timed(lambda space=space, wished=wished: cadical(space, wished))
                cp, also = timed(lambda space=space, wished=wished: cp_sat(space, wished))
                assert possible == same == also, (kind, items, seed)
                other = resolvelib_seconds(kind, items, wishes, seed)
                row = f"{kind:>6} {items:>6}/{wishes} #{seed}"
                told = f"{refuse:>7.2f}" if not possible else f"{'':>7}"
                print(f"{row:>22} {read:>6.2f} {own:>7.2f} {told} {sat:>8.2f} {cp:>7.2f} {other:>10}", end="")
                print(f"  {sat / own:>14.2f} {cp / own:>13.2f}", flush=True)
    prefer_current()
    whole_command()


def prefer_current() -> None:
    head = f"{'prefer current':>22} {'behind':>7} {'rhizon':>7} {'proved':>7} {'cp-sat':>7} {'behind':>7}"
    print(f"{head} {'rc2':>7} {'behind':>7}")
    for items, wishes in SIZES:
        for kind in ("hard", "tangled"):
            if kind == "tangled" and items > TANGLED_MOST:
                continue
            made, wished = plan(kind, items, wishes, 1)
            space = closure(made, wished)
            ready = Read(MemoryShelf(made), list(space))
            asked = msgspec.structs.replace(request(wished), prefer="current")
            own, solution = timed(lambda asked=asked, ready=ready: solve(asked, GAME, ready))
            newest = {name: len(releases) - 1 for name, releases in space.items()}
            taken = {one.id: one.version for one in solution.lock.releases}
            versions = {name: [version for version, _ in space[name]] for name in wished}
            behind = sum(newest[name] - versions[name].index(taken[name]) for name in wished)
            proved = any("fewest that there can be" in one.what for one in solution.findings)
            cp, least = timed(lambda space=space, wished=wished: cp_sat(space, wished, current=True))
            assert least is None or not proved or least == behind, (kind, items, least, behind)
            row = f"{kind:>6} {items:>6}/{wishes}"
            told = f"{behind:>7} {own:>7.2f} {'yes' if proved else 'no':>7} {cp:>7.2f} {least or '-':>7}"
            print(f"{row:>22} {told}", end="", flush=True)
            if kind == "tangled" and items > RC2_TANGLED_MOST:
                print(f" {'-':>7} {'-':>7}")
                continue
            sat, cost = timed(lambda space=space, wished=wished: rc2(space, wished))
            assert not proved or cost == behind, (kind, items, cost, behind)
            print(f" {sat:>7.2f} {cost:>7}", flush=True)


def refused(wished: list[str], shelf: Any) -> None:
    try:
        solve(request(wished), GAME, shelf)
    except NoSolutionError as error:
        assert error.core


def whole_command() -> None:
    """``rhizon solve`` on the largest catalog as files, with its peak memory."""
    with tempfile.TemporaryDirectory() as scratch:
        folder = Path(scratch)
        for kind in ("easy", "hard"):
            made, wished = plan(kind, *SIZES[-1], 1)
            where = folder / kind
            write_catalog(made, wished, where)
            code = (
                "import re, sys, time; t = time.perf_counter()\n"
                "import rhizon.cli.main as m\n"
                "try: m.main(sys.argv[1:])\n"
                "except SystemExit: pass\n"
                "rss = int(re.search(r'VmHWM:\\s+(\\d+)', open('/proc/self/status').read())[1]) / 1024\n"
                "print(f'{time.perf_counter() - t:.2f} s, {rss:.0f} MB', file=sys.stderr)"
            )
            arguments = ["solve", str(where / "wanted.list.toml"), "--catalog", str(where / "catalog"), "-q"]
            for turn in ("first", "again"):
                done = subprocess.run([sys.executable, "-c", code, *arguments], capture_output=True, text=True)
                print(f"rhizon solve, {kind}, {turn}: {done.stderr.strip().splitlines()[-1]}")


if __name__ == "__main__":
    main()
