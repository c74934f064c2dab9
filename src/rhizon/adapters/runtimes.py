"""The runtimes on this machine, each proved by running it once."""

import importlib.util
import os
import shutil
import subprocess
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.core.runtimes import FAMILIES, Family, RuntimeReport

__all__ = ["FoundRuntime", "find_runtimes", "probe"]

PROBE_SECONDS = 20

How = Literal["PATH", "environment", "usual folder", "Python package"]


class FoundRuntime(msgspec.Struct, frozen=True, kw_only=True):
    """A runtime that answered."""

    family: str
    program: str
    how: How
    report: RuntimeReport


def find_runtimes(family: str) -> list[FoundRuntime]:
    """Every runtime of a family that answers; the system's own before those from Python packages.

    One program that is reached by several ways is named once, by the first way.
    """
    known = FAMILIES.get(family)
    if known is None:
        return []
    seen: dict[Path, tuple[Path, How]] = {}
    for path, how in _places(known):
        if path.is_file() and os.access(path, os.X_OK):
            seen.setdefault(path.resolve(), (path, how))
    with ThreadPoolExecutor(max_workers=4) as pool:
        reports = list(pool.map(lambda real: probe(known, real), seen))
    return [
        FoundRuntime(family=family, program=str(real), how=seen[real][1], report=report)
        for real, report in zip(seen, reports, strict=True)
        if report is not None
    ]


def _places(family: Family) -> Iterator[tuple[Path, How]]:
    name = family.program + (".exe" if os.name == "nt" else "")
    on_path = shutil.which(family.program)
    if on_path:
        yield Path(on_path), "PATH"
    for variable in family.home_variables:
        named = os.environ.get(variable)
        if named:
            yield Path(named) / "bin" / name, "environment"
    for pattern in family.folders:
        base = Path(pattern.partition("*")[0].rpartition("/")[0] or "/")
        for home in sorted(base.glob(str(Path(pattern).relative_to(base)))) if base.is_dir() else ():
            yield home / "bin" / name, "usual folder"
    for package, below in family.packages:
        spec = importlib.util.find_spec(package)
        if spec is not None and spec.origin:
            yield Path(spec.origin).parent / below / "bin" / name, "Python package"


def probe(family: Family, program: Path) -> RuntimeReport | None:
    """What the program says of itself; None when it does not answer as one of the family within 20 s."""
    environment = {k: v for k, v in os.environ.items() if k not in family.noise}
    try:
        done = subprocess.run(
            [program, *family.probe],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            timeout=PROBE_SECONDS,
            env=environment,
        )
    except (OSError, subprocess.SubprocessError):
        return None
    return family.read_probe(done.stdout.decode("utf-8", "replace")) if done.returncode == 0 else None
