"""Servers brought to the machines that a machines file says."""

import shutil
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec

from rhizon.adapters.ansible import TaskResult, words_of_failure
from rhizon.adapters.tar_out import pack_folder
from rhizon.app.choose.beside_lock import put_beside
from rhizon.app.handover.deploy import DeployWishes, deployment_of
from rhizon.app.host import Host
from rhizon.app.machines.cluster import apply_to_cluster
from rhizon.app.machines.engine import Look, look_at, play, read_seen, write_seen
from rhizon.app.machines.outcome import ApplyResult, ServerOutcome, summed
from rhizon.app.machines.read import read_machines
from rhizon.app.reporter import Reporter
from rhizon.core.allocate.ports import parse_pool
from rhizon.core.errors import InputError
from rhizon.core.finding import Finding
from rhizon.core.handover.deployment import Deployment
from rhizon.core.machines.actions import Actions, decide
from rhizon.core.machines.ansible import Job, apply_plays, install_plays
from rhizon.core.model.machines import MachinesFile, ServerNeeds
from rhizon.core.names import printable

__all__ = ["apply_machines"]

LOCK = "server.lock.json"


def apply_machines(
    host: Host, path: Path, reporter: Reporter, *, only: Sequence[str] = (), wheels: Path | None = None,
    keep: Path | None = None, dry_run: bool = False,
) -> ApplyResult:  # fmt: skip
    """Makes, updates, moves and starts servers so that each is on its machine. ``only`` some servers; ``wheels`` are
    packages from which Rhizon is installed there; ``keep`` is a folder for the playbook. Raises StateError,
    InputError, and what making a lock raises; what fails on a machine is in the result."""
    whole = read_machines(path)
    file = _only(whole, only)
    if file.engine == "kubernetes":
        return apply_to_cluster(host, path, file, reporter, keep=keep, dry_run=dry_run)
    with tempfile.TemporaryDirectory(prefix="rhizon-machines-") as scratch:
        folder = keep.absolute() if keep is not None else Path(scratch) / "playbook"
        folder.mkdir(parents=True, exist_ok=True)
        variables: dict[str, Any] = {"rhizon_wheels": str(wheels.absolute()) if wheels is not None else ""}
        if wheels is not None and not dry_run:
            reporter.step("installing rhizon")
            play(folder, file, Job(), install_plays(), variables, reporter)
        look = look_at(folder, file, variables, reporter)
        before = read_seen(host, file)
        actions = decide(file, look.servers, look.down, before.servers, before.machines)
        folders = {name: those[0].folder for name, those in look.servers.items()}
        findings: list[Finding] = []
        options = _bundles(host, path, file, actions, look, folder / "bundles", findings, reporter)
        job = Job(moves=actions.moves, provisions=_provisions(file, actions, folders, options))
        results: list[TaskResult] = []
        if (actions.moves or job.provisions) and not dry_run:
            transfer = Path(scratch) / "transfer"  # whole servers, for as long as they are under way
            transfer.mkdir(mode=0o700)
            variables |= {"rhizon_transfer": str(transfer), "rhizon_bundles": str(folder / "bundles")}
            reporter.step("applying")
            results = play(folder, file, job, apply_plays(job), variables, reporter)
            reporter.done(f"{sum(one.changed for one in results)} changes")
        outcomes = tuple(_outcome(name, file, actions, options, results, dry_run=dry_run) for name in file.servers)
        if not dry_run:
            there = {one.server: one.machine for one in outcomes if one.state in ("changed", "moved", "unchanged")}
            write_seen(host, file, before, look, there)
        strangers = {name: there for name, there in actions.strangers.items() if name not in whole.servers}
        return summed(path, file, outcomes, look.down, strangers, findings, planned=dry_run)


def _only(file: MachinesFile, names: Sequence[str]) -> MachinesFile:
    """The same with only some servers. Raises InputError for one that it has not."""
    unknown = [name for name in names if name not in file.servers]
    if unknown:
        raise InputError(
            "no-such-server", f"{file.name} has no server {unknown[0]}", hint=f"It has: {', '.join(file.servers)}"
        )
    if not names:
        return file
    servers = {name: one for name, one in file.servers.items() if name in names}
    rules = msgspec.structs.replace(file.placement, together=(), apart=())
    return msgspec.structs.replace(file, servers=servers, placement=rules)


def _bundles(
    host: Host, path: Path, file: MachinesFile, actions: Actions, look: Look, folder: Path, findings: list[Finding],
    reporter: Reporter,
) -> dict[str, list[str]]:  # fmt: skip
    """What is copied to machines: for each server that has a source its lock and all that this names, in a folder; and
    the options of `rhizon provision` there."""
    shutil.rmtree(folder, ignore_errors=True)
    found: dict[str, list[str]] = {}
    taken: dict[str, set[int]] = {}
    for one_there in (one for those in look.servers.values() for one in those):
        taken.setdefault(one_there.machine, set()).update(one_there.ports)
    for name, machine in actions.makes.items():
        server = file.servers[name]
        if not server.source:
            continue
        new = name not in look.servers
        wishes = DeployWishes(
            source=path.absolute().parent / server.source,
            name=name,
            catalogs=file.catalogs,
            accept_licence=server.accept_licence,
            pool=parse_pool(file.machines[machine].ports) if new else (),
            taken=frozenset(taken.get(machine, ())) if new else frozenset(),
            fixed=server.fixed_ports,
        )
        one, lock = deployment_of(host, wishes, reporter)
        into = folder / name
        into.mkdir(parents=True)
        (into / LOCK).write_text(one.lock)
        for text_path, text in one.files.items():
            (into / text_path.rpartition("/")[2]).write_text(text)
        put_beside(host, lock, into / LOCK, write=True, whole=True)
        pack_folder(into, folder / f"{name}.tar")
        shutil.rmtree(into)
        taken.setdefault(machine, set()).update(port.number for port in one.ports)
        found[name] = _options(one, server, ports=new)
        findings.extend(_more_than_planned(name, one, server))
    return found


def _more_than_planned(name: str, one: Deployment, server: ServerNeeds) -> Iterator[Finding]:
    """The plan counted with less than it will take."""
    count = len({port.number for port in one.ports})
    for what, needs, planned, field in (
        ("memory", f"{one.need_mib} MiB", one.need_mib > server.memory_mib, f"memory_mib = {one.need_mib}"),
        ("ports", f"{count} ports", count > server.port_count, f"ports = {count}"),
    ):
        if planned:
            yield Finding(
                code="more-than-planned",
                severity="warning",
                subject=name,
                what=f"it takes {needs}, more {what} than the machines file counts for it",
                remedy=f"Write {field} into the file, and plan again.",
            )


def _options(one: Deployment, server: ServerNeeds, *, ports: bool) -> list[str]:
    """Options of `rhizon provision`; ``ports`` of a new server are chosen here, those of another stay."""
    words = ["--name", one.name, "--offline", "--stop-first", "--memory", str(one.heap_mib)]
    for role, number in zip(one.roles, one.roles.values() if ports else server.fixed_ports, strict=False):
        words += ["--port", f"{role}={number}"]
    if one.accept_licence:
        words.append("--accept-licence")
    return words


def _provisions(
    file: MachinesFile, actions: Actions, folders: Mapping[str, str], options: Mapping[str, Sequence[str]]
) -> dict[str, list[tuple[str, str, Sequence[str]]]]:
    found: dict[str, list[tuple[str, str, Sequence[str]]]] = {}
    for name, machine in actions.makes.items():
        if name in options:
            folder = folders.get(name, f"{file.machines[machine].folder}/{name}")
            found.setdefault(machine, []).append((name, folder, options[name]))
    return found


def _outcome(
    name: str, file: MachinesFile, actions: Actions, options: Mapping[str, object], results: Sequence[TaskResult],
    *, dry_run: bool,
) -> ServerOutcome:  # fmt: skip
    machine = file.servers[name].machine or ""
    if name in actions.held:
        return ServerOutcome(server=name, machine=machine, state="held", why=actions.held[name])
    move = next((one for one in actions.moves if one.name == name), None)
    if move is None and name not in options:
        return ServerOutcome(server=name, machine=machine, state="held", why="it has no source, and is only counted")
    what = f"move from {move.from_machine}" if move is not None else "provision"
    if dry_run:
        return ServerOutcome(server=name, machine=machine, state="planned", why=what)
    machines = {machine, move.from_machine} if move is not None else {machine}
    own = [one for one in results if one.machine in machines and one.task.endswith(f": {name}")]
    wrong = next((one for one in own if one.state != "ok"), None)
    lost = next((one for one in results if one.machine in machines and one.state == "unreachable"), None)
    done = {one.task.partition(":")[0] for one in own if one.state == "ok" and one.machine == machine}
    finished = "arrived" in done if move is not None else "start" in done
    if not finished:
        broken = wrong or lost
        why = printable(words_of_failure(broken), 300) if broken is not None else "it was not reached"
        at = broken.machine if broken is not None else machine
        return ServerOutcome(server=name, machine=machine, state="failed", why=f"{at}: {why}")
    if move is not None:
        return ServerOutcome(server=name, machine=machine, state="moved", why=f"from {move.from_machine}")
    changed = any(one.changed for one in own)
    return ServerOutcome(server=name, machine=machine, state="changed" if changed else "unchanged", why="")
