"""Shared libraries that the server's native programs need and this machine does not have."""

import contextlib
import functools
import mmap
import os
import re
import shutil
import subprocess
from collections.abc import Mapping
from pathlib import Path

from rhizon.app.instance.state import InstanceState
from rhizon.core.check.native_libraries import NeededLibraries, needed_libraries

__all__ = ["missing_libraries"]

LARGEST = 256 << 20
MOST_FILES = 200
USUAL = ("/lib", "/usr/lib", "/lib64", "/usr/lib64", "/usr/local/lib")
_CACHED = re.compile(r"^\s+(?P<name>\S+) \(", re.MULTILINE)


def missing_libraries(state: InstanceState, environment: Mapping[str, str]) -> dict[str, tuple[str, ...]]:
    """By the path of a program, or of a library beside it, what it lacks. Nothing where this machine does not say what
    it has."""
    known = _known()
    game, loader = state.game, state.game.loaders[state.lock.target.loader]
    if not known:
        return {}
    named = [*game.server_files, *loader.files, *(words[0] for words in (game.command, loader.command))]
    waiting = [
        Path(one.removeprefix("./")) for one in dict.fromkeys(named) if "{" not in one and not one.startswith("/")
    ]
    looked = environment.get("LD_LIBRARY_PATH") or os.environ.get("LD_LIBRARY_PATH", "")
    found: dict[str, tuple[str, ...]] = {}
    seen: set[Path] = set()
    while waiting and len(seen) < MOST_FILES:
        path = waiting.pop()
        needs = _needs(state.home.folder / path) if path not in seen else None
        seen.add(path)
        if needs is None:
            continue
        folders = [state.home.folder / one for one in looked.split(":") if one]
        here = (state.home.folder / path).parent
        folders += [Path(one.replace("$ORIGIN", str(here)).replace("${ORIGIN}", str(here))) for one in needs.folders]
        lacking = []
        for name in needs.names:
            own = next((one / name for one in folders if (one / name).is_file()), None)
            if own is not None:
                with contextlib.suppress(ValueError):
                    waiting.append(own.resolve().relative_to(state.home.folder.resolve()))
            elif name not in known and not any(Path(one, name).exists() for one in USUAL):
                lacking.append(name)
        if lacking:
            found[path.as_posix()] = tuple(lacking)
    return found


def _needs(file: Path) -> NeededLibraries | None:
    """What a file needs; None for one that is no native program."""
    try:
        with file.open("rb") as opened:
            if opened.read(4) != b"\x7fELF" or file.stat().st_size > LARGEST:
                return None
            with mmap.mmap(opened.fileno(), 0, access=mmap.ACCESS_READ) as data:
                return needed_libraries(data)
    except (OSError, ValueError):
        return None


@functools.cache
def _known() -> frozenset[str]:
    """The libraries that the system's loader finds by itself (ldconfig(8)); empty where it does not say."""
    program = shutil.which("ldconfig") or shutil.which("ldconfig", path="/sbin:/usr/sbin")
    if program is None:
        return frozenset()
    try:
        done = subprocess.run([program, "-p"], capture_output=True, text=True, timeout=10)
    except (OSError, subprocess.SubprocessError):
        return frozenset()
    return frozenset(one["name"] for one in _CACHED.finditer(done.stdout))
