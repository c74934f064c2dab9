"""Mono: runs .NET Framework programs where Microsoft's own runtime does not."""

import re

from rhizon.core.names import plain
from rhizon.core.runtimes.family import Family, RuntimeReport

__all__ = ["FAMILY"]

_VERSION = re.compile(r"^Mono JIT compiler version (?P<version>(?P<major>\d+)[.\d]*)", re.MULTILINE)


def _read_probe(text: str) -> RuntimeReport | None:
    match = _VERSION.search(text)
    if match is None:
        return None
    return RuntimeReport(major=int(match["major"]), version=plain(match["version"], 60), vendor="Mono")


FAMILY = Family(
    title="Mono",
    program="mono",
    home_variables=("MONO_HOME",),
    folders=("/usr", "/opt/mono*", "/Library/Frameworks/Mono.framework/Versions/*"),
    packages=(),
    noise=("MONO_LOG_LEVEL", "MONO_TRACE_LISTENER"),
    long_term=(6,),
    probe=("--version",),
    read_probe=_read_probe,
    explained=lambda _major, _heap_mib: (),  # Mono has no bound for its heap on the command line
    measuring=lambda _major, _folder: (),
    failures=(),
    how_to_get="Debian and Ubuntu: apt install mono-runtime",
    fetchable={},
)
