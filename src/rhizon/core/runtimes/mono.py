"""Mono: runs .NET Framework programs where Microsoft's own runtime does not."""

import re

from rhizon.core.names import printable
from rhizon.core.runtimes.family import FailureSign, Family, RuntimeReport

__all__ = ["FAMILY"]

_VERSION = re.compile(r"^Mono JIT compiler version (?P<version>(?P<major>\d+)[.\d]*)", re.MULTILINE)


def _read_probe(text: str) -> RuntimeReport | None:
    match = _VERSION.search(text)
    if match is None:
        return None
    return RuntimeReport(major=int(match["major"]), version=printable(match["version"], 60), vendor="Mono")


def _variables(_major: int, heap_mib: int) -> tuple[tuple[str, str, str], ...]:
    """From mono(1), MONO_GC_PARAMS. It asks for a power of two; 6.8 takes any size of at least four nurseries."""
    why = "largest heap, all generations; beyond it, allocations fail with OutOfMemoryException"
    return (("MONO_GC_PARAMS", f"max-heap-size={heap_mib}m", why),)


def _sign(code: str, pattern: str, what: str, hint: str) -> FailureSign:
    return FailureSign(code, re.compile(pattern), what, hint)


FAMILY = Family(
    title="Mono",
    program="mono",
    home_variables=("MONO_HOME",),
    folders=("/usr", "/opt/mono*", "/Library/Frameworks/Mono.framework/Versions/*"),
    packages=(),
    noise=("MONO_LOG_LEVEL", "MONO_TRACE_LISTENER", "MONO_GC_PARAMS"),
    long_term=(6,),
    probe=("--version",),
    read_probe=_read_probe,
    explained=lambda _major, _heap_mib: (),
    measuring=lambda _major, _folder: (),
    variables=_variables,
    failures=(
        _sign(
            "out-of-memory",
            r"System\.OutOfMemoryException",
            "memory ran out",
            "See what it needs: rhizon memory {server}",
        ),
        _sign(
            "archive-missing",
            r"Cannot open assembly '(?P<file>[^']+)': No such file",
            "a file of the server is missing: {file}",
            "See what is wrong: rhizon check {server}",
        ),
        _sign(
            "archive-damaged",
            r"Cannot open assembly '(?P<file>[^']+)': File does not contain a valid CIL image",
            "a file of the server is damaged: {file}",
            "See what is wrong: rhizon check {server}",
        ),
        _sign(
            "class-missing",
            r"Could not load file or assembly '(?P<class>[^,']+)",
            "{culprit} needs the assembly {class}, which is missing",
            "Add what {culprit} needs, or remove {culprit} from the list.",
        ),
    ),
    how_to_get="Debian and Ubuntu: apt install mono-runtime",
    fetchable={},
)
