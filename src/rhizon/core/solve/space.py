"""The search space of one target, made as the search touches it.

An item becomes a variable when something names it, and the requirements of a release become clauses when that
release is first chosen: a catalog of any size costs only what the closure touches. Releases of one item that
say the same share one clause.
"""

import functools
import operator
from collections.abc import Iterable, Iterator
from typing import Literal, NamedTuple

from rhizon.core.model.catalog import Relation, Release, Requirement
from rhizon.core.model.lock import Target
from rhizon.core.solve.engine import Engine
from rhizon.core.solve.facts import Clash, Fact, Limit, Need, Wished
from rhizon.core.solve.project import ABSENT, Project
from rhizon.core.solve.universe import Universe

__all__ = ["Space"]

_Key = tuple[str, object]


class _Point(NamedTuple):
    """What a clause or limit stands for, put into words only when somebody asks."""

    kind: Literal["wished", "limit", "need", "clash", "only"]
    project: Project
    mask: int
    subject: object
    literals: dict[int, int]  # by variable; empty for a limit, which has only its own


class Space:
    """Variables and clauses of one target. ``required`` wishes are limits, optional ones only when assumed."""

    def __init__(self, universe: Universe, target: Target, required: Iterable[str]) -> None:
        self.engine = Engine()
        self.target = target
        self.request = universe.request
        self._universe = universe
        self._required = frozenset(required)
        self._projects: dict[str, Project] = {}
        self._by_var: list[Project] = []
        self._clauses: dict[tuple[str, _Key], int] = {}
        self._said: dict[str, dict[_Key, int]] = {}
        self._numbers: dict[tuple[int, int], list[int]] = {}
        self._stand_ins: dict[Relation, list[tuple[Project, int]]] = {}
        self._whole: set[int] = set()
        self._admitted: dict[str, int] = {}
        self._embedding: dict[str, list[str]] = {}
        self._points: list[_Point] = []
        # what each fact that was told says: literals by item, at least one of which holds
        self.meaning: dict[Fact, dict[str, int]] = {}
        for name in universe.request.wishes:
            carried = {one.id for release in self.project(name).releases for one in release.embeds}
            for inner in carried:
                self._embedding.setdefault(inner, []).append(name)

    def project(self, name: str) -> Project:
        """The item as a variable; unknown items can only be absent."""
        known = self._projects.get(name)
        if known is not None:
            return known
        made = Project(name, self._universe.item(name))
        limits = list(self._limits(made))
        self._admitted[name] = functools.reduce(operator.and_, (mask for mask, _ in limits), made.full & ~ABSENT)
        made.var = self.engine.variable(made.full, limits)
        self._projects[name] = made
        self._by_var.append(made)
        return made

    def _limits(self, project: Project) -> Iterator[tuple[int, int]]:
        """Masks of what is admitted, each with its point."""
        name = project.name
        wish = self._universe.request.wishes.get(name)
        if name in self._required and wish is not None:
            mask = project.mask(wish.range)
            yield mask, self._point("wished", project, mask, wish.range.text, {})
        elif wish is not None and not wish.range.open:
            outside = project.full & ~project.mask(wish.range) & ~ABSENT
            reason = f"is outside {wish.range}, which {self._universe.request.source} asks for"
            yield project.full & ~outside, self._point("limit", project, outside, reason, {})
        barred: dict[str, int] = {}
        for at, release in enumerate(project.releases):
            reason = self._universe.limit(name, release, self.target)
            if reason:
                barred[reason] = barred.get(reason, 0) | 2 << at
        for reason, mask in barred.items():
            yield project.full & ~mask, self._point("limit", project, mask, reason, {})

    def _point(
        self,
        kind: Literal["wished", "limit", "need", "clash", "only"],
        project: Project,
        mask: int,
        subject: object,
        literals: dict[int, int],
    ) -> int:
        self._points.append(_Point(kind, project, mask, subject, literals))
        return len(self._points) - 1

    def told(self, points: Iterable[object]) -> list[Fact]:
        """Points of a refusal as facts, whose :attr:`meaning` is then known. Facts stay as they are."""
        facts: list[Fact] = []
        for point in points:
            if isinstance(point, int):
                fact, said = self._worded(self._points[point])
                self.meaning[fact] = said
            else:
                assert isinstance(point, Wished)
                fact = point
            facts.append(fact)
        return facts

    def _worded(self, point: _Point) -> tuple[Fact, dict[str, int]]:
        project, mask, subject = point.project, point.mask, point.subject
        versions = project.versions(mask)
        said = {self._by_var[var].name: allowed for var, allowed in point.literals.items()}
        if point.kind == "wished":
            there = () if mask else project.versions(project.full)
            return Wished(project.name, str(subject), there), {project.name: mask}
        if point.kind == "limit":
            every = mask | ABSENT == project.full
            return Limit(project.name, versions, str(subject), every), {project.name: project.full & ~mask}
        if isinstance(subject, Requirement):
            wishes = tuple((one.id, one.range.text) for one in subject.alternatives)
            missing = all(not self.project(one.id).releases for one in subject.alternatives)
            return Need(project.name, versions, wishes, missing), said
        assert isinstance(subject, Relation)
        return Clash(project.name, versions, subject.id, subject.range.text, point.kind == "only"), said

    def admitted(self, project: Project) -> int:
        """What the list and the target leave of it, whatever else is chosen."""
        return self._admitted[project.name]

    def domain(self, project: Project) -> int:
        """What is left of it now."""
        return self.engine.domain[project.var]

    def stand_ins(self, wanted: Relation) -> list[tuple[Project, int]]:
        """Items whose releases stand in for another, by name: those that say so, and wished ones that carry it."""
        found = self._stand_ins.get(wanted)
        if found is None:
            names = {*self._universe.stand_ins(wanted.id), *self._embedding.get(wanted.id, ())} - {wanted.id}
            found = []
            for name in sorted(names):
                project = self.project(name)
                wished = name in self.request.wishes
                found.append((project, project.providing(wanted.id, wanted.range, embedded=wished)))
            self._stand_ins[wanted] = found
        return found

    def clauses_of(self, project: Project, bit: int) -> list[int]:
        """The clauses that hold once the release is chosen, made when they are asked for the first time."""
        numbers = self._numbers.get((project.var, bit))
        if numbers is None:
            said = self._said.get(project.name)
            if said is None:
                said = self._said[project.name] = _grouped(project)
            keys = _keys(project.release(bit), project.name)
            numbers = self._numbers[(project.var, bit)] = [self._clause(project, key, said[key]) for key in keys]
        return numbers

    def variables(self) -> list[int]:
        """Every item that was touched so far."""
        return [project.var for project in self._by_var]

    def whole(self, var: int) -> list[int]:
        """The clauses of every release of an item, the first time that they are asked for; then none."""
        if var in self._whole:
            return []
        self._whole.add(var)
        project = self._by_var[var]
        bits = (2 << at for at in range(len(project.releases)))
        return [number for bit in bits for number in self.clauses_of(project, bit)]

    def _clause(self, project: Project, key: _Key, mask: int) -> int:
        number = self._clauses.get((project.name, key))
        if number is None:
            kind, subject = key
            if isinstance(subject, Requirement):
                literals = self._need(project, mask, subject)
            else:
                assert isinstance(subject, Relation)
                literals = self._relation(project, mask, subject, only=kind == "only")
            point = self._point(kind, project, mask, subject, literals)  # type: ignore[arg-type]
            number = self._clauses[(project.name, key)] = self.engine.add(literals, point)
        return number

    def _need(self, project: Project, mask: int, need: Requirement) -> dict[int, int]:
        literals = {project.var: project.full & ~mask}
        for wanted in need.alternatives:
            other = self.project(wanted.id)
            literals[other.var] = literals.get(other.var, 0) | other.mask(wanted.range)
            for stand_in, giving in self.stand_ins(wanted):
                literals[stand_in.var] = literals.get(stand_in.var, 0) | giving
            literals[project.var] |= project.providing(wanted.id, wanted.range, embedded=True)
        return literals

    def _relation(self, project: Project, mask: int, relation: Relation, *, only: bool) -> dict[int, int]:
        other = self.project(relation.id)
        meant = other.mask(relation.range)
        return {project.var: project.full & ~mask, other.var: meant | ABSENT if only else other.full & ~meant}


def _keys(release: Release, name: str) -> Iterator[_Key]:
    """What a release says of others; nothing clashes with itself."""
    for need in release.requires:
        yield "need", need
    for clash in release.conflicts:
        if clash.id != name:
            yield "clash", clash
    for soft in release.optional:
        if soft.id != name:
            yield "only", soft


def _grouped(project: Project) -> dict[_Key, int]:
    """What releases say, with the mask of those that say it."""
    said: dict[_Key, int] = {}
    for at, release in enumerate(project.releases):
        for key in _keys(release, project.name):
            said[key] = said.get(key, 0) | 2 << at
    return said
