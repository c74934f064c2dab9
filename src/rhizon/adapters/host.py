"""What this host is and has: memory, sockets, the clock."""

import datetime
import errno
import socket
from pathlib import Path

__all__ = ["local_addresses", "memory_mib", "now", "passing_ports", "socket_in_use"]

# Limits of control groups, version 2 and version 1: psutil does not see them, a JVM does.
_LIMITS = (Path("/sys/fs/cgroup/memory.max"), Path("/sys/fs/cgroup/memory/memory.limit_in_bytes"))


def memory_mib() -> int:
    """Memory of the host in MiB, or its control group's limit where that is lower."""
    import psutil

    total = int(psutil.virtual_memory().total)
    for file in _LIMITS:
        try:
            text = file.read_text("ascii").strip()
        except OSError:
            continue
        if text.isdecimal():
            total = min(total, int(text))
    return total >> 20


def now() -> str:
    """The time in UTC, ISO 8601 to the second."""
    return datetime.datetime.now(datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def passing_ports() -> tuple[int, int] | None:
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


def socket_in_use(number: int, protocol: str) -> bool:
    """Whether binding the port fails now, really tried, on IPv4."""
    kind = socket.SOCK_STREAM if protocol == "tcp" else socket.SOCK_DGRAM
    with socket.socket(socket.AF_INET, kind) as probe:
        if protocol == "tcp":
            probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)  # a closing connection is no holder
        try:
            probe.bind(("0.0.0.0", number))
        except OSError as broken:
            return broken.errno in (errno.EADDRINUSE, errno.EACCES)
    return False
