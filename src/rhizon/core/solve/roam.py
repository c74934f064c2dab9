"""Any solution under what is decided so far, found where the conflicts are.

The order of preference is a bad order to search in: what it decides first may have nothing to do with what clashes.
So variables are taken by how often they were part of recent conflicts (Moskewicz et al., Chaff, DAC 2001), values as
they were last (Pipatsrisawat and Darwiche, "A Lightweight Component Caching Scheme for Satisfiability Solvers", SAT
2007), and the search starts over at growing intervals (Luby, Sinclair and Zuckerman, 1993) with all it has learned.
"""

from rhizon.core.solve.engine import Engine
from rhizon.core.solve.project import ABSENT

__all__ = ["Roam"]

RESTART = 40  # conflicts; times the next number of the series


class Roam:
    """Free decisions above ordered ones; ``witness`` is the last whole solution, a value for each variable."""

    def __init__(self, engine: Engine) -> None:
        self.witness: list[int] = []
        self._engine = engine
        self._values: dict[int, int] = {}
        self._order: list[int] = []  # variables, most conflicts first
        self._at = 0
        self._sorted = -1
        self._turn = 1
        self._until = engine.conflicts + RESTART

    def decide(self) -> bool:
        """One more decision; False when everything holds with what is left absent, which is the new witness.
        Nothing may be waiting to be propagated."""
        engine = self._engine
        domain = engine.domain
        var = self._busiest()
        if var is not None:
            left = domain[var]
        else:
            open_clause = engine.unmet(ABSENT)
            if open_clause is None:
                self.witness = [left & ABSENT or left for left in domain]
                return False
            var, left = open_clause
        before = self._values.get(var, 0)
        value = before if before & left else 1 << (left.bit_length() - 1)
        self._values[var] = value
        engine.decide(var, value)
        return True

    def _busiest(self) -> int | None:
        """Of the variables that cannot be absent and have a choice left the one of most conflicts, nearly: those that
        came to have no other way out since the last conflict are looked at last."""
        domain = self._engine.domain
        if self._sorted != self._engine.conflicts:
            self._sorted = self._engine.conflicts
            self._order = sorted(range(len(domain)), key=self._engine.activity.__getitem__, reverse=True)
            self._at = 0
        for begin in (self._at, 0):
            for at in range(begin, len(self._order)):
                left = domain[self._order[at]]
                if not left & ABSENT and left & (left - 1):
                    self._at = at
                    return self._order[at]
        return None

    def restart_due(self) -> bool:
        """Whether it is time to start over; then the next interval begins."""
        if self._engine.conflicts < self._until:
            return False
        self._turn += 1
        self._until = self._engine.conflicts + RESTART * _luby(self._turn)
        return True


def _luby(turn: int) -> int:
    """The series 1 1 2 1 1 2 4 ...; ``turn`` counts from 1."""
    power = turn.bit_length()
    return 1 << (power - 1) if turn == (1 << power) - 1 else _luby(turn - (1 << (power - 1)) + 1)
