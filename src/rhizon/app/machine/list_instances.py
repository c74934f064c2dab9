"""The instances of this host."""

from pathlib import Path
from typing import Literal

import msgspec

from rhizon.app.host import Host
from rhizon.app.instance.exclusive import started_elsewhere
from rhizon.app.instance.reservations import Server, known_servers
from rhizon.core.finding import Finding

__all__ = ["InstanceLine", "Listing", "list_instances"]


class InstanceLine(msgspec.Struct, frozen=True, kw_only=True):
    """One instance, as its folder says. "absent": the folder cannot be seen now, "damaged": its record cannot be read;
    both keep their ports and memory. ``process`` is the running server's."""

    folder: str
    name: str
    game: str
    note: str
    state: Literal["running", "stopped", "absent", "damaged"]
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
    return Listing(instances=tuple(_listed(host, one) for one in servers), findings=tuple(findings))


def _listed(host: Host, server: Server) -> InstanceLine:
    entry = server.entry
    state: Literal["running", "stopped", "absent", "damaged"] = "stopped"
    process = None
    if server.presence != "here":
        state = server.presence
    else:
        home = host.home(Path(entry.folder))
        mark = home.running()
        process = mark.pid if mark is not None else started_elsewhere(host, home)
        state = "running" if process is not None else "stopped"
    return InstanceLine(
        folder=entry.folder,
        name=entry.name,
        game=entry.game,
        note=entry.note,
        state=state,
        memory_mib=entry.memory_mib,
        ports=entry.ports,
        process=process,
    )


def _not_here(server: Server) -> Finding:
    entry = server.entry
    if server.presence == "damaged":
        return Finding(
            code="instance-unread",
            severity="warning",
            subject=entry.name,
            what=f"its record in {entry.folder} cannot be read: {server.why}",
            remedy=f"rhizon check {entry.folder}",
        )
    return Finding(
        code="instance-absent",
        severity="warning",
        subject=entry.name,
        what=f"its folder cannot be seen: {entry.folder}; its ports and memory stay reserved",
        remedy=f"Mount its disk, or if it was moved use any command on its new folder. If it is gone: "
        f"rhizon forget {entry.folder}",
    )


def _ledger_trouble(words: str) -> Finding:
    return Finding(
        code="ledger-damaged",
        severity="warning",
        subject="ledger",
        what=words,
        remedy="The next command that changes a server repairs it; or now: rhizon host --rebuild",
    )
