"""Placing servers on machines: the problem as arrays, a good start, bounds, integer programming, the plan, and what
clashes where there is none. Needs numpy; ``program`` alone needs HiGHS (both: the extra "machines")."""
