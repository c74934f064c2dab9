"""Every address of a server that one can hand out, the best first, and what each depends on."""

import socket
from pathlib import Path

import msgspec

from rhizon.adapters.host import every_address
from rhizon.adapters.routers import RouterSays, find_router
from rhizon.app.host import Host
from rhizon.app.instance.state import InstanceState, require_instance_state
from rhizon.app.reach.opened import OpenedPort, read_opened
from rhizon.app.run.command import setting_now
from rhizon.core.errors import RhizonError
from rhizon.core.finding import Finding
from rhizon.core.reach.kinds import address_kind, is_public, kind_words

__all__ = ["AddressLine", "Addresses", "list_addresses"]


class AddressLine(msgspec.Struct, frozen=True, kw_only=True):
    """An address to hand out: ``join`` is what players type, ``reach`` from where it works, ``depends`` on what."""

    address: str
    port: int
    join: str
    reach: str
    depends: str
    sure: bool


class Addresses(msgspec.Struct, frozen=True, kw_only=True):
    """All of them, the best first. ``forwarding`` says whether a router has to forward the port."""

    folder: str
    name: str
    addresses: tuple[AddressLine, ...]
    forwarding: str
    router: str
    findings: tuple[Finding, ...]


def list_addresses(host: Host, folder: Path, *, ask_router: bool) -> Addresses:
    """Raises StateError. The router is asked only where that was said."""
    home = host.home(folder).required()
    state = require_instance_state(host, home)
    role = state.game.ports[0].role if state.game.ports else ""
    port = state.instance.ports.get(role, 0)
    bound = str(setting_now(home, state.game, "address") or "")
    opened = [one for one in read_opened(home) if one.role == role]
    findings: list[Finding] = []
    says = _router(findings) if ask_router else None
    lines = [
        *_outside(host, state, port, opened, says),
        *_inside(state, bound, port),
    ]
    public_here = [one for one in every_address() if is_public(one) and ":" not in one]
    if says is not None:
        findings += _nat(says)
    needed = "none: this machine has an address of the internet" if public_here else _forwarding(role, port, opened)
    return Addresses(
        folder=str(home.folder),
        name=state.instance.name,
        addresses=tuple(lines),
        forwarding=needed,
        router=f"{says.gateway}, {says.outside or 'no address outside'} ({says.how})" if says is not None else "",
        findings=tuple(findings),
    )


def _forwarding(role: str, port: int, opened: list[OpenedPort]) -> str:
    if opened:
        until = ", ".join(f"{one.protocol} {one.external} until {one.until}" for one in opened)
        return f"the router forwards the {role} port: {until}"
    return f"for the internet, the router must forward {role} {port} to this machine"


def _router(findings: list[Finding]) -> RouterSays | None:
    try:
        return find_router().says()
    except RhizonError as refused:
        findings.append(
            Finding(
                code="router-silent",
                severity="warning",
                subject="router",
                what=f"{refused.message}: {'; '.join(refused.details)}" if refused.details else refused.message,
                remedy="Look its address up in its own settings, and write it into host.toml (address).",
            )
        )
        return None


def _nat(says: RouterSays) -> list[Finding]:
    """What keeps the router's address from being one of the internet."""
    kind = address_kind(says.outside)
    if kind == "public":
        return []
    what = f"the router's external address is {says.outside or 'none'}: {kind_words(kind)}"
    remedy = "Another router is in front of it: forward the port there too, or put one of the two into bridge mode."
    if kind == "shared":
        remedy = "The provider shares one address among many customers: ask it for an address of your own, or for IPv6."
    return [Finding(code="not-reachable", severity="warning", subject="router", what=what, remedy=remedy)]


def _outside(
    host: Host, state: InstanceState, port: int, opened: list[OpenedPort], says: RouterSays | None
) -> list[AddressLine]:
    """Addresses for the internet."""
    lines = []
    outer = opened[0].external if opened else port
    said = state.instance.players.address or host.limits.address
    if said:
        where = "the address for players" if state.instance.players.address else "host.toml"
        lines.append(_line(state, said, outer, "the internet", f"as {where} says", sure=True))
    if says is not None and is_public(says.outside):
        how = "the router forwards the port" if opened else "the router must forward the port"
        depends = f"as the router says; {how}"
        lines.append(_line(state, says.outside, outer, "the internet", depends, sure=bool(opened)))
    for one in every_address():
        if is_public(one):
            depends = "an address of this machine"
            if ":" in one:
                depends += "; a router's IPv6 firewall must allow the port"
            lines.append(_line(state, one, port, "the internet", depends, sure=":" not in one))
    return lines


def _inside(state: InstanceState, bound: str, port: int) -> list[AddressLine]:
    """Addresses for the local network and for this machine."""
    lines = []
    alone = address_kind(bound) == "loopback"
    everywhere = bound in ("", "0.0.0.0", "::", "*")
    for one in every_address() if not alone else ():
        kind = address_kind(one)
        if kind not in ("private", "documentation", "shared") or not (everywhere or one == bound):
            continue
        lines.append(_line(state, one, port, "the local network", f"an address of this machine ({kind})", sure=True))
    name = socket.gethostname()
    if not alone and name and name != "localhost":
        depends = "the local network must resolve this name"
        lines.append(_line(state, name, port, "the local network", depends, sure=False))
    here = bound if alone else "127.0.0.1"
    depends = "the server listens on this machine only" if alone else "always"
    lines.append(_line(state, here, port, "this machine", depends, sure=True))
    return lines


def _line(state: InstanceState, address: str, port: int, reach: str, depends: str, *, sure: bool) -> AddressLine:
    shown = f"[{address}]" if ":" in address and not address.startswith("[") else address
    join = state.game.player.join.replace("{host}", shown).replace("{port}", str(port))
    return AddressLine(address=address, port=port, join=join, reach=reach, depends=depends, sure=sure)
