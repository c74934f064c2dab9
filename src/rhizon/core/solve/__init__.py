"""From wishes to one target and one release for each content item."""

from rhizon.core.solve.explain import explain
from rhizon.core.solve.problem import Request, Shelf, from_list, from_pack
from rhizon.core.solve.solution import Solution
from rhizon.core.solve.solver import solve

__all__ = ["Request", "Shelf", "Solution", "explain", "from_list", "from_pack", "solve"]
