"""The tests mirror src/rhizon; run them with ./run-tests."""

import os

from hypothesis import HealthCheck, settings

os.environ.pop("COLUMNS", None)  # of the terminal that they are run in

FAST = "RHIZON_TESTS_FAST"  # in the environment: tests that need a server or a Java, or take long, are left out


def examples(count: int) -> int:
    """How many examples a property is tried on."""
    return count // 5 if FAST in os.environ else count


# Machines differ in speed, and a slow one is no failure.
settings.register_profile(
    "any-machine", deadline=None, suppress_health_check=[HealthCheck.too_slow], max_examples=examples(100)
)
settings.load_profile("any-machine")
