"""Which server is to be on which machine."""

import time
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from rhizon.app.machines.read import read_machines, write_places
from rhizon.app.reporter import Reporter
from rhizon.core.errors import NoSolutionError, StateError
from rhizon.core.model.machines import MachinesFile

if TYPE_CHECKING:
    from rhizon.core.machines.plan import Found, Placed, Watch

__all__ = ["MachineLoad", "MachinesPlan", "ServerMove", "place_servers", "plan_machines"]

SECONDS = 45.0
SECONDS_OF_MANY = 85.0
MANY = 1000  # servers
CLASH_SECONDS = 45.0


class ServerMove(msgspec.Struct, frozen=True, kw_only=True):
    """A server that gets another machine; ``from_machine`` is None for a new one."""

    server: str
    from_machine: str | None
    to_machine: str


class MachineLoad(msgspec.Struct, frozen=True, kw_only=True):
    """What a machine is to hold, of how much; ``cores``, ``disk_mib`` and ``ports`` are None where not counted."""

    machine: str
    servers: tuple[str, ...]
    memory_mib: int
    memory_of_mib: int
    cores: float
    cores_of: float | None
    disk_mib: int
    disk_of_mib: int | None
    ports: int
    ports_of: int | None

    @property
    def percent(self) -> int:
        """Of its memory, rounded up."""
        return -(-100 * self.memory_mib // self.memory_of_mib) if self.memory_of_mib else 0


class MachinesPlan(msgspec.Struct, frozen=True, kw_only=True):
    """The plan: ``servers`` by name, with their machine. Of each figure what was reached and what is proved to be the
    best: ``moved`` servers, ``load`` (the highest memory load, whole percent), ``used`` machines. ``proved`` where it
    is the best in both figures that were asked for."""

    file: str
    name: str
    arrange: str
    moves_allowed: str
    proved: bool
    moved: int
    moved_bound: int
    load: int
    load_bound: int
    used: int
    used_bound: int
    seconds: float
    servers: dict[str, str]
    moves: tuple[ServerMove, ...]
    machines: tuple[MachineLoad, ...]
    written: bool
    plot: str | None


def plan_machines(
    path: Path, reporter: Reporter, *, seconds: float | None = None, write: bool = False, plot: Path | None = None
) -> MachinesPlan:
    """Places the servers of a machines file. Raises NoSolutionError with what clashes (``no-placement``), or
    StateError where none was found in time (``placement-unknown``)."""
    file = read_machines(path)
    begun = time.monotonic()
    placed, servers = place_servers(file, reporter, seconds)
    loads = _loads(file, servers)
    made = MachinesPlan(
        file=str(path),
        name=file.name,
        arrange=file.placement.arrange,
        moves_allowed=str(file.placement.moves),
        proved=placed.proved(pack=file.placement.arrange == "pack"),
        moved=placed.moves,
        moved_bound=placed.moves_bound,
        load=placed.load,
        load_bound=placed.load_bound,
        used=placed.used,
        used_bound=placed.used_bound,
        seconds=round(time.monotonic() - begun, 2),
        servers=servers,
        moves=tuple(
            ServerMove(server=name, from_machine=file.servers[name].machine, to_machine=machine)
            for name, machine in servers.items()
            if file.servers[name].machine != machine
        ),
        machines=loads,
        written=write,
        plot=None if plot is None else str(plot),
    )
    if write:
        write_places(path, {move.server: move.to_machine for move in made.moves})
    if plot is not None:
        from rhizon.adapters.load_plot import draw_loads

        rows = [
            (one.machine, [(name, file.servers[name].memory_mib) for name in one.servers], one.memory_of_mib)
            for one in loads
        ]
        moved = {move.server for move in made.moves if move.from_machine is not None}
        draw_loads(plot, f"{file.title or file.name}: memory of {len(loads)} machines", rows, moved)
    return made


def place_servers(file: MachinesFile, reporter: Reporter, seconds: float | None) -> "tuple[Placed, dict[str, str]]":
    """The best placement that was found in time, and each server's machine. Raises as above."""
    from rhizon.core.machines.plan import Found, Goal, plan
    from rhizon.core.machines.problem import as_problem

    problem = as_problem(file)
    rules = file.placement
    limit = seconds or (SECONDS_OF_MANY if len(file.servers) > MANY else SECONDS)
    found = plan(problem, Goal(pack=rules.arrange == "pack", moves=rules.moves), _watch(limit, reporter))
    if isinstance(found, Found):
        raise _none(file, found, reporter)
    servers = {name: problem.machines[at] for unit, at in zip(problem.units, found.where, strict=True) for name in unit}
    return found, {name: servers[name] for name in file.servers}


def _watch(seconds: float, reporter: Reporter) -> "Watch":
    from rhizon.core.machines.plan import Watch

    end = time.monotonic() + seconds
    return Watch(lambda: end - time.monotonic(), reporter.step)


def _none(file: MachinesFile, found: "Found", reporter: Reporter) -> StateError | NoSolutionError:
    from rhizon.core.machines.clash import explain_clash

    most = file.placement.moves if isinstance(file.placement.moves, int) else None
    if not found.impossible and (most is None or found.bound <= most):
        return StateError(
            "placement-unknown",
            f"{file.name}: no placement was found in time, and none was ruled out",
            hint="Give it more time with --seconds, or make some room: servers of less memory, fewer groups",
        )
    clash = explain_clash(file, _watch(CLASH_SECONDS, reporter))
    lifts = [one.text for one in clash.lifts]
    error = NoSolutionError(
        "no-placement",
        f"{file.name}: these demands cannot all be met",
        details=[*clash.demands, *(f"fix: {text}" for text in lifts)],
        hint="Each fix alone makes a placement possible; it was tried"
        if lifts
        else "No single change fixes this: loosen several of these demands, or add a machine",
    )
    error.core = clash.demands
    error.repairs = tuple({"kind": one.kind, "item": one.item, "text": one.text} for one in clash.lifts)
    return error


def _loads(file: MachinesFile, servers: dict[str, str]) -> tuple[MachineLoad, ...]:
    from rhizon.core.allocate.ports import parse_pool

    on: dict[str, list[str]] = {name: [] for name in file.machines}
    for name, machine in servers.items():
        on[machine].append(name)

    def of(machine: str, field: str) -> float:
        return float(sum(getattr(file.servers[name], field) for name in on[machine]))

    return tuple(
        MachineLoad(
            machine=name,
            servers=tuple(on[name]),
            memory_mib=int(of(name, "memory_mib")),
            memory_of_mib=one.memory_mib,
            cores=round(of(name, "cores"), 2),
            cores_of=one.cores,
            disk_mib=int(of(name, "disk_mib")),
            disk_of_mib=one.disk_mib,
            ports=int(of(name, "port_count")),
            ports_of=len(parse_pool(one.ports)) if one.ports else None,
        )
        for name, one in file.machines.items()
    )
