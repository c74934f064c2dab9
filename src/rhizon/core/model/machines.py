"""Several machines (``*.machines.toml``): what each has, which servers there are, where each of them is today."""

from typing import Annotated, Literal

import msgspec

from rhizon.core.allocate.ports import parse_pool
from rhizon.core.model.base import Id, Line, Mib, Port, Strict

__all__ = ["Arrangement", "Engine", "Machine", "MachinesFile", "PlacementRules", "ServerNeeds"]

Arrangement = Literal["spread", "pack"]
Engine = Literal["ansible", "kubernetes"]
Cores = Annotated[float, msgspec.Meta(ge=0, le=4096)]
Moves = Annotated[int, msgspec.Meta(ge=0, le=100_000)]

MOST_MACHINES = 2000
MOST_SERVERS = 20_000


class Machine(Strict, frozen=True, kw_only=True):
    """What one machine gives to game servers. ``memory_mib`` is all that they may have together, ``cores`` and
    ``disk_mib`` likewise (left out: not counted), ``ports`` the numbers that they may take (ranges and single ones;
    left out: any). ``labels`` are words that servers may ask for. A ``closed`` machine gets no server that is not there
    already; one to be ``emptied`` keeps none. How it is reached: ``address`` (a host name or an address; by
    default the machine's name), ``user`` and ``port`` of SSH; ``folder`` is where its servers are, ``program`` the
    rhizon there."""

    memory_mib: Mib
    cores: Cores | None = None
    disk_mib: Mib | None = None
    ports: tuple[Line, ...] = ()
    labels: tuple[Id, ...] = ()
    closed: bool = False
    emptied: bool = False
    address: Line = ""
    user: Line = ""
    port: Port | None = None
    folder: Line = "/srv/rhizon"
    program: Line = ""

    def __post_init__(self) -> None:
        try:
            parse_pool(self.ports)
        except ValueError as wrong:
            raise ValueError(f"ports: {wrong}") from None
        if not self.folder.startswith("/") or ".." in self.folder.split("/"):
            raise ValueError(f"folder: {self.folder!r} is not an absolute path")
        for name, text in (("address", self.address), ("user", self.user), ("program", self.program)):
            if text.startswith("-") or any(char.isspace() for char in text):
                raise ValueError(f"{name}: {text!r} has a space or begins with -")


class ServerNeeds(Strict, frozen=True, kw_only=True):
    """What one server needs: ``ports`` is how many numbers, ``fixed_ports`` are those of them that it must have;
    ``needs`` are labels that its machine must have, ``on`` the only machines that it may be on. ``machine`` is where it
    is today. ``source`` is its list, pack or lock, beside this file; without one it is only counted. With
    ``accept_licence`` a person says that they read and accept the licence of its game."""

    memory_mib: Mib
    cores: Cores = 0
    disk_mib: Mib = 0
    ports: Annotated[int, msgspec.Meta(ge=0, le=1000)] = 1
    fixed_ports: tuple[Port, ...] = ()
    needs: tuple[Id, ...] = ()
    on: tuple[Id, ...] = ()
    machine: Id | None = None
    source: Line = ""
    accept_licence: bool = False

    def __post_init__(self) -> None:
        if len(set(self.fixed_ports)) != len(self.fixed_ports):
            raise ValueError("fixed_ports: a number is there twice")

    @property
    def port_count(self) -> int:
        """Numbers that it takes of its machine."""
        return max(self.ports, len(self.fixed_ports))


class PlacementRules(Strict, frozen=True, kw_only=True):
    """How servers are to be placed. ``spread`` keeps the fullest machine as empty as it can be, ``pack`` uses as few
    machines as can be. ``moves``: "few" (only servers that must move do), "free" (any may), or a number that at most
    may. ``together`` are groups of servers for one machine, ``apart`` groups of which no two share one."""

    arrange: Arrangement = "spread"
    moves: Literal["few", "free"] | Moves = "few"
    together: tuple[tuple[Id, ...], ...] = ()
    apart: tuple[tuple[Id, ...], ...] = ()


class MachinesFile(Strict, frozen=True, kw_only=True):
    """The whole file. ``engine`` is what `rhizon machines apply` uses: Ansible, or a Kubernetes cluster whose nodes the
    machines are (``context`` of kubectl's configuration, ``namespace``, and the ``image`` of the servers)."""

    format: Literal["rhizon-machines/1"]
    name: Id
    title: Line = ""
    engine: Engine = "ansible"
    context: Line = ""
    namespace: Id = "default"
    image: Line = ""
    catalogs: tuple[Line, ...] = ()
    placement: PlacementRules = PlacementRules()
    machines: dict[Id, Machine]
    servers: dict[Id, ServerNeeds] = {}

    def __post_init__(self) -> None:
        if not self.machines:
            raise ValueError("machines: at least one is needed")
        for what, most, count in (
            ("machines", MOST_MACHINES, len(self.machines)),
            ("servers", MOST_SERVERS, len(self.servers)),
        ):
            if count > most:
                raise ValueError(f"{what}: {count} are more than {most}")
        for name, server in self.servers.items():
            for field, names in (("machine", (server.machine,) if server.machine else ()), ("on", server.on)):
                for one in names:
                    if one not in self.machines:
                        raise ValueError(f"servers.{name}.{field}: {one!r} is not one of the machines")
        for field, groups in (("together", self.placement.together), ("apart", self.placement.apart)):
            for group in groups:
                if len(group) < 2 or len(set(group)) != len(group):
                    raise ValueError(f"placement.{field}: {list(group)} is not a group of two or more servers")
                for one in group:
                    if one not in self.servers:
                        raise ValueError(f"placement.{field}: {one!r} is not one of the servers")
