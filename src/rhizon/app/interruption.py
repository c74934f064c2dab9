"""Signals as the command line handles them; the rules are those of :mod:`rhizon.adapters.interrupts`."""

from rhizon.adapters.interrupts import asked, committed, ignore, install

__all__ = ["asked", "committed", "ignore", "install"]
