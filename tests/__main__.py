"""Runs everything, or the tests named on the command line; warnings fail. Closes with one line of counts."""

import sys
import unittest
import warnings


def main() -> int:
    names = sys.argv[1:]
    loader = unittest.defaultTestLoader
    suite = loader.loadTestsFromNames(names) if names else loader.discover("tests", top_level_dir=".")
    warnings.simplefilter("error")
    result = unittest.TextTestRunner(verbosity=1, warnings="error").run(suite)
    for test, reason in result.skipped:
        print(f"skipped: {test}: {reason}")
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    passed = result.testsRun - failed - len(result.skipped)
    print(f"{passed} passed, {failed} failed, {len(result.skipped)} skipped")
    return 0 if result.wasSuccessful() and result.testsRun else 1


if __name__ == "__main__":
    sys.exit(main())
