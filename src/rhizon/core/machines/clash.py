"""What clashes where servers cannot be placed: the smallest set of servers and demands, and what would lift it.

A minimal unsatisfiable set by QuickXplain (U. Junker, 2004), over servers first and then over what they and the
machines demand. "Smallest" means that nothing can be taken out of it; large servers are kept rather than small ones, so
that few remain. Every lift was tried on the whole file.
"""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import msgspec

from rhizon.core.machines.bounds import fits_in_sum
from rhizon.core.machines.plan import Watch, fewest
from rhizon.core.machines.problem import RESOURCES, as_problem, fits_alone
from rhizon.core.machines.program import solve_program, solve_relaxed
from rhizon.core.model.machines import MachinesFile
from rhizon.core.units import counted, mib_text

__all__ = ["Clash", "Lift", "explain_clash"]

TRY_SECONDS = 4.0
LIFT_TRIES = 40
MOST_LEFT_OUT = 3  # servers of which each alone could be left out: the smallest are named
NAMED = 8  # servers of a clash that are named one by one
MOST_SEARCHED = 60  # servers of a file in which a minimal set is looked for by search
ANY_MOVES = 1 << 29


@dataclass(frozen=True)
class Lift:
    """A change that makes a placement possible: its ``kind``, what it is about, and the sentence."""

    kind: str
    item: str
    text: str


@dataclass(frozen=True)
class Clash:
    """``servers`` that cannot be placed together, the ``demands`` that keep them from it, and what would lift that."""

    servers: tuple[str, ...]
    demands: tuple[str, ...]
    lifts: tuple[Lift, ...]


@dataclass(frozen=True)
class _Demand:
    """One demand: its kind, what it is about, how the file is without it."""

    kind: str
    item: str
    without: Callable[[MachinesFile], MachinesFile]


def explain_clash(file: MachinesFile, watch: Watch) -> Clash:
    """Why ``file`` has no placement. It is known that it has none."""
    watch.tell("what clashes")
    servers = _smallest_servers(file, watch)
    small = _only(file, servers)
    demands = list(_demands(small))
    kept = list(demands)
    for demand in demands:
        rest = [one for one in kept if one is not demand]
        if _possible(_without(small, [one for one in demands if one not in rest]), watch) is False:
            kept = rest
    watch.tell("what would lift it")
    story = tuple(_sentence(small, one) for one in kept)
    return Clash(servers, story, tuple(_lifts(file, servers, kept, watch)))


def _possible(file: MachinesFile, watch: Watch) -> bool | None:
    """Whether a placement exists; None where that was not found out in time."""
    most = file.placement.moves if isinstance(file.placement.moves, int) else ANY_MOVES
    end = watch.left() - TRY_SECONDS
    found = fewest(as_problem(file), Watch(lambda: min(watch.left(), max(watch.left() - end, 0.0))), most=most)
    if found.where is not None and found.moves <= most:
        return True
    return False if found.impossible or found.bound > most else None


def _smallest_servers(file: MachinesFile, watch: Watch) -> tuple[str, ...]:
    """QuickXplain over servers: those that come first are kept rather than those that come last."""
    alone = [name for name in file.servers if not fits_alone(file, name)]
    if alone:
        return (max(alone, key=lambda name: file.servers[name].memory_mib),)
    order = sorted(
        file.servers, key=lambda name: (not _restricted(file, name), -file.servers[name].memory_mib, name)
    )  # fmt: skip

    refuted = _cheapest_refutation(file, watch)
    if refuted is None:
        return tuple(order)

    def clash(names: Sequence[str]) -> bool:
        return refuted(_only(file, names))

    def search(base: list[str], new: bool, rest: list[str]) -> list[str]:
        if new and clash(base):
            return []
        if len(rest) == 1:
            return rest
        half = len(rest) // 2
        first, second = rest[:half], rest[half:]
        found = search(base + first, bool(first), second)
        return search(base + found, bool(found), first) + found

    # the shortest beginning that clashes, then what of it is needed
    low, high = 1, len(order)
    while low < high:
        middle = (low + high) // 2
        low, high = (low, middle) if clash(order[:middle]) else (middle + 1, high)
    if high > MOST_SEARCHED and not _exceeds_sums(file):
        return tuple(order[:high])
    return tuple(sorted(search([], False, order[:high])))


def _exceeds_sums(file: MachinesFile) -> bool:
    """Whether the sums alone show that a file is impossible."""
    return not fits_in_sum(as_problem(file))


def _cheapest_refutation(file: MachinesFile, watch: Watch) -> Callable[[MachinesFile], bool] | None:
    """The quickest of some tests that shows that the whole file is impossible; None where only a long search does."""

    def by_parts(one: MachinesFile) -> bool:
        return solve_relaxed(as_problem(one), "moves", seconds=min(TRY_SECONDS, watch.left()), whole=False).impossible

    def by_search(one: MachinesFile) -> bool:
        return _possible(one, watch) is False

    searchable = len(file.servers) <= MOST_SEARCHED
    tests = [_exceeds_sums, by_parts, by_search] if searchable else [_exceeds_sums, by_parts]
    return next((test for test in tests if test(file)), None)


def _restricted(file: MachinesFile, name: str) -> bool:
    server = file.servers[name]
    grouped = any(name in group for group in (*file.placement.apart, *file.placement.together))
    return bool(server.needs or server.on or server.fixed_ports or grouped)


def _only(file: MachinesFile, names: Sequence[str]) -> MachinesFile:
    """The same with only some servers; groups keep those of theirs."""
    chosen = set(names)

    def cut(groups: tuple[tuple[str, ...], ...]) -> tuple[tuple[str, ...], ...]:
        parts = (tuple(name for name in group if name in chosen) for group in groups)
        return tuple(part for part in parts if len(part) > 1)

    rules = msgspec.structs.replace(
        file.placement, together=cut(file.placement.together), apart=cut(file.placement.apart)
    )
    servers = {name: one for name, one in file.servers.items() if name in chosen}
    return msgspec.structs.replace(file, servers=servers, placement=rules)


def _without(file: MachinesFile, demands: Sequence[_Demand]) -> MachinesFile:
    for demand in demands:
        file = demand.without(file)
    return file


def _change_server(name: str, **fields: object) -> Callable[[MachinesFile], MachinesFile]:
    def change(file: MachinesFile) -> MachinesFile:
        server = msgspec.structs.replace(file.servers[name], **fields)
        return msgspec.structs.replace(file, servers={**file.servers, name: server})

    return change


def _change_servers(names: Sequence[str], **fields: object) -> Callable[[MachinesFile], MachinesFile]:
    def change(file: MachinesFile) -> MachinesFile:
        for name in names:
            file = _change_server(name, **fields)(file)
        return file

    return change


def _change_machine(name: str, **fields: object) -> Callable[[MachinesFile], MachinesFile]:
    def change(file: MachinesFile) -> MachinesFile:
        machine = msgspec.structs.replace(file.machines[name], **fields)
        return msgspec.structs.replace(file, machines={**file.machines, name: machine})

    return change


def _change_rules(**fields: object) -> Callable[[MachinesFile], MachinesFile]:
    return lambda file: msgspec.structs.replace(file, placement=msgspec.structs.replace(file.placement, **fields))


def _drop_group(field: str, group: tuple[str, ...]) -> Callable[[MachinesFile], MachinesFile]:
    def change(file: MachinesFile) -> MachinesFile:
        """The group as it is, or what a smaller file has kept of it."""
        groups = getattr(file.placement, field)
        return _change_rules(**{field: tuple(one for one in groups if not set(group) <= set(one))})(file)

    return change


def _ignore(resource: str) -> Callable[[MachinesFile], MachinesFile]:
    fields = {"memory": "memory_mib", "cores": "cores", "disk": "disk_mib", "ports": "ports"}

    def change(file: MachinesFile) -> MachinesFile:
        servers = {
            name: msgspec.structs.replace(one, **{fields[resource]: 0}) for name, one in file.servers.items()
        }  # fmt: skip
        return msgspec.structs.replace(file, servers=servers)

    return change


def _demands(file: MachinesFile) -> Iterator[_Demand]:
    """All demands of a file, those first that people would rather not hear of."""
    if isinstance(file.placement.moves, int):
        yield _Demand("moves", str(file.placement.moves), _change_rules(moves="free"))
    for resource in RESOURCES[::-1]:
        yield _Demand(resource, resource, _ignore(resource))
    for name, machine in file.machines.items():
        if machine.closed:
            yield _Demand("closed", name, _change_machine(name, closed=False))
        if machine.emptied:
            yield _Demand("emptied", name, _change_machine(name, emptied=False))
    for group in file.placement.together:
        yield _Demand("together", ", ".join(group), _drop_group("together", group))
    for group in file.placement.apart:
        yield _Demand("apart", ", ".join(group), _drop_group("apart", group))
    if len(file.servers) > NAMED:
        for kind, field in (("fixed-ports", "fixed_ports"), ("needs", "needs"), ("on", "on")):
            names = [name for name, server in file.servers.items() if getattr(server, field)]
            if names:
                yield _Demand(kind, _names(names), _change_servers(names, **{field: ()}))
        return
    for name, server in file.servers.items():
        if server.fixed_ports:
            yield _Demand("fixed-ports", name, _change_server(name, fixed_ports=(), ports=server.port_count))
        if server.needs:
            yield _Demand("needs", name, _change_server(name, needs=()))
        if server.on:
            yield _Demand("on", name, _change_server(name, on=()))


def _names(names: Sequence[str]) -> str:
    """``a, b and c``; of many, how many."""
    if len(names) > NAMED:
        return f"{counted(len(names), 'server')} ({', '.join(names[:3])} ...)"
    return names[0] if len(names) == 1 else f"{', '.join(names[:-1])} and {names[-1]}"


def _amount(resource: str, count: float) -> str:
    if resource in ("memory", "disk"):
        return mib_text(int(count))
    return counted(int(count), "port") if resource == "ports" else f"{count:g} cores"


def _sentence(file: MachinesFile, demand: _Demand) -> str:
    """One demand in plain words, as it is in a file with only the servers that clash."""
    servers = file.servers
    if demand.kind in RESOURCES:
        return _resource_sentence(file, demand.kind)
    if demand.kind == "moves":
        return f"at most {counted(int(demand.item), 'server')} may move"
    if demand.kind == "closed":
        return f"{demand.item} is closed: it takes no other servers"
    if demand.kind == "emptied":
        return f"{demand.item} is to be emptied"
    if demand.kind == "together":
        return f"{demand.item}: must be together"
    if demand.kind == "apart":
        return f"{demand.item}: no two of them may share a machine"
    if demand.item not in servers:  # several
        what = {"on": "may be on some machines only", "needs": "need labels", "fixed-ports": "need port numbers"}
        return f"{demand.item} {what[demand.kind]}"
    server = servers[demand.item]
    if demand.kind == "on":
        return f"{demand.item} may be on {_names(server.on)} only"
    if demand.kind == "needs":
        having = [name for name, one in file.machines.items() if set(server.needs) <= set(one.labels)]
        labels = " and ".join(server.needs)
        return f"{demand.item} needs {labels}, which {_names(having) + ' has' if having else 'no machine has'}"
    return f"{demand.item} needs port {', '.join(map(str, server.fixed_ports))}"


def _resource_sentence(file: MachinesFile, resource: str) -> str:
    problem = as_problem(file)
    column = RESOURCES.index(resource)
    machines = [n for n, _ in enumerate(problem.machines) if problem.allowed[:, n].any()]
    scale = 100 if resource == "cores" else 1
    needed = problem.demand[:, column].sum() / scale
    who = f"{_names(list(file.servers))} need{'s' if len(file.servers) == 1 else ''} {_amount(resource, needed)}"
    if not machines:
        return f"{who}; no machine is possible"
    if len(machines) == 1:
        only = machines[0]
        return f"{who}; {problem.machines[only]} has {_amount(resource, problem.capacity[only, column] / scale)}"
    given = problem.capacity[machines, column] / scale
    names = _names([problem.machines[n] for n in machines])
    if len(machines) > NAMED:
        names = f"{len(machines)} machines"
    return (
        f"{who}; {names} have {_amount(resource, given.sum())}, the largest {_amount(resource, given.max())}"
    )  # fmt: skip


def _lifts(file: MachinesFile, servers: Sequence[str], kept: Sequence[_Demand], watch: Watch) -> Iterator[Lift]:
    """Single changes that were tried and help; else the fewest servers to leave out."""
    texts = {
        "moves": "allow more moves",
        "closed": "open {} again",
        "emptied": "keep servers on {}",
        "together": "let them be on several machines: {}",
        "apart": "let them share a machine: {}",
        "fixed-ports": "let {} have other ports",
        "needs": "drop what {} needs of its machine",
        "on": "let {} be on any machine",
    }
    found = 0
    for demand in [one for one in kept if one.kind in texts][:LIFT_TRIES]:
        if _possible(demand.without(file), watch):
            found += 1
            if demand.kind == "moves":
                yield Lift("moves", "", _needed_moves(file, watch))
            else:
                yield Lift(demand.kind, demand.item, texts[demand.kind].format(demand.item))
    for resource in [one.kind for one in kept if one.kind in RESOURCES]:
        added = _smallest_addition(file, servers, resource, watch)
        if added is not None:
            found += 1
            machine, amount = added
            yield Lift(resource, machine, f"give {machine} {_amount(resource, amount)} more {_more(resource)}".rstrip())
    left_out = 0
    by_size = sorted(servers, key=lambda one: file.servers[one].memory_mib)
    if len(by_size) > NAMED:
        by_size = [by_size[0], by_size[len(by_size) // 2], by_size[-1]]
    for name in by_size:
        if left_out < MOST_LEFT_OUT and _possible(_only(file, [one for one in file.servers if one != name]), watch):
            found, left_out = found + 1, left_out + 1
            yield Lift("leave-out", name, f"leave out {name}")
            if len(servers) > NAMED:
                break
    if not found:
        names = _fewest_left_out(file, watch)
        if names:
            yield Lift("leave-out", ", ".join(names), f"leave out {_names(names)}")


def _more(resource: str) -> str:
    return "" if resource in ("cores", "ports") else resource


def _needed_moves(file: MachinesFile, watch: Watch) -> str:
    found = fewest(as_problem(file), watch, share=0.3)
    return f"allow {counted(found.moves, 'move')}"


def _smallest_addition(
    file: MachinesFile, servers: Sequence[str], resource: str, watch: Watch
) -> tuple[str, float] | None:
    """The machine that needs least more of a resource, and how much, to a step of 256 MiB, half a core or one port."""
    problem = as_problem(_only(file, servers))
    column = RESOURCES.index(resource)
    step = {"memory": 256, "disk": 256, "cores": 0.5, "ports": 1}[resource]
    field = {"memory": "memory_mib", "disk": "disk_mib", "cores": "cores"}.get(resource)
    if field is None:
        return None  # more ports are other numbers; which, is a person's choice
    candidates = [name for n, name in enumerate(problem.machines) if problem.allowed[:, n].any()]
    candidates.sort(key=lambda name: -(getattr(file.machines[name], field) or 0))
    best: tuple[str, float] | None = None
    most = problem.demand[:, column].sum() / (100 if resource == "cores" else 1)
    for name in candidates[:4]:
        have = getattr(file.machines[name], field)
        if have is None:
            continue
        low, high = 1, int((best[1] if best else most) // step) + 1

        def enough(steps: int, name: str = name, have: float = have) -> bool:
            return _possible(_change_machine(name, **{field: have + steps * step})(file), watch) is True

        if not enough(high):
            continue
        while low < high:
            middle = (low + high) // 2
            low, high = (low, middle) if enough(middle) else (middle + 1, high)
        if best is None or high * step < best[1]:
            best = name, high * step
    return best


def _fewest_left_out(file: MachinesFile, watch: Watch) -> list[str]:
    problem = as_problem(file)
    solved = solve_program(problem, "left-out", seconds=max(min(20.0, watch.left()), 5.0))
    if solved.where is None:
        return []
    return [name for unit, at in zip(problem.units, solved.where, strict=True) if at < 0 for name in unit]
