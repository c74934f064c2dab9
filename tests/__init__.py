"""The tests mirror src/rhizon; run them with ./run-tests."""

from hypothesis import HealthCheck, settings

# Machines differ in speed, and a slow one is no failure.
settings.register_profile("any-machine", deadline=None, suppress_health_check=[HealthCheck.too_slow])
settings.load_profile("any-machine")

FAST = "RHIZON_TESTS_FAST"  # in the environment: tests that need a server or a Java are left out
