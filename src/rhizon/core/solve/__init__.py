"""From wishes to one target and one release for each content item.

``universe.py`` says which releases are admissible on a target and why not, ``space.py`` makes variables and clauses of
them, ``engine.py`` propagates and learns, ``search.py`` decides in the order of preference, ``optimise.py`` keeps as
many soft wishes as possible, ``refusal.py`` and ``repairs.py`` explain why nothing fits. It asks a ``Shelf`` for items
and knows nothing of catalogs, archives or files.

Begin with :mod:`rhizon.core.solve.solver`; docs/solving.md has the rules.
"""

from rhizon.core.solve.explain import explain
from rhizon.core.solve.problem import Request, Shelf, from_list, from_pack
from rhizon.core.solve.solution import Solution
from rhizon.core.solve.solver import solve

__all__ = ["Request", "Shelf", "Solution", "explain", "from_list", "from_pack", "solve"]
