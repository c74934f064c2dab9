"""The ports of this host's instances: who has which, whether somebody listens, and how they are reached."""

from pathlib import Path

import msgspec

from rhizon.adapters.host import local_addresses, passing_ports, socket_in_use
from rhizon.adapters.instances import InstanceFolder
from rhizon.app.context import Host, open_ledger
from rhizon.app.ports import port_places
from rhizon.core.allocate.rules import OpenPort, rules
from rhizon.core.errors import RhizonError
from rhizon.core.model.game import PortDefinition

__all__ = ["PortLine", "Ports", "list_ports"]


class PortLine(msgspec.Struct, frozen=True, kw_only=True):
    """A role of an instance on one protocol; a block has several numbers. ``stored`` are the places that hold it."""

    folder: str
    server: str
    role: str
    first: int
    last: int
    protocol: str
    listening: bool
    stored: tuple[str, ...]


class Ports(msgspec.Struct, frozen=True, kw_only=True):
    """All of them. ``here``, ``near`` and ``far`` are addresses to hand out: on this machine, in the local network,
    from the internet (empty where nobody told us). ``rules`` is the text that was asked for."""

    ports: tuple[PortLine, ...]
    here: str
    near: tuple[str, ...]
    far: str
    pool: str
    rules: str


def list_ports(host: Host, folder: Path | None, kind: str | None) -> Ports:
    """Of one instance, or of all that the ledger knows. Raises :class:`~rhizon.core.errors.StateError` for a folder
    that is no instance."""
    if folder is not None:
        folders = [InstanceFolder(folder).required().folder]
    else:
        with open_ledger(host) as ledger:
            folders = [Path(entry.folder) for entry in ledger.entries()]
    lines: list[PortLine] = []
    for one in folders:
        try:
            lines += _of(host, InstanceFolder(one))
        except RhizonError:
            if folder is not None:
                raise
    near = tuple(local_addresses())
    opened = [
        OpenPort(server=one.server, role=one.role, first=one.first, last=one.last, protocol=one.protocol)
        for one in lines
    ]
    passing = passing_ports()
    pool = ", ".join(host.limits.ports) or "any that is free near the game's own"
    if passing is not None:
        pool += f"; {passing[0]}-{passing[1]} only where nothing else is left (the system uses them in passing)"
    return Ports(
        ports=tuple(lines),
        here="127.0.0.1",
        near=near,
        far=host.limits.address,
        pool=pool,
        rules=rules(kind, opened, near[0] if near else "this machine") if kind is not None else "",
    )


def _of(host: Host, home: InstanceFolder) -> list[PortLine]:
    instance = home.instance()
    places = port_places(host.game_of(instance), home.lock())
    lines = []
    for role, first in instance.ports.items():
        place = places.get(role)
        if place is None:
            continue
        last = first + (place.count if isinstance(place, PortDefinition) else 1) - 1
        for protocol in place.protocols:
            lines.append(
                PortLine(
                    folder=str(home.folder),
                    server=instance.name,
                    role=role,
                    first=first,
                    last=last,
                    protocol=protocol,
                    listening=any(socket_in_use(number, protocol) for number in range(first, last + 1)),
                    stored=tuple(f"{one.file}: {one.key}" for one in place.store),
                )
            )
    return lines
