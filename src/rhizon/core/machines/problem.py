"""The placing of servers as arrays: units with demands, machines with capacities, who may be where, what a move costs.

Servers that must be together are one unit. Resources are memory (MiB), cores (hundredths), disk (MiB) and ports
(numbers), all whole. A fixed port number that several servers want is a group of which no two share a machine, as those
are that the file keeps apart.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import msgspec
import numpy as np
import numpy.typing as npt

from rhizon.core.allocate.ports import parse_pool
from rhizon.core.model.machines import Machine, MachinesFile, PlacementRules, ServerNeeds

__all__ = [
    "MEMORY",
    "RESOURCES",
    "Bools",
    "Ints",
    "Problem",
    "as_problem",
    "fits_alone",
    "loads",
    "moves_of",
]

RESOURCES = ("memory", "cores", "disk", "ports")
MEMORY = 0
HUNDREDTHS = 100

Ints = npt.NDArray[np.int64]
Bools = npt.NDArray[np.bool_]


@dataclass(frozen=True)
class Problem:
    """``units[u]`` are the names of its servers; ``demand`` is (units, resources), ``capacity`` (machines, resources);
    ``allowed`` and ``cost`` are (units, machines): where it may be, and how many of its servers would move to be there.
    ``apart`` are groups of units of which no two share a machine."""

    machines: tuple[str, ...]
    units: tuple[tuple[str, ...], ...]
    demand: Ints
    capacity: Ints
    allowed: Bools
    cost: Ints
    apart: tuple[tuple[int, ...], ...]

    def with_memory(self, most: Ints) -> "Problem":
        """The same with less memory: ``most`` MiB for each machine."""
        capacity = self.capacity.copy()
        capacity[:, MEMORY] = np.minimum(capacity[:, MEMORY], most)
        return replace(self, capacity=capacity)

    def with_machines(self, used: Bools) -> "Problem":
        """The same with only some machines in use."""
        return replace(self, allowed=self.allowed & used[None, :])

    def part(self, units: Sequence[int], machines: Sequence[int], taken: Ints) -> "Problem":
        """Only some units and machines, of which ``taken`` (machines, resources) is used by others. The groups keep
        only these units: the caller forbids machines that others of a group are on."""
        place = {unit: n for n, unit in enumerate(units)}
        groups = (tuple(place[u] for u in group if u in place) for group in self.apart)
        return Problem(
            tuple(self.machines[m] for m in machines),
            tuple(self.units[u] for u in units),
            self.demand[list(units)],
            self.capacity[list(machines)] - taken,
            self.allowed[np.ix_(list(units), list(machines))],
            self.cost[np.ix_(list(units), list(machines))],
            tuple(group for group in groups if len(group) > 1),
        )


def loads(problem: Problem, where: Ints) -> Ints:
    """What each machine holds, (machines, resources); units at -1 are nowhere."""
    held = np.zeros_like(problem.capacity)
    placed = where >= 0
    np.add.at(held, where[placed], problem.demand[placed])
    return held


def moves_of(problem: Problem, where: Ints) -> int:
    """How many servers leave the machine that they are on today."""
    placed = np.flatnonzero(where >= 0)
    return int(problem.cost[placed, where[placed]].sum())


def as_problem(file: MachinesFile) -> Problem:
    """A machines file as arrays."""
    machines = tuple(file.machines)
    index = {name: n for n, name in enumerate(machines)}
    units = _merged(tuple(file.servers), file.placement.together)
    of_server = {name: u for u, unit in enumerate(units) for name in unit}
    needs = [[file.servers[name] for name in unit] for unit in units]
    demand = np.array([_demand(unit) for unit in needs], dtype=np.int64).reshape(len(units), len(RESOURCES))
    capacity = _capacity(list(file.machines.values()), demand)
    allowed = np.ones((len(units), len(machines)), dtype=np.bool_)
    cost = np.zeros((len(units), len(machines)), dtype=np.int64)
    pools = {name: frozenset(parse_pool(one.ports)) if one.ports else None for name, one in file.machines.items()}
    kinds: dict[Any, Bools] = {}
    for u, members in enumerate(needs):
        for server in members:
            key = (server.needs, server.on, server.fixed_ports, server.machine if _shuts(file) else None)
            if key not in kinds:
                kinds[key] = np.array([_may_be_on(server, name, file.machines[name], pools[name]) for name in machines])
            allowed[u] &= kinds[key]
            if server.machine is not None:
                cost[u] += 1
                cost[u, index[server.machine]] -= 1
    groups = [tuple(of_server[name] for name in group) for group in file.placement.apart]
    groups += [tuple(of_server[name] for name in names) for names in _same_ports(file.servers).values()]
    return Problem(machines, units, demand, capacity, allowed, cost, tuple(dict.fromkeys(map(_sorted, groups))))


def _sorted(group: Sequence[int]) -> tuple[int, ...]:
    """A unit that is in a group twice stays twice: it cannot be placed."""
    return tuple(sorted(group))


def _shuts(file: MachinesFile) -> bool:
    return any(one.closed for one in file.machines.values())


def _may_be_on(server: ServerNeeds, name: str, machine: Machine, pool: frozenset[int] | None) -> bool:
    """Whether labels, ``on``, port numbers and the machine's own state let the server be there."""
    return (
        not machine.emptied
        and not (machine.closed and server.machine != name)
        and (not server.on or name in server.on)
        and set(server.needs) <= set(machine.labels)
        and (pool is None or pool.issuperset(server.fixed_ports))
    )


def fits_alone(file: MachinesFile, name: str) -> bool:
    """Whether some machine that a server may be on is large enough for it alone."""
    one = msgspec.structs.replace(file, servers={name: file.servers[name]}, placement=PlacementRules())
    problem = as_problem(one)
    return bool((problem.allowed[0] & (problem.capacity >= problem.demand[0]).all(axis=1)).any())


def _merged(names: Sequence[str], groups: Sequence[Sequence[str]]) -> tuple[tuple[str, ...], ...]:
    """Servers as units, in the order of their first: those that share a group, or groups that share one."""
    leader = {name: name for name in names}

    def find(name: str) -> str:
        while leader[name] != name:
            leader[name] = leader[leader[name]]
            name = leader[name]
        return name

    for group in groups:
        for name in group[1:]:
            leader[find(name)] = find(group[0])
    units: dict[str, list[str]] = {}
    for name in names:
        units.setdefault(find(name), []).append(name)
    return tuple(tuple(unit) for unit in units.values())


def _demand(unit: Sequence[ServerNeeds]) -> list[int]:
    return [
        sum(one.memory_mib for one in unit),
        sum(round(one.cores * HUNDREDTHS) for one in unit),
        sum(one.disk_mib for one in unit),
        sum(one.port_count for one in unit),
    ]


def _capacity(machines: Sequence[Machine], demand: Ints) -> Ints:
    """What is left out is enough for all."""
    all_of = demand.sum(axis=0)
    rows = [
        [
            one.memory_mib,
            int(all_of[1]) if one.cores is None else round(one.cores * HUNDREDTHS),
            int(all_of[2]) if one.disk_mib is None else one.disk_mib,
            len(parse_pool(one.ports)) if one.ports else int(all_of[3]),
        ]
        for one in machines
    ]
    return np.array(rows, dtype=np.int64).reshape(len(machines), len(RESOURCES))


def _same_ports(servers: Mapping[str, ServerNeeds]) -> dict[int, list[str]]:
    """Port numbers that several servers must have, and which."""
    wanted: dict[int, list[str]] = {}
    for name, server in servers.items():
        for number in server.fixed_ports:
            wanted.setdefault(number, []).append(name)
    return {number: names for number, names in wanted.items() if len(names) > 1}
