"""Signs by which any program says that the system refused it something: the words of the C library and of runtimes."""

import re

from rhizon.core.runtimes.family import FailureSign

__all__ = ["SYSTEM_FAILURES"]


def _sign(code: str, pattern: str, what: str, hint: str) -> FailureSign:
    return FailureSign(code, re.compile(pattern), what, hint)


_CHECK = "See which setting it is: rhizon check {server}"

SYSTEM_FAILURES: tuple[FailureSign, ...] = (
    _sign(
        "address-absent",
        r"Cannot assign requested address|EADDRNOTAVAIL|requested address is not valid in its context",
        "this machine does not have the address that the server should listen on",
        _CHECK,
    ),
    _sign(
        "port-privileged",
        r"(?:[Bb]ind|listen|[Ss]ocket).{0,80}Permission denied|WSAEACCES",
        "the server may not listen on its port: it is privileged",
        "Take one from 1024 on: rhizon ports {server} --move",
    ),
    _sign(
        "port-in-use",
        r"Address already in use|EADDRINUSE|Only one usage of each socket address",
        "a port of the server is taken",
        "See which program uses it: rhizon check {server}",
    ),
    _sign(
        "disk-full",
        r"No space left on device|ENOSPC|not enough space on the disk|Disk quota exceeded",
        "the disk is full",
        "Free some space; old backups: rhizon backup {server} --keep 7d",
    ),
    _sign(
        "open-files",
        r"Too many open files|EMFILE",
        "the server may not open more files",
        "Raise the limit before the start: ulimit -n 4096",
    ),
    _sign(
        "not-writable",
        r"Permission denied|EACCES|AccessDeniedException|Read-only file system|EROFS|UnauthorizedAccessException",
        "the system does not let the server read or write a file",
        "See which folder it is: rhizon check {server}",
    ),
)
