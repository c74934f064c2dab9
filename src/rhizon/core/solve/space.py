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
from rhizon.core.solve.project import ABSENT, Project
from rhizon.core.solve.reasons import Clash, Fact, Limit, Need, Wished
from rhizon.core.solve.universe import Universe
from rhizon.core.version import VersionRange

__all__ = ["Space"]

_Kind = Literal["need", "clash", "only"]
_Key = tuple[object, ...]


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
        self._stated: dict[tuple[int, int], list[int]] = {}  # by variable and release: clauses
        self._stand_ins: dict[tuple[str, str], list[tuple[Project, int]]] = {}
        self._tied = 0  # how many variables, the first ones, have all that they say stated
        self._changed: set[str] = set()  # items of which ask_again was asked
        self._admitted: dict[str, int] = {}
        self._embedding: dict[str, list[str]] = {}
        self._points: list[_Point] = []
        self._wished: dict[str, int] = {}  # the points of required wishes, as they are now
        # what each reported fact says: literals by item, at least one of which holds
        self.meaning: dict[Fact, dict[str, int]] = {}
        for name in universe.request.wishes:
            carried = {one.id for release in self.project(name).releases for one in release.embeds}
            for inner in carried:
                self._embedding.setdefault(inner, []).append(name)

    def __len__(self) -> int:
        """How many items were touched so far."""
        return len(self._by_var)

    def project(self, name: str) -> Project:
        """The item as a variable; unknown items can only be absent."""
        known = self._projects.get(name)
        if known is not None:
            return known
        made = Project(name, self._universe.item(name))
        made.var = self.engine.variable(made.full, self._limits(made))
        self._projects[name] = made
        self._by_var.append(made)
        return made

    def ask_again(self, universe: Universe, item: str) -> None:
        """The same question where one item is wished for, admitted or excluded otherwise; what was changed by an
        earlier call is as at first again. Raises RefusedError when nothing is left from the outset."""
        self._universe = universe
        self.request = universe.request
        self._required = frozenset(name for name, wish in self.request.wishes.items() if not wish.optional)
        self.forget()
        again = [self.project(name) for name in {*self._changed, item}]
        self._changed = {item}
        self.engine.restart({project.var: self._limits(project) for project in again})

    def carries(self, item: str) -> bool:
        """Whether some wish has its need met by what this wished item has inside."""
        return any(item in names for names in self._embedding.values())

    def _limits(self, project: Project) -> list[tuple[int, int]]:
        """Masks of what is admitted, each with its point."""
        limits = list(self._limited(project))
        self._admitted[project.name] = functools.reduce(operator.and_, (mask for mask, _ in limits), project.full)
        return limits

    def _limited(self, project: Project) -> Iterator[tuple[int, int]]:
        """The releases of an item that a limit leaves, as a mask."""
        name = project.name
        wish = self._universe.request.wishes.get(name)
        if name in self._required and wish is not None:
            mask = project.mask(wish.range)
            self._wished[name] = self._point("wished", project, mask, wish.range.text, {})
            yield mask, self._wished[name]
        elif wish is not None and not wish.range.open:
            outside = project.full & ~project.mask(wish.range) & ~ABSENT
            reason = f"is outside {wish.range}, which {self._universe.request.source} asks for"
            yield project.full & ~outside, self._point("limit", project, outside, reason, {})
        barred: dict[str, int] = {}
        for at, reason in enumerate(self._universe.limits(name, project.releases, self.target)):
            if reason:
                barred[reason] = barred.get(reason, 0) | 2 << at
        for reason, mask in barred.items():
            yield project.full & ~mask, self._point("limit", project, mask, reason, {})

    def wished(self) -> list[int]:
        """The required wishes as points of a refusal."""
        return [self._wished[name] for name in self._required if name in self._wished]

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
        """The fact behind a limit, put into words."""
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
            others = [(one, self.project(one.id)) for one in subject.alternatives]
            missing = all(not other.releases for _, other in others)
            only: tuple[tuple[str, tuple[str, ...]], ...] = ()
            if not any(other.mask(one.range) for one, other in others):
                only = tuple((other.name, other.versions(other.full)) for _, other in others if other.releases)
            return Need(project.name, versions, wishes, missing, only), said
        assert isinstance(subject, Relation)
        return Clash(project.name, versions, subject.id, subject.range.text, point.kind == "only"), said

    def admitted(self, project: Project) -> int:
        """What the list and the target leave of it, whatever else is chosen."""
        return self._admitted[project.name] & ~ABSENT

    def domain(self, project: Project) -> int:
        """What is left of it now."""
        return self.engine.domain[project.var]

    def stand_ins(self, wanted: str, within: VersionRange) -> list[tuple[Project, int]]:
        """Items whose releases stand in for another, by name: those that say so, and wished ones that carry it."""
        found = self._stand_ins.get((wanted, within.text))
        if found is None:
            names = {*self._universe.stand_ins(wanted), *self._embedding.get(wanted, ())} - {wanted}
            found = []
            for name in sorted(names):
                project = self.project(name)
                wished = name in self.request.wishes
                found.append((project, project.providing(wanted, within, embedded=wished)))
            self._stand_ins[wanted, within.text] = found
        return found

    def state(self, project: Project, bit: int) -> list[int]:
        """The clauses that hold once a release is chosen, as long as its item is not tied."""
        if project.var < self._tied:
            return []
        numbers = self._stated.get((project.var, bit))
        if numbers is None:
            numbers = self._stated[(project.var, bit)] = [
                self._add(project, bit, kind, subject) for kind, _, subject in _said(project.release(bit), project.name)
            ]
        return numbers

    def _add(self, project: Project, mask: int, kind: _Kind, subject: Requirement | Relation) -> int:
        if isinstance(subject, Requirement):
            literals = self._need(project, mask, subject)
        else:
            literals = {project.var: project.full & ~mask, **self._meant(subject, kind)}
        return self.engine.add(literals, self._point(kind, project, mask, subject, literals))

    @property
    def loose(self) -> bool:
        """Whether items were touched of which only chosen releases have said what they need."""
        return self._tied < len(self._by_var)

    def forget(self) -> None:
        """Takes back what single releases have stated. To be called with no decision standing."""
        for numbers in self._stated.values():
            for number in numbers:
                self.engine.drop(number)
        self._stated.clear()

    def tie_all(self) -> int | None:
        """States what every release of every item says that was touched so far, and of what that touches, so that
        items narrow each other before they are chosen; the number of a clause that is false then, if one is.

        To be called with no decision standing, so that what follows from it is never lost.
        """
        self.forget()
        most = 2 * len(self._by_var)
        while self.loose and len(self._by_var) <= most:
            project = self._by_var[self._tied]
            self._tied += 1
            self._tie(project)
        return self.engine.settle()

    def _tie(self, project: Project) -> None:
        rows: dict[int, list[tuple[int, int, int]]] = {}
        for kind, subject, mask in _grouped(project):
            if not self._is_pair(project, subject):
                self._add(project, mask, kind, subject)
                continue
            [(other, allowed)] = self._meant(subject, kind).items()
            point = self._point(kind, project, mask, subject, {project.var: project.full & ~mask, other: allowed})
            rows.setdefault(other, []).append((mask, allowed, point))
        for other, said in rows.items():
            self.engine.tie(project.var, other, said)

    def _is_pair(self, project: Project, subject: Requirement | Relation) -> bool:
        """Whether it speaks of one other item only, and so belongs into a tie."""
        if isinstance(subject, Relation):
            return True
        return (
            subject.id is not None
            and subject.id != project.name
            and (subject.id not in project.given and not self.stand_ins(subject.id, subject.range))
        )

    def _need(self, project: Project, mask: int, need: Requirement) -> dict[int, int]:
        literals = {project.var: project.full & ~mask}
        for wanted in need.alternatives:
            other = self.project(wanted.id)
            literals[other.var] = literals.get(other.var, 0) | other.mask(wanted.range)
            for stand_in, giving in self.stand_ins(wanted.id, wanted.range):
                literals[stand_in.var] = literals.get(stand_in.var, 0) | giving
            literals[project.var] |= project.providing(wanted.id, wanted.range, embedded=True)
        return literals

    def _meant(self, subject: Requirement | Relation, kind: _Kind) -> dict[int, int]:
        """The one other item that it speaks of, and what it allows of it."""
        assert subject.id is not None
        other = self.project(subject.id)
        meant = other.mask(subject.range)
        if kind == "clash":
            return {other.var: other.full & ~meant}
        return {other.var: meant | ABSENT if kind == "only" else meant}


def _grouped(project: Project) -> list[tuple[_Kind, Requirement | Relation, int]]:
    """What releases say, with the mask of those that say it."""
    masks: dict[_Key, int] = {}
    subjects: dict[_Key, tuple[_Kind, Requirement | Relation]] = {}
    for at, release in enumerate(project.releases):
        for kind, key, subject in _said(release, project.name):
            if key in masks:
                masks[key] |= 2 << at
            else:
                masks[key] = 2 << at
                subjects[key] = (kind, subject)
    return [(kind, subject, masks[key]) for key, (kind, subject) in subjects.items()]


def _said(release: Release, name: str) -> Iterator[tuple[_Kind, _Key, Requirement | Relation]]:
    """What a release says of others, each with a key that two releases share when they say the same; nothing clashes
    with itself."""
    for need in release.requires:
        if need.id is not None:
            yield "need", ("need", need.id, need.range.text), need
        else:
            yield "need", ("need", *((one.id, one.range.text) for one in need.one_of)), need
    for clash in release.conflicts:
        if clash.id != name:
            yield "clash", ("clash", clash.id, clash.range.text), clash
    for soft in release.optional:
        if soft.id != name:
            yield "only", ("only", soft.id, soft.range.text), soft
