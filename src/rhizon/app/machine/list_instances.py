"""The instances of this host."""

from pathlib import Path
from typing import Literal

import msgspec

from rhizon.app.host import Host
from rhizon.app.instance.reservations import Server, known_servers
from rhizon.app.instance.server_state import State, state_of
from rhizon.core.errors import RhizonError
from rhizon.core.finding import Finding
from rhizon.core.words import command_line

__all__ = ["InstanceLine", "Listing", "list_instances"]


class InstanceLine(msgspec.Struct, frozen=True, kw_only=True):
    """One instance, as its folder says. "absent": its folder was not found, "damaged": its record cannot be read;
    both keep their ports and memory. ``process`` is the running server's."""

    folder: str
    name: str
    game: str
    game_title: str
    note: str
    state: State | Literal["absent", "damaged"]
    memory_mib: int
    ports: dict[str, int]
    process: int | None = None


class Listing(msgspec.Struct, frozen=True, kw_only=True):
    """All of them, by folder, and what is wrong with the ledger or a folder."""

    instances: tuple[InstanceLine, ...]
    findings: tuple[Finding, ...] = ()


def list_instances(host: Host) -> Listing:
    """Every instance that the ledger knows. Nothing is written."""
    servers, trouble = known_servers(host)
    findings = [_ledger_trouble(trouble)] if trouble else []
    findings += [_not_here(one) for one in servers if one.presence != "here"]
    titles = {game: _title(host, game) for game in {one.entry.game for one in servers}}
    lines = tuple(_listed(host, one, titles[one.entry.game]) for one in servers)
    return Listing(instances=lines, findings=tuple(findings))


def _title(host: Host, game: str) -> str:
    """The game's title; its id where the definition is not known from here."""
    try:
        return host.games().get(game).title
    except RhizonError:
        return game


def _listed(host: Host, server: Server, title: str) -> InstanceLine:
    """One server with its state now."""
    entry = server.entry
    state: State | Literal["absent", "damaged"] = "stopped"
    process = None
    if server.presence != "here":
        state = server.presence
    else:
        home = host.home(Path(entry.folder))
        now = state_of(host, home)
        state, process = now.state, now.pid
    return InstanceLine(
        folder=entry.folder,
        name=entry.name,
        game=entry.game,
        game_title=title,
        note=entry.note,
        state=state,
        memory_mib=entry.memory_mib,
        ports=entry.ports,
        process=process,
    )


def _not_here(server: Server) -> Finding:
    """The finding for a server whose folder was not found or whose record cannot be read."""
    entry = server.entry
    if server.presence == "damaged":
        return Finding(
            code="instance-unread",
            severity="warning",
            subject=entry.name,
            what=f"its record in {entry.folder} cannot be read: {server.why}",
            remedy=command_line("rhizon", "check", entry.folder),
        )
    return Finding(
        code="instance-absent",
        severity="warning",
        subject=entry.name,
        what=f"its folder was not found: {entry.folder}; its ports and memory stay reserved",
        remedy="Mount its disk, or if it was moved, use any command on its new folder. If it is gone: "
        + command_line("rhizon", "forget", entry.folder),
    )


def _ledger_trouble(words: str) -> Finding:
    return Finding(
        code="ledger-damaged",
        severity="warning",
        subject="ledger",
        what=words,
        remedy="The next command that changes a server repairs it; or now: rhizon host --rebuild",
    )
