"""The way of a player to a server, link by link: the first one that is broken, and what mends it."""

import re
import shutil
import subprocess
from collections.abc import Sequence
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.adapters.host import every_address, socket_in_use
from rhizon.adapters.keepers import life_of
from rhizon.adapters.routers import RouterSays, find_router
from rhizon.app.host import Host
from rhizon.app.instance.exclusive import started_elsewhere
from rhizon.app.instance.state import InstanceState, require_instance_state
from rhizon.app.reach.opened import OpenedPort, read_opened
from rhizon.app.run.command import setting_now
from rhizon.core.allocate.port_roles import port_places
from rhizon.core.allocate.rules import OpenPort
from rhizon.core.errors import RhizonError
from rhizon.core.model.setting import PortDefinition
from rhizon.core.reach.kinds import address_kind, is_public, kind_words
from rhizon.core.words import command_line

__all__ = ["Chain", "Link", "follow_chain"]

Holds = Literal["yes", "no", "unknown"]
FIREWALL_SECONDS = 10


class Link(msgspec.Struct, frozen=True, kw_only=True):
    """One link: whether it ``holds``, what was seen, and what mends it."""

    link: str
    holds: Holds
    what: str
    fix: str = ""


class Chain(msgspec.Struct, frozen=True, kw_only=True):
    """All links in the order in which a player meets them from inside out; ``broken`` is the first that does not hold,
    "" where none is known to be broken."""

    folder: str
    name: str
    broken: str
    links: tuple[Link, ...]


def follow_chain(host: Host, folder: Path, *, ask_router: bool) -> Chain:
    """Raises StateError. The router is asked only where that was said; links behind a broken one are looked at too."""
    home = host.home(folder).required()
    state = require_instance_state(host, home)
    process = _process(host, state)
    sockets = _sockets(state, runs=process.holds == "yes")
    links = [process, _bound(state), *sockets, _firewall(state), _router(state, ask=ask_router)]
    broken = next((one.link for one in links if one.holds == "no"), "")
    return Chain(folder=str(home.folder), name=state.instance.name, broken=broken, links=tuple(links))


def _process(host: Host, state: InstanceState) -> Link:
    home = state.home
    start = command_line("rhizon", "start", state.instance.name)
    if home.running() is not None:
        life = life_of(home)
        if life is not None and life.state == "starting":
            return Link(
                link="process",
                holds="no",
                what="it is starting",
                fix=f"Wait: {command_line('rhizon', 'wait', state.instance.name)}",
            )
        return Link(link="process", holds="yes", what="it runs, and is ready")
    pid = started_elsewhere(host, home)
    if pid is not None:
        return Link(link="process", holds="yes", what=f"it runs as process {pid}, started without Rhizon")
    return Link(link="process", holds="no", what="it is not running", fix=f"Start it: {start}")


def _bound(state: InstanceState) -> Link:
    """The address that the server listens on."""
    said = str(setting_now(state.home, state.game, "address") or "")
    kind = address_kind(said)
    change = command_line("rhizon", "set", state.instance.name, "address=0.0.0.0")
    if said in ("", "*") or kind == "none":
        return Link(link="address", holds="yes", what="it listens on every address of this machine")
    if kind == "loopback":
        what = f"it listens on {said} only, which other machines cannot reach"
        return Link(link="address", holds="no", what=what, fix=f"Listen on every address: {change}")
    if kind != "name" and said not in every_address():
        what = f"it is set to listen on {said}, which is not an address of this machine"
        return Link(link="address", holds="no", what=what, fix=f"Listen on every address: {change}")
    return Link(link="address", holds="yes", what=f"it listens on {said} ({kind_words(kind)})")


def _sockets(state: InstanceState, *, runs: bool) -> list[Link]:
    """Whether something listens on each port; of a server that does not run, whether another program does."""
    name = state.instance.name
    links = []
    for role, port in port_places(state.game, state.lock).items():
        number = state.instance.ports.get(role)
        if number is None:
            continue
        for protocol in port.protocols:
            listening = socket_in_use(number, protocol)
            what, fix = f"something listens on {protocol} {number}", ""
            if runs and not listening:
                what = f"nothing listens on {protocol} {number}"
                fix = f"See what the server says of it: {command_line('rhizon', 'log', name)}"
            elif not runs and listening:
                what = f"another program listens on {protocol} {number}"
                fix = f"End that program, or use another number: {command_line('rhizon', 'ports', name, '--move')}"
            elif not runs:
                what = f"{protocol} {number} is free"
            holds: Holds = "yes" if runs and listening else "unknown" if not runs and not listening else "no"
            links.append(Link(link=f"{role} port", holds=holds, what=what, fix=fix))
    return links


def _open_ports(state: InstanceState) -> list[OpenPort]:
    found = []
    for role, port in port_places(state.game, state.lock).items():
        first = state.instance.ports.get(role)
        if first is not None:
            last = first + (port.count if isinstance(port, PortDefinition) else 1) - 1
            found += [
                OpenPort(server=state.instance.name, role=role, first=first, last=last, protocol=protocol)
                for protocol in port.protocols
            ]
    return found


def _firewall(state: InstanceState) -> Link:
    """The firewall of this machine, as far as it can be read: nftables says what it does to those that come in."""
    program = shutil.which("nft") or shutil.which("nft", path="/usr/sbin:/sbin")
    text = _ruleset(program) if program is not None else None
    rule = command_line("rhizon", "ports", state.instance.name, "--rules", "nftables")
    if text is None and program is not None:
        what = "its rules can only be read by root"
        return Link(link="firewall", holds="unknown", what=what, fix=f"See the rules that the server needs: {rule}")
    if text is None:
        return Link(link="firewall", holds="yes", what="no firewall is known on this machine")
    if not re.search(r"hook input[^}]*?policy drop", text) and not re.search(r"\b(?:drop|reject)\b", text):
        return Link(link="firewall", holds="yes", what="no rule blocks incoming traffic")
    closed = [
        one
        for one in _open_ports(state)
        if not re.search(rf"\b{one.protocol} dport \{{?[^}}\n]*\b{one.first}\b[^}}\n]*\}}?[^\n]*accept", text)
        and not re.search(rf"\b{one.protocol} dport {one.first}-{one.last}\b[^\n]*accept", text)
    ]
    if closed and re.search(r"hook input[^}]*?policy drop", text):
        names = ", ".join(f"{one.protocol} {one.first}" for one in closed)
        return Link(link="firewall", holds="no", what=f"it blocks {names}", fix=f"Allow them: {rule}")
    what = "it has blocking rules, which may apply to these ports" if closed else "it allows the ports"
    return Link(link="firewall", holds="unknown" if closed else "yes", what=what)


def _ruleset(program: str) -> str | None:
    try:
        done = subprocess.run([program, "list", "ruleset"], capture_output=True, text=True, timeout=FIREWALL_SECONDS)
    except (OSError, subprocess.SubprocessError):
        return None
    return done.stdout if done.returncode == 0 else None


def _router(state: InstanceState, *, ask: bool) -> Link:
    """What is between this machine and the internet."""
    name = state.instance.name
    public = [one for one in every_address() if is_public(one) and ":" not in one]
    if public:
        return Link(link="router", holds="yes", what=f"this machine has an address of the internet: {public[0]}")
    opened = read_opened(state.home)
    if not ask:
        what = "the router was not asked"
        if opened:
            what = "the router forwards " + ", ".join(f"{one.protocol} {one.external}" for one in opened)
        again = command_line("rhizon", "reach", name, "--ask-router")
        return Link(link="router", holds="unknown", what=what, fix=f"Ask it: {again}")
    try:
        says = find_router().says()
    except RhizonError as silent:
        hand = command_line("rhizon", "ports", name, "--rules", "table")
        return Link(link="router", holds="unknown", what=silent.message, fix=f"Forward the ports there by hand: {hand}")
    return _asked(state, says, opened)


def _asked(state: InstanceState, says: RouterSays, opened: Sequence[OpenedPort]) -> Link:
    kind = address_kind(says.outside)
    ask = command_line("rhizon", "ports", state.instance.name, "--open")
    if kind == "shared":
        fix = "Ask the provider for an address of your own, or for IPv6."
        return Link(link="router", holds="no", what=f"its address is {says.outside}: {kind_words(kind)}", fix=fix)
    if kind != "public":
        what = (
            f"its external address is {says.outside or 'none'} ({kind_words(kind)}): another router is in front of it"
        )
        return Link(link="router", holds="no", what=what, fix="Forward the ports on both, or put one into bridge mode.")
    if not opened:
        what = f"{says.outside} ({says.how}) forwards none of these ports on request"
        return Link(link="router", holds="no", what=what, fix=f"Ask it to: {ask}")
    if any(one.lost_by(says.epoch) for one in opened):
        what = f"{says.outside} ({says.how}) was restarted and has lost its port mappings"
        return Link(link="router", holds="no", what=what, fix=f"Ask it again: {ask}")
    return Link(link="router", holds="yes", what=f"{says.outside} ({says.how}) forwards these ports")
