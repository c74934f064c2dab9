"""Runs the tests: see :mod:`tests.running`."""

import sys

from tests.running import main

if __name__ == "__main__":
    sys.exit(main())
