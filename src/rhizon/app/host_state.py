"""This machine as game servers see it: what it has, what is granted, and to whom."""

import platform
import shutil

import msgspec

from rhizon.adapters.host import machine_mib, memory_mib, passing_ports, processors
from rhizon.app.context import Host, open_ledger
from rhizon.app.listing import Listed, list_instances
from rhizon.core.finding import Finding
from rhizon.core.model.host import HostLimits

__all__ = ["HostState", "host_state"]


class HostState(msgspec.Struct, frozen=True, kw_only=True):
    """Memory in MiB, disk in bytes. ``memory_mib`` is what may be used of the ``machine_mib`` (less where a control
    group says so), ``free_mib`` what can still be granted; ``gone`` are folders that the ledger knew and that are not
    there any more."""

    system: str
    cores: int
    machine_mib: int
    memory_mib: int
    reserve_mib: int
    granted_mib: int
    free_mib: int
    disk_bytes: int
    disk_free_bytes: int
    state_folder: str
    limits: HostLimits
    passing: tuple[int, int] | None
    instances: tuple[Listed, ...]
    gone: tuple[str, ...]
    findings: tuple[Finding, ...]


def host_state(host: Host) -> HostState:
    """Reads, and changes nothing but to let go of what instances held whose folders are gone."""
    with open_ledger(host) as ledger, ledger.claim():
        gone = ledger.forget_missing()
    instances = tuple(list_instances(host))
    granted = sum(one.memory_mib for one in instances)
    memory = host.memory(granted)
    state = host.places.state
    disk = shutil.disk_usage(state if state.exists() else state.anchor)
    findings = [
        Finding(
            code="instance-gone",
            severity="info",
            subject=folder,
            what="the ledger knew a server there, and there is none any more: its ports and memory are free again",
            remedy="If you moved it: rhizon check NEW_FOLDER writes it down at its new place.",
        )
        for folder in gone
    ]
    if granted > memory.total_mib - memory.reserve_mib:
        findings.append(
            Finding(
                code="memory-overcommitted",
                severity="warning",
                subject="memory",
                what=f"{len(instances)} servers may take {granted} MiB together, the machine has "
                f"{memory.total_mib} and keeps {memory.reserve_mib}",
                remedy="Run fewer at once, or give one less: rhizon provision ... --memory MIB",
            )
        )
    return HostState(
        system=f"{platform.system()} {platform.machine()}",
        cores=processors(),
        machine_mib=machine_mib(),
        memory_mib=memory_mib(),
        reserve_mib=memory.reserve_mib,
        granted_mib=granted,
        free_mib=memory.free_mib,
        disk_bytes=disk.total,
        disk_free_bytes=disk.free,
        state_folder=str(state),
        limits=host.limits,
        passing=passing_ports(),
        instances=instances,
        gone=tuple(gone),
        findings=tuple(findings),
    )
