"""Placing servers on machines, held against trying everything; what clashes; what an apply decides."""

import itertools
import time
import unittest
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from rhizon.core.machines.actions import FoundServer, decide
from rhizon.core.machines.bounds import fewest_machines, fewest_moves, lowest_load
from rhizon.core.machines.clash import explain_clash
from rhizon.core.machines.plan import Found, Goal, Placed, Watch, highest_load, plan
from rhizon.core.machines.problem import Problem, as_problem, loads, moves_of
from rhizon.core.machines.program import solve_program
from rhizon.core.model.machines import Machine, MachinesFile, PlacementRules, ServerNeeds


def machine(**fields: Any) -> Machine:
    return Machine(**{"memory_mib": 8192, **fields})


def server(**fields: Any) -> ServerNeeds:
    return ServerNeeds(**{"memory_mib": 2048, **fields})


def machines_file(machines: dict[str, Machine], servers: dict[str, ServerNeeds], **rules: Any) -> MachinesFile:
    return MachinesFile(
        format="rhizon-machines/1", name="club", machines=machines, servers=servers, placement=PlacementRules(**rules)
    )


def watch(seconds: float = 30) -> Watch:
    end = time.monotonic() + seconds
    return Watch(lambda: end - time.monotonic())


def placements(problem: Problem) -> list[np.ndarray[Any, Any]]:
    """Every placement there is."""
    found = []
    for where in itertools.product(range(len(problem.machines)), repeat=len(problem.units)):
        at = np.array(where, dtype=np.int64)
        fits = (loads(problem, at) <= problem.capacity).all()
        allowed = all(problem.allowed[u, m] for u, m in enumerate(where))
        apart = all(len({where[u] for u in group}) == len(group) for group in problem.apart)
        if fits and allowed and apart:
            found.append(at)
    return found


@st.composite
def files(draw: Any) -> MachinesFile:
    names = [f"m{n}" for n in range(draw(st.integers(1, 3)))]
    machines = {
        name: machine(
            memory_mib=draw(st.sampled_from([4000, 6000, 8000])),
            cores=draw(st.sampled_from([None, 2, 4])),
            ports=draw(st.sampled_from([(), ("24000-24003",)])),
            labels=draw(st.sampled_from([(), ("ssd",)])),
            emptied=draw(st.integers(0, 5)) == 0,
            closed=draw(st.integers(0, 5)) == 0,
        )
        for name in names
    }
    servers = {
        f"s{n}": server(
            memory_mib=draw(st.sampled_from([1000, 1500, 2000, 3000])),
            cores=draw(st.sampled_from([0, 0.5, 1])),
            ports=draw(st.integers(0, 2)),
            fixed_ports=draw(st.sampled_from([(), (), (), (24001,)])),
            needs=draw(st.sampled_from([(), (), ("ssd",)])),
            machine=draw(st.sampled_from([None, *names])),
        )
        for n in range(draw(st.integers(1, 5)))
    }
    groups = st.lists(st.sampled_from(sorted(servers)), min_size=2, max_size=3, unique=True).map(tuple)
    several = st.lists(groups, max_size=1).map(tuple) if len(servers) > 1 else st.just(())
    return machines_file(
        machines,
        servers,
        arrange=draw(st.sampled_from(["spread", "pack"])),
        moves=draw(st.sampled_from(["few", "free", 0, 1, 2])),
        together=draw(several),
        apart=draw(several),
    )


class Planning(unittest.TestCase):
    @settings(max_examples=90, deadline=None, derandomize=True)
    @given(files())
    def test_it_is_the_best_of_all(self, file: MachinesFile) -> None:
        problem, rules = as_problem(file), file.placement
        pack = rules.arrange == "pack"
        every = placements(problem)
        if isinstance(rules.moves, int):
            every = [one for one in every if moves_of(problem, one) <= rules.moves]
        found = plan(problem, Goal(pack=pack, moves=rules.moves), watch())
        if not every:
            self.assertIsInstance(found, Found)
            assert isinstance(found, Found)
            most = rules.moves if isinstance(rules.moves, int) else 1 << 20
            self.assertTrue(found.impossible or found.bound > most)
            return
        assert isinstance(found, Placed)
        arranged = (lambda at: len(np.unique(at))) if pack else (lambda at: highest_load(problem, at))
        values = [(moves_of(problem, at), arranged(at)) for at in every]
        best = min(values) if rules.moves == "few" else min((a, m) for m, a in values)[::-1]
        self.assertEqual((found.moves, found.used if pack else found.load), best)
        self.assertTrue(found.proved(pack=pack), found)
        self.assertTrue(any((found.where == at).all() for at in every))
        # bounds are below what there is
        self.assertLessEqual(fewest_moves(problem), min(m for m, _ in values))
        self.assertLessEqual(lowest_load(problem), min(highest_load(problem, at) for at in every))
        self.assertLessEqual(fewest_machines(problem, None), min(len(np.unique(at)) for at in every))

    def test_a_large_one_is_solved_by_parts(self) -> None:
        """Too large for one program: what is found is a placement, and no bound is above it."""
        sizes = [512, 1024, 1536, 2048, 3072]
        machines = {f"m{n:03}": machine(memory_mib=16384, cores=8) for n in range(120)}
        servers = {
            f"s{n:04}": server(memory_mib=sizes[n % 5] + n % 7 * 17, cores=1, machine=f"m{n * 7 % 120:03}")
            for n in range(900)
        }
        for arrange, moves in (("spread", "few"), ("pack", "free")):
            with self.subTest(arrange=arrange):
                problem = as_problem(machines_file(machines, servers, arrange=arrange, moves=moves))
                found = plan(problem, Goal(pack=arrange == "pack", moves=moves), watch(4))
                assert isinstance(found, Placed)
                self.assertTrue((loads(problem, found.where) <= problem.capacity).all())
                self.assertLessEqual(found.moves_bound, found.moves)
                self.assertLessEqual((found.load_bound, found.used_bound), (found.load, found.used))

    def test_the_program_alone(self) -> None:
        file = machines_file({"a": machine(), "b": machine()}, {f"s{n}": server(memory_mib=3000) for n in range(5)})
        solved = solve_program(as_problem(file), "left-out", seconds=10)
        assert solved.where is not None
        self.assertEqual((solved.value, int((solved.where < 0).sum())), (1, 1))


class Clashes(unittest.TestCase):
    def test_smallest_sets_and_what_lifts_them(self) -> None:
        two = {"a": machine(), "b": machine()}
        cases = (
            (two, {"x": server(memory_mib=9000), "y": server()}, {}, {"x"}, "9000 MiB", "give a 1024 MiB more memory"),
            (
                {"a": machine(labels=("ssd",)), "b": machine()},
                {"x": server(memory_mib=5000, needs=("ssd",)), "y": server(memory_mib=4000, needs=("ssd",)),
                 "z": server()},
                {}, {"x", "y"}, "x needs ssd, which a has", "drop what y needs of its machine",
            ),
            (two, {"x": server(), "y": server(), "z": server()}, {"apart": (("x", "y", "z"),)}, {"x", "y", "z"},
             "no two of them may share a machine", "let them share a machine: x, y, z"),
            (two, {"x": server(), "y": server()}, {"apart": (("x", "y"),), "together": (("x", "y"),)}, {"x", "y"},
             "must be together", "let them be on several machines: x, y"),
            ({"a": machine(), "b": machine(emptied=True)},
             {"x": server(memory_mib=5000, machine="b"), "y": server(memory_mib=5000, machine="a")}, {},
             {"x", "y"}, "b is to be emptied", "keep servers on b"),
            (two, {n: server(fixed_ports=(27001,)) for n in "xyz"}, {}, {"x", "y", "z"}, "needs port 27001",
             "let x have other ports"),
            ({"a": machine(), "b": machine(emptied=True)}, {n: server(machine="b") for n in "xyz"}, {"moves": 1},
             {"x", "y"}, "at most 1 server may move", "allow 3 moves"),
            ({"a": machine(), "b": machine(closed=True)}, {"x": server(on=("b",))}, {}, {"x"},
             "b is closed: it takes no other servers", "open b again"),
            ({"a": machine(ports=("24000-24003",))}, {"x": server(fixed_ports=(25000,))}, {}, {"x"},
             "x needs port 25000", "let x have other ports"),
            (two, {f"s{n:02}": server(memory_mib=1500) for n in range(12)}, {}, None, "need 16.1 GiB",
             "give a 2560 MiB more memory"),
        )  # fmt: skip
        for machines, servers, rules, who, demand, lift in cases:
            with self.subTest(demand=demand):
                file = machines_file(machines, servers, **rules)
                self.assertIsInstance(plan(as_problem(file), Goal(moves=file.placement.moves), watch()), Found)
                clash = explain_clash(file, watch())
                if who is not None:
                    self.assertEqual(set(clash.servers), who)
                self.assertIn(demand, "; ".join(clash.demands))
                self.assertIn(lift, [one.text for one in clash.lifts])


class Applying(unittest.TestCase):
    def test_what_is_done_with_a_server(self) -> None:
        file = machines_file({"a": machine(), "b": machine(), "c": machine()}, {"x": server(machine="a")})
        on = {name: FoundServer(name, f"/srv/{name}/x", "ready") for name in "abc"}
        cases: tuple[tuple[Any, ...], ...] = (
            # found on, down, last seen on, ever looked at; makes, moves from, held because
            ("a", "", None, "abc", "a", None, None),
            ("", "", None, "", "a", None, None),
            ("b", "", None, "abc", None, "b", None),
            ("ab", "", None, "abc", None, None, "several machines: a, b"),
            ("", "a", None, "abc", None, None, "a was not reached"),
            ("b", "a", None, "abc", None, None, "a was not reached"),
            ("", "b", "b", "abc", None, None, "last seen on b"),
            ("", "b", None, "ac", None, None, "may be on b, which was never reached"),
            ("", "b", None, "abc", "a", None, None),
            ("", "b", "c", "abc", "a", None, None),
        )
        for found, down, last, looked, makes, moves, why in cases:
            with self.subTest(found=found, down=down, last=last, looked=looked):
                done = decide(
                    file, {"x": [on[name] for name in found]} if found else {}, set(down),
                    {"x": last} if last else {}, set(looked),
                )  # fmt: skip
                self.assertEqual(done.makes.get("x"), makes)
                self.assertEqual([one.from_machine for one in done.moves], [moves] if moves else [])
                self.assertIn(why or "", done.held.get("x", ""))
                self.assertEqual("x" in done.held, why is not None)
        done = decide(file, {"y": [on["b"]]}, (), {}, "abc")
        self.assertEqual(done.strangers, {"y": "b"})
        self.assertEqual(decide(machines_file({"a": machine()}, {"x": server()}), {}, (), {}, "a").makes, {})
