"""Runs everything, or the tests named on the command line; warnings fail. Closes with one line of counts.

``--fast`` leaves out the tests that need a server or a Java, and the longest others. ``--times`` prints the slowest.

Test classes run side by side, one process for each processor, and two runs at once do not meet: each process has a
loopback of its own. Where the machine does not allow that, one process does it all, and a second run waits for it.
"""

import ctypes
import fcntl
import io
import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
import warnings
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor, as_completed
from multiprocessing import get_context
from pathlib import Path
from typing import NamedTuple

from tests import FAST

__all__ = ["main"]

CLONE_NEWNET = 0x40000000
SLOWEST = 25
LONG = r"\.cli\.|StartCmd|TheLedger|RealRouter"


class Outcome(NamedTuple):
    """Of one test class: how many tests ran, what failed, what was skipped and why, seconds of each test."""

    name: str
    ran: int
    failed: int
    report: str
    skipped: list[str]
    seconds: dict[str, float]


class Timed(unittest.TextTestResult):
    """Knows how long each test took, in seconds."""

    def __init__(self, *arguments: object, **options: object) -> None:
        super().__init__(*arguments, **options)  # type: ignore[arg-type]
        self.seconds: dict[str, float] = {}

    def startTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        super().startTest(test)
        self.seconds[test.id()] = -time.monotonic()

    def stopTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        self.seconds[test.id()] += time.monotonic()
        super().stopTest(test)


def can_be_apart() -> bool:
    """Whether a process may have a loopback of its own here."""
    if not sys.platform.startswith("linux") or shutil.which("unshare") is None or shutil.which("ip") is None:
        return False
    return subprocess.run(["unshare", "-n", "ip", "link", "set", "lo", "up"], capture_output=True).returncode == 0


def be_apart() -> None:
    """Gives this process and its children a loopback of their own."""
    if ctypes.CDLL(None).unshare(CLONE_NEWNET):
        raise OSError("no network of our own")
    subprocess.run(["ip", "link", "set", "lo", "up"], check=True)


def tests_in(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    for one in suite:
        if isinstance(one, unittest.TestSuite):
            yield from tests_in(one)
        else:
            yield one


def run(name: str, ids: list[str]) -> Outcome:
    """The tests of one class."""
    warnings.simplefilter("error")
    stream = io.StringIO()
    runner = unittest.TextTestRunner(stream, verbosity=0, warnings="error", resultclass=Timed)
    result = runner.run(unittest.defaultTestLoader.loadTestsFromNames(ids))
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = [f"{test}: {reason}" for test, reason in result.skipped]
    return Outcome(name, result.testsRun, failed, stream.getvalue() if failed else "", skipped, result.seconds)


def outcomes(classes: dict[str, list[str]]) -> Iterator[Outcome]:
    """Of every class, as they end."""
    if not can_be_apart():
        with (Path(tempfile.gettempdir()) / "rhizon-tests.lock").open("w") as lock:
            fcntl.flock(lock, fcntl.LOCK_EX)
            for name, ids in classes.items():
                yield run(name, ids)
        return
    with ProcessPoolExecutor(os.cpu_count(), get_context("spawn"), be_apart) as pool:
        for done in as_completed([pool.submit(run, name, ids) for name, ids in classes.items()]):
            yield done.result()


def main() -> int:
    options = {word for word in sys.argv[1:] if word.startswith("--")}
    names = [word for word in sys.argv[1:] if word not in options]
    if unknown := options - {"--fast", "--times"}:
        sys.exit(f"unknown option: {', '.join(sorted(unknown))}")
    if "--fast" in options:
        os.environ[FAST] = "1"
    loader = unittest.defaultTestLoader
    suite = loader.loadTestsFromNames(names) if names else loader.discover("tests", top_level_dir=".")
    classes: dict[str, list[str]] = {}
    for test in tests_in(suite):
        classes.setdefault(test.id().rpartition(".")[0], []).append(test.id())
    ran = failed = 0
    skipped: list[str] = []
    seconds: dict[str, float] = {}
    # what takes long begins first: real programs, then all else, so that no processor waits at the end for another
    for one in outcomes(dict(sorted(classes.items(), key=lambda item: not re.search(LONG, item[0])))):
        ran += one.ran
        failed += one.failed
        skipped += one.skipped
        seconds |= one.seconds
        print(f"{'FAILED' if one.failed else 'ok':6} {sum(one.seconds.values()):6.1f} s  {one.name}", flush=True)
        print(one.report, end="", flush=True)
    for line in skipped:
        print(f"skipped: {line}")
    if "--times" in options:
        for test_id, took in sorted(seconds.items(), key=lambda item: -item[1])[:SLOWEST]:
            print(f"{took:7.1f} s  {test_id}")
    print(f"{ran - failed - len(skipped)} passed, {failed} failed, {len(skipped)} skipped")
    return 0 if ran and not failed else 1
