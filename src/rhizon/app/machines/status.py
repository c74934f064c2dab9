"""How all machines of a file are, and one command on each."""

import tempfile
from collections.abc import Sequence
from pathlib import Path

from rhizon.app.host import Host
from rhizon.app.machines.cluster import cluster_status, each_in_cluster
from rhizon.app.machines.engine import Look, look_at, play, read_seen, write_seen
from rhizon.app.machines.outcome import EachAnswer, EachResult, MachinesStatus, MachineStatus, ServerThere
from rhizon.app.machines.read import read_machines
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError
from rhizon.core.machines.ansible import Job, each_plays
from rhizon.core.model.machines import MachinesFile

__all__ = ["machines_each", "machines_status"]

RUNNING = ("ready", "starting", "stopping")


def machines_status(host: Host, path: Path, reporter: Reporter) -> MachinesStatus:
    """Asks every machine. Raises StateError, RemoteError."""
    file = read_machines(path)
    if file.engine == "kubernetes":
        machines, servers = cluster_status(file)
    else:
        with tempfile.TemporaryDirectory(prefix="rhizon-machines-") as scratch:
            look = look_at(Path(scratch), file, {}, reporter)
        write_seen(host, file, read_seen(host, file), look)
        machines, servers = _machines(file, look), _servers(file, look)
    return MachinesStatus(file=str(path), name=file.name, engine=file.engine, machines=machines, servers=servers)


def _machines(file: MachinesFile, look: Look) -> tuple[MachineStatus, ...]:
    every = [one for those in look.servers.values() for one in those]
    return tuple(
        MachineStatus(
            machine=name,
            reached=name not in look.down,
            why=look.down.get(name, ""),
            servers=sum(one.machine == name for one in every),
            running=sum(one.machine == name and one.state in RUNNING for one in every),
        )
        for name in file.machines
    )


def _servers(file: MachinesFile, look: Look) -> tuple[ServerThere, ...]:
    servers = []
    for name in dict.fromkeys((*file.servers, *sorted(look.servers))):
        wanted = file.servers[name].machine if name in file.servers else None
        those = look.servers.get(name, [])
        if not those:
            state = "unknown" if wanted in look.down else "absent"
            servers.append(ServerThere(server=name, machine=wanted, found_on=None, state=state, right=False))
        for one in those:
            right = name in file.servers and wanted == one.machine and len(those) == 1 and one.state == "ready"
            servers.append(ServerThere(server=name, machine=wanted, found_on=one.machine, state=one.state, right=right))
    return tuple(servers)


def machines_each(path: Path, words: Sequence[str], on: Sequence[str], reporter: Reporter) -> EachResult:
    """One command of Rhizon on each machine, or those that are named or have a label in ``on``. Raises InputError,
    StateError, RemoteError."""
    file = read_machines(path)
    if file.engine == "kubernetes":
        names = [name for name, one in file.servers.items() if not on or name in on or one.machine in on]
        answers = each_in_cluster(file, names, words)
    else:
        answers = _each(file, _named(file, on), words, reporter)
    return EachResult(file=str(path), name=file.name, command=tuple(words), answers=tuple(answers))


def _named(file: MachinesFile, on: Sequence[str]) -> list[str]:
    found = [name for name, one in file.machines.items() if not on or name in on or {*on} & {*one.labels}]
    if not found:
        raise InputError(
            "no-such-machine",
            f"{file.name} has no machine and no label {', '.join(on)}",
            hint=f"Its machines: {', '.join(file.machines)}",
        )
    return found


def _each(file: MachinesFile, names: Sequence[str], words: Sequence[str], reporter: Reporter) -> list[EachAnswer]:
    reporter.step(f"asking {len(names)} machines")
    with tempfile.TemporaryDirectory(prefix="rhizon-machines-") as scratch:
        results = play(Path(scratch), file, Job(), each_plays(names), {"rhizon_words": list(words)}, reporter)
    reporter.done("done")
    by_name = {one.machine: one for one in results}
    answers = []
    for name in names:
        one = by_name.get(name)
        if one is None or one.state == "unreachable":
            why = one.message if one is not None else "no answer"
            answers.append(EachAnswer(machine=name, code=None, out="", errors=why))
        else:
            answers.append(EachAnswer(machine=name, code=one.code, out=one.out, errors=one.errors or one.message))
    return answers
