"""Processes by the folder that they work in: how a server is found that was started without Rhizon."""

import os
from pathlib import Path
from typing import NamedTuple

__all__ = ["Working", "processes_by_folder"]


class Working(NamedTuple):
    """A process: its program and its arguments, as far as the system lets us see. The program is "" where it does
    not."""

    pid: int
    program: str
    arguments: tuple[str, ...]


def processes_by_folder() -> dict[str, list[Working]]:
    """Every process that can be seen, by its working folder (links resolved). Threads and our own are left out."""
    return _from_proc() if Path("/proc/self/cwd").exists() else _from_psutil()


def _from_proc() -> dict[str, list[Working]]:
    """As proc(5) shows them; a tenth of the time that psutil takes, and ``rhizon list`` asks each time."""
    found: dict[str, list[Working]] = {}
    own = os.getpid()
    for name in os.listdir("/proc"):  # noqa: PTH208
        if not name.isdecimal() or int(name) == own:
            continue
        try:
            folder = os.readlink(f"/proc/{name}/cwd")  # noqa: PTH115
            with open(f"/proc/{name}/cmdline", "rb") as file:  # noqa: PTH123
                words = file.read(1 << 16)
        except OSError:
            continue  # it is gone, or somebody else's
        try:
            program = os.readlink(f"/proc/{name}/exe")  # noqa: PTH115
        except OSError:
            program = ""
        arguments = tuple(word.decode("utf-8", "replace") for word in words.split(b"\0") if word)
        if arguments:  # the rest are threads of the kernel and processes that are ending
            found.setdefault(folder, []).append(Working(int(name), program, arguments))
    return found


def _from_psutil() -> dict[str, list[Working]]:
    import psutil

    found: dict[str, list[Working]] = {}
    for one in psutil.process_iter(["pid", "cwd", "exe", "cmdline"]):
        facts = one.info
        if facts["cwd"] and facts["cmdline"] and facts["pid"] != os.getpid():
            working = Working(facts["pid"], facts["exe"] or "", tuple(facts["cmdline"]))
            found.setdefault(os.path.realpath(facts["cwd"]), []).append(working)
    return found
