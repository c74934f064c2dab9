"""Conflict-driven search over variables whose domains are bit masks.

A literal is a pair (variable, mask): "the value is one of these". A clause is a table of literals, at least
one of which must hold. Deciding narrows a domain; propagation narrows others through clauses that have one
literal left (watched literals: Moskewicz et al., Chaff, DAC 2001). A conflict is resolved backwards to its
first unique implication point and learned (Marques-Silva and Sakallah, GRASP, 1996); resolving two clauses on a
many-valued variable intersects their masks (signed resolution: Beckert, Haehnle and Manya, 2000). Every clause
remembers what it was made from, so that a refusal can name the facts behind it. What the releases of one item say of
one other item is kept together as a tie: a table of pairs that narrows both sides to values that still have a partner
(arc consistency; Mackworth, "Consistency in Networks of Relations", 1977), and that gives a clause as its reason only
when a conflict asks for one (lazy explanation; Gent, Miguel and Moore, "Lazy Explanations for Constraint Propagators",
2010).

The engine knows nothing of releases: facts are opaque tags.
"""

from bisect import bisect_right
from collections.abc import Hashable, Iterable, Mapping, Sequence
from typing import NamedTuple

__all__ = ["Engine", "RefusedError"]

Clause = dict[int, int]
Fact = Hashable


class _Tie(NamedTuple):
    """Rows (left values, right values, fact): while left is one of these, right is one of those. ``pairs`` says the
    same with every left value in one pair only; ``known`` are answers: what two domains leave of each other,
    None when that is all."""

    left: int
    right: int
    rows: Sequence[tuple[int, int, Fact]]
    pairs: Sequence[tuple[int, int]]
    known: dict[tuple[int, int], tuple[int, int] | None]


class RefusedError(Exception):
    """No value is left; ``facts`` are enough to see why, ``assumed`` are the assumptions among the reasons."""

    def __init__(self, facts: frozenset[Fact], assumed: frozenset[Fact]) -> None:
        super().__init__("no solution")
        self.facts = facts
        self.assumed = assumed


class Engine:
    """Domains, clauses and the trail.

    Invariants: ``domain[v]`` is the initial domain narrowed by the trail's events on ``v`` in order; an event's
    reason is a clause all of whose other literals were false before the event; ``conflicts`` only grows.
    """

    def __init__(self) -> None:
        self.domain: list[int] = []
        self.conflicts = 0
        self.activity: list[float] = []  # of variables: how much they were part of recent conflicts
        self._bump = 1.0
        self._full: list[int] = []
        self._base: list[list[tuple[int, Fact]]] = []
        self._clauses: list[Clause] = []
        self._made_of: list[tuple[frozenset[Fact], tuple[int, ...]]] = []
        self._pairs: list[list[int]] = []
        self._watch: list[list[int]] = []
        self._history: list[list[int]] = []
        self._dropped: set[int] = set()
        self._added: list[int] = []
        self._learned: list[int] = []
        self._ties: list[_Tie] = []
        self._ties_of: list[list[int]] = []
        self._trail: list[tuple[int, int, int]] = []  # variable, domain before, reason (-1: decided, -2 - n: tie n)
        self._levels: list[int] = []  # trail length at the begin of each decision level
        self._tags: list[Fact | None] = []  # of each level: the assumption that was decided there
        self._head = 0

    @property
    def level(self) -> int:
        """How many decisions stand."""
        return len(self._levels)

    def variable(self, full: int, limits: Iterable[tuple[int, Fact]] = ()) -> int:
        """A new variable with all values ``full``, narrowed from the outset by limits, each a mask and its fact."""
        self.domain.append(full)
        self._full.append(full)
        self._base.append([])
        self.activity.append(0.0)
        self._limit(len(self.domain) - 1, limits)
        self._watch.append([])
        self._ties_of.append([])
        self._history.append([])
        return len(self.domain) - 1

    def _limit(self, var: int, limits: Iterable[tuple[int, Fact]]) -> None:
        full = self._full[var]
        self._base[var] = [(mask, fact) for mask, fact in limits if full & ~mask]
        for mask, _ in self._base[var]:
            full &= mask
        self.domain[var] = full

    def restart(self, limits: Mapping[int, Iterable[tuple[int, Fact]]]) -> None:
        """Other limits for some variables: everything that was narrowed or learned is forgotten, clauses and ties stay.

        Raises :class:`RefusedError` when nothing is left from the outset.
        """
        self._undo(0)
        self._levels.clear()
        self._tags.clear()
        for number in self._learned:
            self.drop(number)
        self._learned.clear()
        for var, found in limits.items():
            self._limit(var, found)
        false = self.settle()
        if false is not None:
            self.learn(false)

    def settle(self) -> int | None:
        """Narrows what any clause or tie narrows now; the number of a clause that is false, if one is."""
        for number in range(len(self._clauses)):
            if number not in self._dropped:
                false = self.assert_clause(number)
                if false is not None:
                    return false
        for number in range(len(self._ties)):
            false = self._revise(number)
            if false is not None:
                return false
        return None

    def add(self, literals: Clause, fact: Fact) -> int:
        """Adds a clause that ``fact`` stands for; answers its number. It may be unit or false right now: see
        :meth:`assert_clause`."""
        number = self._attach(literals, frozenset((fact,)), ())
        self._added.append(number)
        return number

    def drop(self, number: int) -> None:
        """Forgets an added clause. To be called with no decision standing, before anything was learned from it."""
        self._dropped.add(number)
        for var in self._pairs[number]:
            self._watch[var].remove(number)

    def tie(self, left: int, right: int, rows: Sequence[tuple[int, int, Fact]]) -> None:
        """Adds what values of one variable say of another, each row a mask of ``left``, what it allows of ``right``
        and its fact. It narrows nothing yet: see :meth:`settle`."""
        free = self._full[left]
        pairs: list[tuple[int, int]] = []
        for mask, allowed, _ in rows:
            if mask & ~free:  # some values have said something already
                both = ((own & mask, other & allowed) for own, other in pairs)
                alone = ((own & ~mask, other) for own, other in pairs)
                pairs = [one for one in (*both, *alone) if one[0]]
            if mask & free:
                pairs.append((mask & free, allowed))
                free &= ~mask
        pairs.append((free, self._full[right]))
        number = len(self._ties)
        self._ties.append(_Tie(left, right, rows, pairs, {}))
        self._ties_of[left].append(number)
        self._ties_of[right].append(number)

    def _revise(self, number: int) -> int | None:
        """Takes from both sides of a tie what has no partner left; a false clause when that is everything."""
        left, right, _, pairs, known = self._ties[number]
        own, other = self.domain[left], self.domain[right]
        answer = known.get((own, other), ())
        if answer is None:
            return None
        if answer:
            keep_own, keep_other = answer
        else:
            keep_own = keep_other = 0
            for mask, allowed in pairs:
                if mask & own and allowed & other:
                    keep_own |= mask
                    keep_other |= allowed
            keep_own &= own
            keep_other &= other
            known[own, other] = None if (keep_own, keep_other) == (own, other) else (keep_own, keep_other)
        if keep_own != own:
            if not keep_own:
                clause, facts = self._why_tied(number, right, other)
                return self._attach(clause, facts, ())
            self._narrow(left, keep_own, -2 - number)
        if keep_other != other:
            self._narrow(right, keep_other, -2 - number)
        return None

    def _why_tied(self, number: int, var: int, lost: int) -> tuple[Clause, frozenset[Fact]]:
        """The weakest clause by which a tie takes these values from one of its sides, and the facts it rests on."""
        tie = self._ties[number]
        if var == tie.left:
            partners = 0
            for mask, allowed in tie.pairs:
                if mask & lost:
                    partners |= allowed
            facts = frozenset(fact for mask, allowed, fact in tie.rows if mask & lost)
            return {var: self._full[var] & ~lost, tie.right: partners}, facts
        partners = 0
        for mask, allowed in tie.pairs:
            if allowed & lost:
                partners |= mask
        facts = frozenset(fact for mask, allowed, fact in tie.rows if mask & ~partners and lost & ~allowed)
        return {tie.left: partners, var: self._full[var] & ~lost}, facts

    def _why(self, at: int, wanted: int) -> tuple[Clause, frozenset[Fact], tuple[int, ...]]:
        """Why the event took away what it took of ``wanted``: a clause, and what it was made of."""
        var, _, reason = self._trail[at]
        if reason >= 0:
            return self._clauses[reason], frozenset(), (reason,)
        clause, facts = self._why_tied(-2 - reason, var, wanted & self._taken(at, var))
        return clause, facts, ()

    def _attach(self, clause: Clause, facts: frozenset[Fact], made_of: tuple[int, ...]) -> int:
        number = len(self._clauses)
        self._clauses.append(clause)
        self._made_of.append((facts, made_of))
        order = list(clause)
        if len(order) > 2:  # those that are not false, then those that became false last, are the ones to watch
            order.sort(key=lambda v: (self.domain[v] & clause[v] == 0, -self._since(v, clause[v])))
        self._pairs.append(order[:2])
        for var in order[:2]:
            self._watch[var].append(number)
        return number

    def _since(self, var: int, mask: int) -> int:
        """Where on the trail the literal became false; -1: from the outset or not at all."""
        if self.domain[var] & mask:
            return -1
        for at in reversed(self._history[var]):
            if self._trail[at][1] & mask:
                return at
        return -1

    def decide(self, var: int, mask: int, tag: Fact | None = None) -> None:
        """A new level on which the variable is one of ``mask``; some value must be left."""
        self._levels.append(len(self._trail))
        self._tags.append(tag)
        self._narrow(var, self.domain[var] & mask, -1)

    def _narrow(self, var: int, to: int, reason: int) -> None:
        self._history[var].append(len(self._trail))
        self._trail.append((var, self.domain[var], reason))
        self.domain[var] = to

    def assert_clause(self, number: int) -> int | None:
        """Narrows what a clause that is unit now narrows; the clause's number when it is false."""
        open_var = -1
        clause = self._clauses[number]
        for var, mask in clause.items():
            if self.domain[var] & mask:
                if open_var >= 0:
                    return None
                open_var = var
        if open_var < 0:
            return number
        to = self.domain[open_var] & clause[open_var]
        if to != self.domain[open_var]:
            self._narrow(open_var, to, number)
        return None

    def propagate(self) -> int | None:
        """Narrows domains until nothing follows any more; the number of a clause that became false, if one did."""
        domain, clauses, pairs, watch, trail = self.domain, self._clauses, self._pairs, self._watch, self._trail
        ties = self._ties
        while self._head < len(trail):
            var, _, reason = trail[self._head]
            self._head += 1
            watching = watch[var]
            kept: list[int] = []
            for at, number in enumerate(watching):
                clause = clauses[number]
                if domain[var] & clause[var]:
                    kept.append(number)
                    continue
                pair = pairs[number]
                if len(pair) == 1:
                    watch[var] = watching
                    return number
                other = pair[0] if pair[1] == var else pair[1]
                wanted = clause[other]
                to = domain[other] & wanted
                if to == domain[other]:
                    kept.append(number)  # it holds already
                    continue
                if len(clause) > 2:
                    spare = next((v for v, m in clause.items() if v != var and v != other and domain[v] & m), -1)
                    if spare >= 0:
                        pairs[number] = [other, spare]
                        watch[spare].append(number)
                        continue
                kept.append(number)
                if not to:
                    watch[var] = kept + watching[at + 1 :]
                    return number
                self._narrow(other, to, number)
            watch[var] = kept
            for number in self._ties_of[var]:
                left, right, _, _, known = ties[number]
                # settled: seen before to take nothing away, or the tie that has just narrowed this itself
                if -2 - number == reason or known.get((domain[left], domain[right]), reason) is None:
                    continue
                false = self._revise(number)
                if false is not None:
                    return false
        return None

    def variables(self, number: int) -> list[int]:
        """The variables of a clause."""
        return list(self._clauses[number])

    def unmet(self, default: int) -> tuple[int, int] | None:
        """A variable and values of it, one of which some clause asks for when every variable that can have the default
        has it; None when all clauses hold so. Every variable that cannot has one value left."""
        for number in self._added:
            clause = self._clauses[number]
            if number not in self._dropped and not any(
                mask & (self.domain[var] & default or self.domain[var]) for var, mask in clause.items()
            ):
                return next((var, mask & self.domain[var]) for var, mask in clause.items() if mask & self.domain[var])
        return None

    def learn(self, number: int) -> None:
        """Takes back as far as the false clause asks, learns from it and narrows what follows there.

        Raises :class:`RefusedError` when nothing is left.
        """
        self.conflicts += 1
        self._bump *= 1.05
        if self._bump > 1e100:
            self.activity = [one / self._bump for one in self.activity]
            self._bump = 1.0
        clause, facts, made_of = self._analyse(number)
        if not clause:
            raise RefusedError(*self._facts(facts, made_of))
        since = sorted(self._since(var, mask) for var, mask in clause.items())
        back = bisect_right(self._levels, since[-2]) if len(since) > 1 else 0
        learned = self._attach(clause, facts, made_of)
        self._learned.append(learned)
        self.backjump(back)
        false = self.assert_clause(learned)
        assert false is None
        # the asserting literal and the latest other one are watched: those are the first to be free again

    def _analyse(self, number: int) -> tuple[Clause, frozenset[Fact], tuple[int, ...]]:
        """The first unique implication point; an empty clause when the conflict rests on no decision."""
        clause: Clause = {}
        facts: set[Fact] = set()
        made_of = [number]
        since: dict[int, int] = {}

        def take(var: int, mask: int) -> None:
            """Makes a literal true and puts it on the trail; False where it is false already."""
            mask |= clause.get(var, 0)
            at = self._since(var, mask)
            if at < 0:
                clause.pop(var, None)
                since.pop(var, None)
                facts.update(self._why_never(var, mask))
            else:
                if var not in clause:
                    self.activity[var] += self._bump
                clause[var] = mask
                since[var] = at

        for var, mask in self._clauses[number].items():
            take(var, mask)
        while since:
            latest = max(since, key=since.__getitem__)
            at = since[latest]
            level = bisect_right(self._levels, at)
            begin = self._levels[level - 1] if level else 0
            if level and sum(one >= begin for one in since.values()) == 1:
                return clause, frozenset(facts), tuple(made_of)
            assert self._trail[at][2] != -1, "a decision is the only event of its level before it propagates"
            why, said, parts = self._why(at, clause[latest])
            facts |= said
            made_of += parts
            mask = clause.pop(latest) & why[latest]
            del since[latest]
            for var, other in why.items():
                if var != latest:
                    take(var, other)
            if mask:
                take(latest, mask)
        return {}, frozenset(facts), tuple(made_of)

    def _why_never(self, var: int, mask: int) -> list[Fact]:
        """Limits that together take every value of ``mask`` from the variable's first domain."""
        left = self._full[var] & mask
        facts = []
        for allowed, fact in self._base[var]:
            if left & ~allowed:
                facts.append(fact)
                left &= allowed
        return facts

    def refuse(self, var: int, mask: int) -> RefusedError:
        """Why no value of ``mask`` is left for the variable, down to facts and assumptions."""
        clause = {var: mask}
        facts: set[Fact] = set()
        assumed: set[Fact] = set()
        made_of: list[int] = []
        while clause:
            latest = max(clause, key=lambda v: self._since(v, clause[v]))
            at = self._since(latest, clause[latest])
            wanted = clause.pop(latest)
            if at < 0:
                facts.update(self._why_never(latest, wanted))
                continue
            if self._trail[at][2] == -1:
                tag = self._tags[bisect_right(self._levels, at) - 1]
                if tag is not None:
                    assumed.add(tag)
                rest = wanted & ~self._taken(at, latest)
                if rest:
                    clause[latest] = rest
                continue
            why, said, parts = self._why(at, wanted)
            facts |= said
            made_of += parts
            for other, other_mask in why.items():
                if other != latest:
                    clause[other] = clause.get(other, 0) | other_mask
            if wanted & why[latest]:
                clause[latest] = wanted & why[latest]
        found, _ = self._facts(frozenset(facts), tuple(made_of))
        return RefusedError(found, frozenset(assumed))

    def _taken(self, at: int, var: int) -> int:
        """The values that an event took from its variable."""
        before = self._trail[at][1]
        later = next((self._trail[i][1] for i in self._history[var] if i > at), self.domain[var])
        return before & ~later

    def _facts(self, facts: frozenset[Fact], made_of: tuple[int, ...]) -> tuple[frozenset[Fact], frozenset[Fact]]:
        """Every fact behind a derivation; such a refusal rests on no assumption."""
        found = set(facts)
        seen: set[int] = set()
        waiting = list(made_of)
        while waiting:
            number = waiting.pop()
            if number in seen:
                continue
            seen.add(number)
            own, parts = self._made_of[number]
            found |= own
            waiting.extend(parts)
        return frozenset(found), frozenset()

    def backjump(self, level: int) -> None:
        """Takes back every decision above ``level`` and all that followed from it."""
        if level >= len(self._levels):
            return
        self._undo(self._levels[level])
        del self._levels[level:]
        del self._tags[level:]

    def _undo(self, begin: int) -> None:
        for at in range(len(self._trail) - 1, begin - 1, -1):
            var, before, _ = self._trail[at]
            self.domain[var] = before
            self._history[var].pop()
        del self._trail[begin:]
        self._head = min(self._head, begin)
