"""This machine as game servers see it: what it has, what is granted, and to whom."""

import platform
import shutil
from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec

from rhizon.adapters.host import ephemeral_ports, machine_mib, memory_mib, processors
from rhizon.adapters.transact import RHIZON
from rhizon.app.host import Host, open_ledger
from rhizon.app.instance.reservations import reconcile, settle
from rhizon.app.machine.list_instances import InstanceLine, list_instances
from rhizon.core.errors import InputError
from rhizon.core.finding import Finding
from rhizon.core.model.host import HostLimits

__all__ = ["HostState", "RebuildResult", "host_state", "rebuild_ledger"]


class HostState(msgspec.Struct, frozen=True, kw_only=True):
    """Memory in MiB, disk in bytes. ``memory_mib`` is what may be used of the ``machine_mib`` (less where a control
    group says so), ``for_servers_mib`` what all servers may have together, ``free_mib`` what can still be granted.
    ``state_folder``, ``data_folder`` and ``cache_folder`` are "" where there is none that could be written to.
    ``ephemeral`` are the first and last port that the system gives to outgoing connections."""

    system: str
    cores: int
    machine_mib: int
    memory_mib: int
    reserve_mib: int
    for_servers_mib: int
    granted_mib: int
    free_mib: int
    disk_bytes: int
    disk_free_bytes: int
    data_folder: str
    state_folder: str
    cache_folder: str
    config_folder: str
    limits: HostLimits
    ephemeral: tuple[int, int] | None
    instances: tuple[InstanceLine, ...]
    findings: tuple[Finding, ...]


def host_state(host: Host) -> HostState:
    """Reads, and changes nothing."""
    listing = list_instances(host)
    instances = listing.instances
    granted = sum(one.memory_mib for one in instances)
    memory = host.memory(granted)
    state = host.places.state

    def writable(folder: Path) -> str:
        return "" if host.places.trouble else str(folder)

    disk = shutil.disk_usage(state if state.exists() else state.anchor)
    findings = list(listing.findings)
    if granted > memory.for_servers_mib:
        findings.append(
            Finding(
                code="memory-overcommitted",
                severity="warning",
                subject="memory",
                what=f"{granted} MiB are granted to {len(instances)} servers, more than the "
                f"{memory.for_servers_mib} MiB that this machine has for servers",
                remedy="Run fewer at once, or provision one with less --memory; see who has how much: rhizon list",
            )
        )
    if host.places.trouble:
        findings.append(
            Finding(
                code="no-state-folder",
                severity="warning",
                subject="state",
                what=f"there is no folder for Rhizon's state: {host.places.trouble}",
                remedy="Set RHIZON_STATE to the absolute path of a folder that you can write to.",
            )
        )
    return HostState(
        system=f"{platform.system()} {platform.machine()}",
        cores=processors(),
        machine_mib=machine_mib(),
        memory_mib=memory_mib(),
        reserve_mib=memory.reserve_mib,
        for_servers_mib=memory.for_servers_mib,
        granted_mib=granted,
        free_mib=memory.free_mib,
        disk_bytes=disk.total,
        disk_free_bytes=disk.free,
        data_folder=writable(host.places.data),
        state_folder=writable(state),
        cache_folder=writable(host.places.cache),
        config_folder=str(host.places.config),
        limits=host.limits,
        ephemeral=ephemeral_ports(),
        instances=instances,
        findings=tuple(findings),
    )


class RebuildResult(msgspec.Struct, frozen=True, kw_only=True):
    """The ledger after it was read again from the folders: what it knows now, which of that is new to it, and what was
    wrong with its file ("" where nothing was)."""

    planned: bool
    known: int
    added: tuple[str, ...]
    trouble: str
    findings: tuple[Finding, ...]


MOST_DEEP = 4  # folders below one that was named


def rebuild_ledger(host: Host, folders: Sequence[Path], *, write: bool = True) -> RebuildResult:
    """Makes every row what its folder says, and adds the instances in or below ``folders``. Folders that cannot be seen
    keep what they hold. Raises :class:`InputError` for one of ``folders`` that is none, and
    :class:`~rhizon.core.errors.StateError` where the ledger cannot be written."""
    for one in folders:
        if not one.is_dir():
            raise InputError("no-such-folder", f"there is no folder {one}", hint="Check the path.")
    if not write:
        return _would_rebuild(host, folders)
    with open_ledger(host, write=True) as ledger:
        trouble = ledger.trouble
        with ledger.claim():
            reconcile(host, ledger)
            before = {one.folder for one in ledger.entries()}
    for folder in folders:
        for home in (host.home(one) for one in _instances_below(folder.absolute(), 0)):
            if home.is_ours and not home.is_forgotten:
                settle(host, home)
    listing = list_instances(host)
    known = [one.folder for one in listing.instances]
    added = tuple(one for one in known if one not in before)
    return RebuildResult(planned=not write, known=len(known), added=added, trouble=trouble, findings=listing.findings)


def _would_rebuild(host: Host, folders: Sequence[Path]) -> RebuildResult:
    """What it would come to. Nothing is written."""
    listing = list_instances(host)
    known = {one.folder for one in listing.instances}
    homes = (host.home(one) for folder in folders for one in _instances_below(folder.absolute(), 0))
    new = tuple(str(one.folder) for one in homes if one.is_ours and not one.is_forgotten)
    added = tuple(one for one in new if one not in known)
    with open_ledger(host) as ledger:
        trouble = ledger.trouble
    return RebuildResult(
        planned=True, known=len(known) + len(added), added=added, trouble=trouble, findings=listing.findings
    )


def _instances_below(folder: Path, depth: int) -> Iterator[Path]:
    try:
        if (folder / RHIZON).is_dir():
            yield folder
        elif depth < MOST_DEEP:
            for one in sorted(folder.iterdir()):
                if one.is_dir() and not one.is_symlink():
                    yield from _instances_below(one, depth + 1)
    except OSError:
        return  # what cannot be read holds nothing that could be recorded
