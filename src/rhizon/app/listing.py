"""The instances of this host."""

from pathlib import Path

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.app.context import Host, open_ledger

__all__ = ["Listed", "list_instances"]


class Listed(msgspec.Struct, frozen=True, kw_only=True):
    """One instance: ``state`` is "running" or "stopped"."""

    folder: str
    name: str
    game: str
    note: str
    state: str
    memory_mib: int
    ports: dict[str, int]


def list_instances(host: Host) -> list[Listed]:
    """Every instance of the ledger whose folder is there, by folder."""
    with open_ledger(host) as ledger:
        entries = ledger.entries()
    return [
        Listed(
            folder=one.folder,
            name=one.name,
            game=one.game,
            note=one.note,
            state="running" if InstanceFolder(Path(one.folder)).running() else "stopped",
            memory_mib=one.memory_mib,
            ports=one.ports,
        )
        for one in entries
    ]
