"""The first choice in the order of preference that fits, with learning.

Needs are met in the order in which they arise: the wishes in the order of the list, then what the chosen
releases require, breadth first (so by how near it is to the list). For each need the first alternative that is
left is taken in its newest release that is left; what only a stand-in can meet is met by known stand-ins in the
order of their ids. Since everything that narrows a choice follows from earlier choices alone, what comes out is
the best in that lexicographic order, although whole regions are jumped over.
"""

import contextlib
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from rhizon.core.model.catalog import Release, Requirement
from rhizon.core.solve.engine import RefusedError
from rhizon.core.solve.project import ABSENT, Project
from rhizon.core.solve.roam import Roam
from rhizon.core.solve.space import Space
from rhizon.core.solve.watch import GaveUpError, Watch

__all__ = ["Assumption", "Search"]

CHECK_STEPS = 64  # of the search, between two looks at the clock
PATIENCE = 30  # conflicts in the order of preference before looking where the conflicts are


class Assumption(NamedTuple):
    """Something to try: an item is one of these releases (or absent, where the mask says so)."""

    item: str
    mask: int
    tag: tuple[str, ...]


class _State(NamedTuple):
    """What a level began with."""

    needs: int
    next: int
    chosen: int


class Search:
    """A search that can be asked again under other assumptions and keeps what it has learned; ``runs`` counts how often
    it was."""

    def __init__(self, space: Space, watch: Watch | None = None) -> None:
        self.space = space
        self.watch = watch if watch is not None else Watch()
        self.runs = 0
        self._most: int | None = None
        self._engine = space.engine
        self._needs: list[Requirement] = []
        self._wishes = 0  # how many of them, the first ones, are the list's own: those no stand-in meets
        self._next = 0
        self._chosen: list[tuple[Project, int]] = []
        self._bits: dict[str, int] = {}
        self._saved: list[_State] = []  # one for each level that was decided in order; free ones are above
        self._probing = False  # whether it is not known that anything fits what was decided in order
        self._roam: Roam | None = None
        self._patience = PATIENCE

    def run(self, wishes: Sequence[str], assumptions: Sequence[Assumption] = ()) -> dict[str, Release]:
        """One release for each wish and all that they need. Raises RefusedError, GaveUpError."""
        self.runs += 1
        self._reset(wishes, {one.item for one in assumptions})
        engine = self._engine
        self._patience = engine.conflicts + PATIENCE
        conflict: int | None = None
        steps = 0
        while True:
            steps += 1
            if steps % CHECK_STEPS == 0:
                self.watch.step(engine.conflicts)
                self.watch.check()
                if self._most is not None and engine.conflicts > self._most:
                    raise GaveUpError
            if conflict is None:
                conflict = engine.propagate()
            if conflict is not None:
                conflict = self._resolve(conflict)
            elif engine.level < len(assumptions):
                self._assume(assumptions[engine.level])
            elif self._roam is None and engine.conflicts >= self._patience:
                conflict = self._begin_to_roam()
            elif self._probing:
                self._probe()
            else:
                option = self._option()
                if option is None:
                    return {project.name: project.release(bit) for project, bit in self._chosen}
                conflict = self._prefer(*option)

    # ---- the phases of a run

    def _resolve(self, conflict: int) -> int | None:
        """After a conflict: learns from it and goes back, or, at the first one, ties all items together. Answers the
        conflict that this leads to, if it does. Raises RefusedError (nothing is left)."""
        engine, roam = self._engine, self._roam
        following: int | None = None
        if self.space.loose and engine.level:
            # a list that clashes once clashes often: from then on items narrow each other early
            engine.backjump(0)
            following = self.space.tie_all()
        else:
            engine.learn(conflict)
            if roam is not None and roam.restart_due():
                engine.backjump(len(self._saved))
        if engine.level < len(self._saved) and roam is not None:
            self._probing = not roam.witness
        self._restore()
        return following

    def _begin_to_roam(self) -> int | None:
        """The order of preference has met too many conflicts: any solution is looked for first, where they are."""
        self._engine.backjump(0)
        conflict = self.space.tie_all()
        self._restore()
        if not self.space.loose:
            self._roam = Roam(self._engine)
            self._probing = True
        return conflict

    def _probe(self) -> None:
        """One free decision towards any solution; once there is one, back to the order of preference with it as a
        witness."""
        assert self._roam is not None
        if not self._roam.decide():
            self._probing = False
            self._engine.backjump(len(self._saved))

    def _prefer(self, project: Project, bit: int) -> int | None:
        """Decides what is preferred. Where that is not the witness's choice it is not known whether it leads anywhere,
        and the next phase is a probe."""
        conflict = self._choose(project, bit)
        if self._roam is not None and self._roam.witness[project.var] != bit:
            self._probing = True
        return conflict

    @contextlib.contextmanager
    def briefly(self, conflicts: int) -> Iterator[None]:
        """Inside, it gives up after so many conflicts."""
        self._most = self._engine.conflicts + conflicts
        try:
            yield
        finally:
            self._most = None

    @property
    def conflicts(self) -> int:
        """How many there were so far."""
        return self._engine.conflicts

    def ruled_out(
        self, wishes: Sequence[str], assumptions: Sequence[Assumption], others: Sequence[Assumption]
    ) -> list[Assumption]:
        """Those of others that cannot hold beside some assumptions, as far as that follows without a search. Raises
        RefusedError where nothing fits at all."""
        self.watch.check()
        self._reset(wishes, {one.item for one in (*assumptions, *others)})
        self.settle()
        for one in assumptions:
            mask = one.mask & self.space.domain(self.space.project(one.item))
            if not mask:
                break
            self._saved.append(_State(len(self._needs), self._next, len(self._chosen)))
            self._engine.decide(self.space.project(one.item).var, mask, one.tag)
            if self._engine.propagate() is not None:
                break
        else:
            left = {one.tag: one.mask & self.space.domain(self.space.project(one.item)) for one in others}
            found = [one for one in others if not left[one.tag]]
            self._engine.backjump(0)
            return found
        self._engine.backjump(0)
        return []

    def settle(self) -> None:
        """Lets every item touched so far narrow the others before anything is decided. Raises RefusedError."""
        self._engine.backjump(0)
        conflict = self.space.tie_all()
        if conflict is None:
            conflict = self._engine.propagate()
        if conflict is not None:
            self._engine.learn(conflict)

    def _reset(self, wishes: Sequence[str], assumed: set[str]) -> None:
        """Forgets decisions; what was learned stays."""
        self._engine.backjump(0)
        self.space.forget()
        self._needs = [Requirement(id=name) for name in wishes]
        self._wishes = len(wishes)
        self._next = 0
        self._chosen = []
        self._bits = {}
        self._saved = []
        self._probing = False
        self._roam = None
        for name in wishes:
            project = self.space.project(name)
            if name not in assumed and not self.space.domain(project) & ~ABSENT:
                raise self._engine.refuse(project.var, project.full & ~ABSENT)

    def _assume(self, one: Assumption) -> None:
        project = self.space.project(one.item)
        mask = one.mask & self.space.domain(project)
        if not mask:
            refused = self._engine.refuse(project.var, one.mask)
            raise RefusedError(refused.facts, refused.assumed | {one.tag})
        self._saved.append(_State(len(self._needs), self._next, len(self._chosen)))
        self._engine.decide(project.var, mask, one.tag)

    def _choose(self, project: Project, bit: int) -> int | None:
        """Decides a release and states what it says; the number of a clause that is false then, if one is."""
        self._saved.append(_State(len(self._needs), self._next, len(self._chosen)))
        release = project.release(bit)
        numbers = self.space.state(project, bit)
        self._engine.decide(project.var, bit)
        self._chosen.append((project, bit))
        self._bits[project.name] = bit
        self._needs.extend(one for one in release.requires if not _meets_itself(project, bit, one))
        for number in numbers:
            false = self._engine.assert_clause(number)
            if false is not None:
                return false
        return None

    def _restore(self) -> None:
        level = self._engine.level
        if level < len(self._saved):
            state = self._saved[level]
            del self._saved[level:]
            del self._needs[state.needs :]
            self._next = state.next
            for project, _ in self._chosen[state.chosen :]:
                del self._bits[project.name]
            del self._chosen[state.chosen :]

    def _option(self) -> tuple[Project, int] | None:
        """What to choose for the next need that is not met; None when all are."""
        while self._next < len(self._needs):
            need = self._needs[self._next]
            if not self._met(need):
                for project, mask in self._ways(need):
                    left = mask & self.space.domain(project)
                    if left and project.name not in self._bits:
                        return project, 1 << (left.bit_length() - 1)
                raise AssertionError("a need that nothing can meet is a false clause, and was seen before")
            self._next += 1
        return None

    def _met(self, need: Requirement) -> bool:
        return any(self._bits.get(project.name, 0) & mask for project, mask in self._ways(need))

    def _ways(self, need: Requirement) -> Iterator[tuple[Project, int]]:
        for wanted in need.alternatives:
            project = self.space.project(wanted.id)
            yield project, project.mask(wanted.range)
        if self._next < self._wishes:
            return
        for wanted in need.alternatives:
            yield from self.space.stand_ins(wanted.id, wanted.range)


def _meets_itself(project: Project, bit: int, need: Requirement) -> bool:
    return any(bit & project.providing(one.id, one.range, embedded=True) for one in need.alternatives)
