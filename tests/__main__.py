"""Runs everything, or the tests named on the command line; warnings fail. Closes with one line of counts.

``--fast`` leaves out the tests that need a server, a benchmark or a Java. ``--times`` prints the slowest tests.
Two runs at once do not meet: each has a loopback of its own where the machine allows it, else one waits for the other.
"""

import ctypes
import fcntl
import os
import subprocess
import sys
import tempfile
import time
import unittest
import warnings
from pathlib import Path

from tests import FAST

CLONE_NEWNET = 0x40000000
SLOWEST = 25


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


def apart() -> bool:
    """Gives this process and its children a loopback of their own; false where the machine does not allow it."""
    if not sys.platform.startswith("linux") or ctypes.CDLL(None).unshare(CLONE_NEWNET):
        return False
    subprocess.run(["ip", "link", "set", "lo", "up"], check=True)
    return True


def main() -> int:
    options = {word for word in sys.argv[1:] if word.startswith("--")}
    names = [word for word in sys.argv[1:] if word not in options]
    if unknown := options - {"--fast", "--times"}:
        sys.exit(f"unknown option: {', '.join(sorted(unknown))}")
    if "--fast" in options:
        os.environ[FAST] = "1"
    if not apart():
        lock = (Path(tempfile.gettempdir()) / "rhizon-tests.lock").open("w")  # held until the process ends
        fcntl.flock(lock, fcntl.LOCK_EX)
    loader = unittest.defaultTestLoader
    suite = loader.loadTestsFromNames(names) if names else loader.discover("tests", top_level_dir=".")
    warnings.simplefilter("error")
    runner = unittest.TextTestRunner(verbosity=1, warnings="error", resultclass=Timed)
    result = runner.run(suite)
    for test, reason in result.skipped:
        print(f"skipped: {test}: {reason}")
    if "--times" in options:
        for test_id, seconds in sorted(result.seconds.items(), key=lambda one: -one[1])[:SLOWEST]:
            print(f"{seconds:7.1f} s  {test_id}")
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    passed = result.testsRun - failed - len(result.skipped)
    print(f"{passed} passed, {failed} failed, {len(result.skipped)} skipped")
    return 0 if result.wasSuccessful() and result.testsRun else 1


if __name__ == "__main__":
    sys.exit(main())
