"""Ports that the router forwards because Rhizon asked it to: opened, renewed and closed again."""

import contextlib
import datetime
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.routers import Forwarded, How, Router, find_router
from rhizon.adapters.transact import RHIZON
from rhizon.app.host import Host
from rhizon.app.instance.state import InstanceState, require_instance_state
from rhizon.app.reporter import Reporter
from rhizon.core.allocate.port_roles import port_places
from rhizon.core.errors import InputError, RemoteError, RhizonError
from rhizon.core.finding import Finding
from rhizon.core.model.setting import PortDefinition
from rhizon.core.reach.mapping_protocols import MapWish, has_forgotten
from rhizon.keeper.places import OPENED

__all__ = ["LEASE_SECONDS", "OpenedPort", "PortsOpened", "close_ports", "open_ports", "read_opened", "renew_ports"]

LEASE_SECONDS = 7200
SHORTEST = 120
LONGEST = 86400 * 30
RENEW_AT = 0.5  # of a lease (RFC 6887, 11.2.1)
RENEW_MOST = 600  # seconds: a router that was started again has forgotten all, and says so only when it is asked


class OpenedPort(msgspec.Struct, frozen=True, kw_only=True):
    """A port that a router forwards: the number there (``external``) and here, until when (seconds since 1970)."""

    role: str
    protocol: Literal["tcp", "udp"]
    internal: int
    external: int
    gateway: str
    how: How
    nonce: str
    epoch: int
    asked_at: float
    expires: float
    lease: int

    @property
    def until(self) -> str:
        """For people, in UTC."""
        return datetime.datetime.fromtimestamp(self.expires, datetime.UTC).strftime("%Y-%m-%d %H:%M UTC")

    def lost_by(self, epoch: int) -> bool:
        """Whether a router whose epoch is that now has forgotten it. UPnP has no epochs."""
        known = self.how != "UPnP IGD" and epoch > 0
        return known and has_forgotten(self.epoch, time.time() - self.asked_at, epoch)

    def forwarded(self) -> Forwarded:
        """As the router's client knows it."""
        return Forwarded(self.external, self.lease, self.how, self.nonce, self.epoch, "")


class PortsOpened(msgspec.Struct, frozen=True, kw_only=True):
    """What the router forwards for a server now, or would; ``closed`` are ports that it does no more."""

    folder: str
    name: str
    planned: bool
    gateway: str
    opened: tuple[OpenedPort, ...]
    closed: tuple[str, ...]
    findings: tuple[Finding, ...]


class _File(msgspec.Struct, frozen=True):
    renew_at: float
    ports: tuple[OpenedPort, ...]


def read_opened(home: InstanceFolder) -> tuple[OpenedPort, ...]:
    """What was opened and has not run out; nothing where the record cannot be read."""
    with contextlib.suppress(OSError, msgspec.MsgspecError, RhizonError):
        data = home.read(f"{RHIZON}/{OPENED}")
        if data is not None:
            return tuple(one for one in msgspec.json.decode(data, type=_File).ports if one.expires > time.time())
    return ()


def _write(home: InstanceFolder, ports: tuple[OpenedPort, ...]) -> None:
    if not ports:
        home.remove_own(OPENED)
        return
    renew = min(one.asked_at + min(one.lease * RENEW_AT, RENEW_MOST) for one in ports)
    home.write_own(OPENED, msgspec.json.encode(_File(renew, ports)), 0o600)


def open_ports(host: Host, folder: Path, lease: int, reporter: Reporter, *, dry_run: bool) -> PortsOpened:
    """Asks the router to forward every port of a server. Those that it does not forward are findings; raises
    RemoteError where it forwards none, StateError where there is no router."""
    home = host.home(folder).required()
    state = require_instance_state(host, home)
    if not SHORTEST <= lease <= LONGEST:
        raise InputError("usage", f"a lease of {lease} s is not from {SHORTEST} to {LONGEST}", hint="Such as 2h.")
    router = find_router()
    wishes = _wishes(state, lease)
    if dry_run:
        return _result(state, home, router, _planned(wishes, router), (), (), planned=True)
    reporter.step(f"asking the router {router.gateway}")
    before = {(one.role, one.protocol): one for one in read_opened(home)}
    opened, findings = _asked(router, state, wishes, before)
    _write(home, tuple(opened))
    if wishes and not opened:
        raise RemoteError(
            "router-refused",
            f"the router {router.gateway} forwards none of the ports",
            details=tuple(dict.fromkeys(one.what for one in findings)),
            hint="Allow forwarding by programs in its settings, or forward them by hand: rhizon ports --rules table",
        )
    return _result(state, home, router, opened, (), findings, planned=False)


def renew_ports(host: Host, folder: Path) -> bool:
    """Asks again for what is about to run out, or what a router that was restarted has forgotten. Whether all of it is
    forwarded. Raises RhizonError."""
    home = host.home(folder).required()
    state = require_instance_state(host, home)
    before = {(one.role, one.protocol): one for one in read_opened(home)}
    if not before:
        home.remove_own(OPENED)
        return True
    lease = max(one.lease for one in before.values())
    router = find_router()
    wishes = [one for one in _wishes(state, lease) if (one[0], one[1].protocol) in before]
    opened, findings = _asked(router, state, wishes, before)
    kept = {(one.role, one.protocol) for one in opened}
    retry = tuple(one for key, one in before.items() if key not in kept)  # it may answer later; until then it stands
    _write(home, (*opened, *(msgspec.structs.replace(one, asked_at=time.time() - one.lease / 4) for one in retry)))
    return not findings


def close_ports(host: Host, folder: Path, reporter: Reporter, *, dry_run: bool) -> PortsOpened:
    """Asks the router to forward what was opened no more. Raises StateError where there is no router."""
    home = host.home(folder).required()
    state = require_instance_state(host, home)
    before = read_opened(home)
    router = find_router()
    closed, left, findings = [], [], []
    reporter.step(f"asking the router {router.gateway}")
    for one in before:
        if dry_run:
            closed.append(f"{one.role} {one.protocol} {one.external}")
            continue
        try:
            router.close(MapWish(one.protocol, one.internal, one.external, 0), one.forwarded())
            closed.append(f"{one.role} {one.protocol} {one.external}")
        except RemoteError as refused:
            left.append(one)
            findings.append(_refused(one.role, one.protocol, one.internal, refused, f"It runs out {one.until}."))
    if not dry_run:
        _write(home, tuple(left))
    return _result(state, home, router, left, closed, findings, planned=dry_run)


def _wishes(state: InstanceState, lease: int) -> list[tuple[str, MapWish]]:
    """Every number of a server on each of its protocols, but for the port of its console."""
    wishes = []
    private = {rule.port for _, rule in state.game.console.reached_at()}  # a console is not for the internet
    for role, port in port_places(state.game, state.lock).items():
        first = state.instance.ports.get(role)
        if first is None or role in private:
            continue
        count = port.count if isinstance(port, PortDefinition) else 1
        for more in range(count):
            name = role if more == 0 else f"{role}+{more}"
            wishes += [(name, MapWish(protocol, first + more, first + more, lease)) for protocol in port.protocols]
    return wishes


def _planned(wishes: list[tuple[str, MapWish]], router: Router) -> list[OpenedPort]:
    return [
        OpenedPort(
            role=role, protocol=wish.protocol, internal=wish.internal, external=wish.external,
            gateway=router.gateway, how="PCP", nonce="", epoch=0, asked_at=0, expires=0, lease=wish.seconds,
        )
        for role, wish in wishes
    ]  # fmt: skip


def _asked(
    router: Router,
    state: InstanceState,
    wishes: list[tuple[str, MapWish]],
    before: Mapping[tuple[str, Literal["tcp", "udp"]], OpenedPort],
) -> tuple[list[OpenedPort], list[Finding]]:
    """What it forwards of these, and what it does not."""
    opened: list[OpenedPort] = []
    findings: list[Finding] = []
    for role, wish in wishes:
        old = before.get((role, wish.protocol))
        if old is not None and (old.internal != wish.internal or old.gateway != router.gateway):
            old = None  # the server moved, or this is another router
        known = old.forwarded() if old is not None else None
        asked = wish._replace(external=old.external) if old is not None else wish
        try:
            got = router.forward(asked, f"rhizon {state.instance.name} {role}", known)
        except RemoteError as refused:
            findings.append(_refused(role, wish.protocol, wish.internal, refused, refused.hint))
            continue
        if got.external != wish.internal:
            findings.append(
                Finding(
                    code="another-port",
                    severity="warning",
                    subject=f"{role} {wish.protocol}",
                    what=f"the router forwards {got.external} to {wish.internal}: {wish.internal} is taken there",
                    remedy=f"Players join at port {got.external}, or give the server that number.",
                )
            )
        moment = time.time()
        opened.append(
            OpenedPort(
                role=role,
                protocol=wish.protocol,
                internal=wish.internal,
                external=got.external,
                gateway=router.gateway,
                how=got.how,
                nonce=got.nonce,
                epoch=got.epoch,
                asked_at=moment,
                expires=moment + (got.seconds or LONGEST),
                lease=got.seconds or LONGEST,
            )
        )
    return opened, findings


def _refused(role: str, protocol: str, number: int, refused: RemoteError, remedy: str) -> Finding:
    said = "; ".join(refused.details) or refused.message
    return Finding(
        code="port-not-opened",
        severity="warning",
        subject=f"{role} {protocol} {number}",
        what=f"the router does not forward it: {said}",
        remedy=remedy,
    )


def _result(
    state: InstanceState,
    home: InstanceFolder,
    router: Router,
    opened: "list[OpenedPort]",
    closed: "list[str] | tuple[str, ...]",
    findings: "list[Finding] | tuple[Finding, ...]",
    *,
    planned: bool,
) -> PortsOpened:
    return PortsOpened(
        folder=str(home.folder),
        name=state.instance.name,
        planned=planned,
        gateway=router.gateway,
        opened=tuple(opened),
        closed=tuple(closed),
        findings=tuple(findings),
    )
