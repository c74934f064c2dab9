"""The ports of this host's instances: who has which, whether somebody listens, and how they are reached."""

from collections import Counter
from pathlib import Path

import msgspec

from rhizon.adapters.host import ephemeral_ports, local_addresses, socket_in_use
from rhizon.adapters.instances import InstanceFolder
from rhizon.app.host import Host
from rhizon.app.instance.exclusive import started_elsewhere
from rhizon.app.instance.reservations import known_servers
from rhizon.core.allocate.port_roles import port_places, spans
from rhizon.core.allocate.rules import OpenPort, rules
from rhizon.core.errors import RhizonError
from rhizon.core.finding import Finding
from rhizon.core.model.setting import PortDefinition
from rhizon.core.words import command_line

__all__ = ["PortLine", "Ports", "list_ports"]


ADDRESS = "address"  # our name for the setting that says what a server listens on
ALONE = "this machine"
NETWORK = "the network"


class PortLine(msgspec.Struct, frozen=True, kw_only=True):
    """A role of an instance on one protocol; a block has several numbers. ``stored`` are the places that hold it,
    ``reached_from`` is "this machine" where the server listens on it alone, else "the network". Somebody is
    ``listening``: another program where it is ``taken``, else the server."""

    folder: str
    server: str
    role: str
    first: int
    last: int
    protocol: str
    listening: bool
    taken: bool
    reached_from: str
    stored: tuple[str, ...]


class Ports(msgspec.Struct, frozen=True, kw_only=True):
    """All of them. ``here``, ``near`` and ``far`` are addresses to hand out: on this machine, in the local network,
    from the internet (empty where it is not known). ``rules`` is the text that was asked for. ``findings`` are servers
    that hold ports and could not be read."""

    ports: tuple[PortLine, ...]
    here: str
    near: tuple[str, ...]
    far: str
    pool: str
    rules: str
    findings: tuple[Finding, ...] = ()


def list_ports(host: Host, folder: Path | None, kind: str | None) -> Ports:
    """Of one instance, or of all that the ledger knows. Raises :class:`~rhizon.core.errors.StateError` for a folder
    that is not an instance."""
    findings: list[Finding] = []
    if folder is not None:
        lines = _of(host, host.home(folder).required())
    else:
        lines, findings = _of_all(host)
    near = tuple(local_addresses())
    names = Counter(server for server, _ in {(one.server, one.folder) for one in lines})

    def label(line: PortLine) -> str:
        return f"{line.server} ({Path(line.folder).name})" if names[line.server] > 1 else line.server

    opened = [
        OpenPort(server=label(one), role=one.role, first=one.first, last=one.last, protocol=one.protocol)
        for one in lines
        if one.reached_from == NETWORK
    ]
    closed = [label(one) for one in lines if one.reached_from != NETWORK]
    ephemeral = ephemeral_ports()
    pool = ", ".join(host.limits.ports) or "any that is free near the game's own"
    if ephemeral is not None:
        pool += f"; {ephemeral[0]}-{ephemeral[1]} (ephemeral ports) only if nothing else is free"
    return Ports(
        ports=tuple(lines),
        here="127.0.0.1",
        near=near,
        far=host.limits.address,
        pool=pool,
        rules=rules(kind, opened, near[0] if near else "this machine", closed) if kind is not None else "",
        findings=tuple(findings),
    )


def _of_all(host: Host) -> tuple[list[PortLine], list[Finding]]:
    """One server that cannot be read does not keep the others from being listed."""
    servers, _ = known_servers(host)
    lines: list[PortLine] = []
    findings = []
    for server in servers:
        entry = server.entry
        if server.presence == "absent":
            held = ", ".join(spans(entry.ports)) or "none"
            findings.append(
                Finding(
                    code="instance-absent",
                    severity="warning",
                    subject=entry.name,
                    what=f"its folder was not found ({entry.folder}); it keeps its ports: {held}",
                    remedy=f"If it is gone: {command_line('rhizon', 'forget', entry.folder)}",
                )
            )
            continue
        try:
            lines += _of(host, host.home(Path(entry.folder)))
        except RhizonError as broken:
            findings.append(
                Finding(
                    code="ports-unread",
                    severity="warning",
                    subject=entry.name,
                    what=f"its ports ({', '.join(spans(entry.ports)) or 'none'}) are not listed: {broken.message}",
                    remedy=broken.hint,
                )
            )
    return lines, findings


def _of(host: Host, home: InstanceFolder) -> list[PortLine]:
    """The ports of one server, each role on each protocol."""
    instance = home.instance()
    game = host.game_of(instance)
    from_content = instance.ports.keys() - {port.role for port in game.ports}
    places = port_places(game, home.lock() if from_content else None)  # a lock is large, and most need none
    address = str(instance.settings.get(ADDRESS, "0.0.0.0"))
    alone = address == "localhost" or address.startswith("127.") or address == "::1"
    runs: bool | None = None  # found out where it matters
    lines = []
    for role, first in instance.ports.items():
        place = places.get(role)
        if place is None:
            continue
        stored = tuple(f"{one.file}: {one.key}" for one in place.store)
        if isinstance(place, PortDefinition) and place.offset_of is not None and not stored:
            stored = (f"counted from {place.offset_of}",)
        last = first + (place.count if isinstance(place, PortDefinition) else 1) - 1
        for protocol in place.protocols:
            listening = any(socket_in_use(number, protocol) for number in range(first, last + 1))
            if listening and runs is None:
                runs = home.running() is not None or started_elsewhere(host, home) is not None
            lines.append(
                PortLine(
                    folder=str(home.folder),
                    server=instance.name,
                    role=role,
                    first=first,
                    last=last,
                    protocol=protocol,
                    listening=listening,
                    taken=listening and not runs,
                    reached_from=ALONE if alone else NETWORK,
                    stored=stored,
                )
            )
    return lines
