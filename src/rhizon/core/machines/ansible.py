"""The inventory and the plays for Ansible, as data. The roles are in ``playbooks/``."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from rhizon.core.model.machines import Machine, MachinesFile

__all__ = ["Job", "Move", "apply_plays", "each_plays", "install_plays", "inventory", "look_plays"]

GROUP = "rhizon"
ROLES = "rhizon.servers"


@dataclass(frozen=True)
class Move:
    """A server that goes from where it is (its ``folder`` there) to another machine."""

    name: str
    folder: str
    from_machine: str
    to_machine: str


@dataclass(frozen=True)
class Job:
    """What an apply does: ``moves``, and for each machine the servers to make or bring up to date, each with its
    folder there and the options of ``rhizon provision``."""

    moves: tuple[Move, ...] = ()
    provisions: Mapping[str, Sequence[tuple[str, str, Sequence[str]]]] = field(default_factory=dict)


def inventory(file: MachinesFile, job: Job, variables: Mapping[str, Any]) -> dict[str, Any]:
    """The inventory: each machine, how it is reached, and what is to be done on it. ``variables`` hold for all."""
    hosts = {name: _host(name, machine, job) for name, machine in file.machines.items()}
    # the system's own Python before what a person's login has first in its path
    pythons = ["/usr/bin/python3", "/usr/local/bin/python3", "python3"]
    return {GROUP: {"hosts": hosts, "vars": {"ansible_interpreter_python_fallback": pythons, **variables}}}


def _host(name: str, machine: Machine, job: Job) -> dict[str, Any]:
    found: dict[str, Any] = {"ansible_host": machine.address or name}
    if machine.user:
        found["ansible_user"] = machine.user
    if machine.port is not None:
        found["ansible_port"] = machine.port
    found["rhizon_folder"] = machine.folder
    if machine.program:
        found["rhizon_program"] = machine.program
    found["rhizon_leaving"] = [
        {"name": one.name, "folder": one.folder} for one in job.moves if one.from_machine == name
    ]
    found["rhizon_arriving"] = [{"name": one.name} for one in job.moves if one.to_machine == name]
    found["rhizon_servers"] = [
        {"name": server, "folder": folder, "options": list(options)}
        for server, folder, options in job.provisions.get(name, ())
    ]
    return found


def _play(role: str, hosts: str = GROUP) -> dict[str, Any]:
    path = "{{ rhizon_folder }}/.program/bin:/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
    return {
        "name": role,
        "hosts": hosts,
        "gather_facts": False,
        "environment": {"PATH": path},
        "roles": [f"{ROLES}.{role}"],
    }


def look_plays() -> list[dict[str, Any]]:
    """What each machine has."""
    return [_play("look")]


def install_plays() -> list[dict[str, Any]]:
    """Rhizon itself."""
    return [_play("program")]


def apply_plays(job: Job) -> list[dict[str, Any]]:
    """First what leaves, then what comes, then what is left behind. A machine that fails in the middle is left out of
    the plays after it, the others go on."""
    plays = [_play("program")]
    if job.moves:
        plays.append(_play("leave"))
    plays.append(_play("server"))
    if job.moves:
        plays.append(_play("remove"))
    return plays


def each_plays(machines: Sequence[str]) -> list[dict[str, Any]]:
    """One command on some machines."""
    return [_play("each", ":".join(machines))]
