"""What an apply has to do: where servers are to be, against where they were found."""

from collections.abc import Collection, Mapping
from dataclasses import dataclass

from rhizon.core.machines.ansible import Move
from rhizon.core.model.machines import MachinesFile

__all__ = ["Actions", "FoundServer", "decide"]


@dataclass(frozen=True)
class FoundServer:
    """A server as a machine lists it."""

    machine: str
    folder: str
    state: str
    ports: tuple[int, ...] = ()


@dataclass(frozen=True)
class Actions:
    """``makes`` are servers by their machine; ``moves``; ``held`` are servers that nothing is done with, and why;
    ``strangers`` are servers of the machines that the file does not know."""

    makes: Mapping[str, str]
    moves: tuple[Move, ...]
    held: Mapping[str, str]
    strangers: Mapping[str, str]


def decide(
    file: MachinesFile, found: Mapping[str, Collection[FoundServer]], down: Collection[str],
    last_seen: Mapping[str, str], looked_at: Collection[str],
) -> Actions:  # fmt: skip
    """``found`` are the servers of the machines that answered, by name; ``down`` are those that did not; ``last_seen``
    is where each server was when it was last seen, ``looked_at`` the machines that ever answered.

    A server that may be on a machine that is down is left alone: made anew elsewhere, it would be there twice.
    """
    makes: dict[str, str] = {}
    moves: list[Move] = []
    held: dict[str, str] = {}
    never = sorted(set(down) - set(looked_at))
    for name, server in file.servers.items():
        there = sorted(found.get(name, ()), key=lambda one: one.machine)
        target = server.machine
        if target is None:
            held[name] = "it has no machine yet: rhizon machines plan --write"
        elif len(there) > 1:
            held[name] = f"it is on several machines: {', '.join(one.machine for one in there)}; delete all but one"
        elif target in down:
            held[name] = f"{target} was not reached"
        elif there and there[0].machine == target:
            makes[name] = target
        elif there:
            moves.append(Move(name, there[0].folder, there[0].machine, target))
        elif last_seen.get(name) in down:
            held[name] = f"it was last seen on {last_seen[name]}, which was not reached"
        elif never:
            held[name] = f"it may be on {never[0]}, which was never reached"
        else:
            makes[name] = target
    strangers = {
        name: ", ".join(sorted(one.machine for one in those))
        for name, those in found.items()
        if name not in file.servers
    }
    return Actions(makes, tuple(moves), held, strangers)
