"""What this host is and has: memory, sockets, the clock."""

import datetime
import errno
import math
import os
import platform
import socket
import sys
from pathlib import Path

from rhizon.adapters.control_groups import memory_limit, processor_limit

__all__ = [
    "available_mib",
    "ephemeral_ports",
    "every_address",
    "first_free_port",
    "local_addresses",
    "machine_mib",
    "memory_mib",
    "now",
    "open_files_limit",
    "processor",
    "processors",
    "socket_in_use",
    "time_text",
]

_FOREIGN = Path("/proc/sys/fs/binfmt_misc")
_LAST_SECOND = 253_402_300_799.0  # of the year 9999


def machine_mib() -> int:
    """Memory of the machine in MiB, whatever of it this process may have."""
    import psutil

    return int(psutil.virtual_memory().total) >> 20


def memory_mib() -> int:
    """Memory of the host in MiB, or its control group's limit where that is lower."""
    limit = memory_limit()
    return machine_mib() if limit is None else min(machine_mib(), limit >> 20)


def available_mib() -> int:
    """Memory in MiB that programs could get now without others being swapped out."""
    import psutil

    free = int(psutil.virtual_memory().available) >> 20
    limit = memory_limit()
    return free if limit is None else min(free, limit >> 20)


def processors() -> int:
    """Processors that may be used: those that the process may run on, or fewer where a quota says so."""
    there = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    quota = processor_limit()
    return there if quota is None else min(there, max(1, math.ceil(quota)))


def processor() -> str:
    """What the system says that its processor is; "" where it is not Linux, or runs programs of others by a helper
    (binfmt_misc of the kernel)."""
    try:
        helped = {"register", "status"} < {one.name for one in _FOREIGN.iterdir()}
    except OSError:
        helped = False
    return platform.machine() if sys.platform == "linux" and not helped else ""


def now() -> str:
    """The time in UTC, ISO 8601 to the second."""
    return time_text(datetime.datetime.now(datetime.UTC).timestamp())


def time_text(seconds: float) -> str:
    """Seconds since 1970 in UTC, ISO 8601 to the second; what is beyond the year 9999 is its end."""
    return datetime.datetime.fromtimestamp(min(seconds, _LAST_SECOND), datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def ephemeral_ports() -> tuple[int, int] | None:
    """The range from which the system takes ports for outgoing connections (ip(7), ip_local_port_range); None where it
    does not say."""
    try:
        first, last = Path("/proc/sys/net/ipv4/ip_local_port_range").read_text("ascii").split()
        return int(first), int(last)
    except (OSError, ValueError):
        return None


def local_addresses() -> list[str]:
    """The IPv4 addresses of this machine in its networks, loopback and link-local ones left out."""
    import psutil

    found = []
    for name, addresses in sorted(psutil.net_if_addrs().items()):
        for one in addresses:
            usable = one.family == socket.AF_INET and not one.address.startswith(("127.", "169.254."))
            if usable and psutil.net_if_stats()[name].isup:
                found.append(one.address)
    return found


def every_address() -> list[str]:
    """All addresses of this machine, IPv4 and IPv6, without the zones of link-local ones."""
    import psutil

    kinds = (socket.AF_INET, socket.AF_INET6)
    found = (one for _, every in sorted(psutil.net_if_addrs().items()) for one in every if one.family in kinds)
    return list(dict.fromkeys(one.address.partition("%")[0] for one in found))


def first_free_port() -> int:
    """The lowest port that a program without privileges may listen on (ip(7), ip_unprivileged_port_start)."""
    try:
        return int(Path("/proc/sys/net/ipv4/ip_unprivileged_port_start").read_text("ascii"))
    except (OSError, ValueError):
        return 1024


def open_files_limit() -> int | None:
    """How many files a process that is started from here may have open; None where nothing bounds it."""
    try:
        import resource
    except ImportError:
        return None
    limit = resource.getrlimit(resource.RLIMIT_NOFILE)[1]
    return None if limit == resource.RLIM_INFINITY else limit


def socket_in_use(number: int, protocol: str) -> bool:
    """Whether binding the port fails now, really tried, on IPv4."""
    kind = socket.SOCK_STREAM if protocol == "tcp" else socket.SOCK_DGRAM
    with socket.socket(socket.AF_INET, kind) as probe:
        if protocol == "tcp":
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)  # a closing connection is not a holder
        try:
            probe.bind(("0.0.0.0", number))
        except OSError as broken:
            return broken.errno in (errno.EADDRINUSE, errno.EACCES)
    return False
