"""What Linux control groups allow this process: memory and processors, version 1 and 2 (cgroups(7), proc(5)).

A limit on any group above the process's own binds too. Inside a container only the groups below its own root are seen.
"""

import re
from collections.abc import Callable, Iterator
from pathlib import Path, PurePosixPath

__all__ = ["memory_limit", "processor_limit"]

PROC = Path("/proc/self")


def memory_limit(proc: Path = PROC) -> int | None:
    """The lowest limit of memory in bytes; None where there is none (or no control groups)."""
    files = (("memory", "memory.limit_in_bytes"), ("", "memory.max"))
    limits = [int(text) for text in _texts(proc, files) if text.isdecimal()]
    return min(limits, default=None)


def processor_limit(proc: Path = PROC) -> float | None:
    """The lowest quota of processor time, in processors; None where there is none."""
    quotas = []
    for text in _texts(proc, (("", "cpu.max"),)):
        quotas.append(_quota(*text.partition(" ")[::2]))
    for group in _groups(proc, "cpu"):
        quotas.append(_quota(_read(group / "cpu.cfs_quota_us"), _read(group / "cpu.cfs_period_us")))
    return min((one for one in quotas if one is not None), default=None)


def _quota(quota: str, period: str) -> float | None:
    if not quota.isdecimal() or not period.isdecimal() or int(period) == 0:
        return None  # "max", or -1
    return int(quota) / int(period)


def _texts(proc: Path, files: tuple[tuple[str, str], ...]) -> Iterator[str]:
    for controller, name in files:
        for group in _groups(proc, controller):
            yield _read(group / name)


def _groups(proc: Path, controller: str) -> Iterator[Path]:
    """The folders of the process's group and of those above it; ``controller`` is "" for version 2."""
    own = _own_group(_read(proc / "cgroup"), controller)
    if own is None:
        return
    is_one = _has_controller(controller)
    for line in _read(proc / "mountinfo").splitlines():
        fields, _, rest = line.partition(" - ")
        words, kinds = fields.split(" "), rest.split(" ")
        if len(words) < 5 or len(kinds) < 3 or not is_one(kinds):
            continue
        root, mount = PurePosixPath(_plain(words[3])), Path(_plain(words[4]))
        below = own.relative_to(root) if own.is_relative_to(root) else PurePosixPath()
        folder = mount if ".." in below.parts else mount / below
        while folder.is_relative_to(mount):
            yield folder
            if folder == mount:
                break
            folder = folder.parent


def _has_controller(controller: str) -> Callable[[list[str]], bool]:
    if not controller:
        return lambda kinds: kinds[0] == "cgroup2"
    return lambda kinds: kinds[0] == "cgroup" and controller in kinds[2].split(",")


def _own_group(text: str, controller: str) -> PurePosixPath | None:
    """Of ``ID:CONTROLLERS:PATH`` lines the path of one controller's."""
    for line in text.splitlines():
        _, _, rest = line.partition(":")
        names, _, path = rest.partition(":")
        if controller in names.split(",") and path.startswith("/"):
            return PurePosixPath(path)
    return None


def _plain(text: str) -> str:
    """mountinfo writes blanks and backslashes as octal numbers."""
    return re.sub(r"\\([0-7]{3})", lambda match: chr(int(match[1], 8)), text)


def _read(file: Path) -> str:
    try:
        return file.read_text("utf-8", "surrogateescape").strip()
    except OSError:
        return ""
