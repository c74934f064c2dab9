"""Depth-first search with chronological backtracking for one target.

Needs are met in the order in which they arise (wishes in the order of the list, then what their releases
require); for each the newest release is tried first. See Russell and Norvig, Artificial Intelligence: A
Modern Approach, "Backtracking Search for CSPs", with forward checking against the ranges known so far.
"""

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from rhizon.core.model.catalog import Relation, Release, Requirement
from rhizon.core.model.lock import Target
from rhizon.core.solve.universe import Universe

__all__ = ["Clash", "Need", "search"]

MOST_STEPS = 200_000


class Need(NamedTuple):
    """A requirement and the item that has it (None: the list)."""

    requirement: Requirement
    by: str | None


class Clash(NamedTuple):
    """The need that could not be met on the branch that came furthest, and why each candidate failed."""

    need: Need
    reasons: tuple[str, ...]
    depth: int
    gave_up: bool = False


class _State(NamedTuple):
    chosen: dict[str, Release]
    needs: tuple[Need, ...]  # those not yet looked at, in order
    met: tuple[Need, ...]


def search(universe: Universe, target: Target, wishes: Sequence[str]) -> dict[str, Release] | Clash:
    """One release for each wish and all that they need, or the clash that came furthest."""
    needs = tuple(Need(Requirement(id=name), None) for name in wishes)
    start = _State({}, needs, ())
    furthest: Clash | None = None
    stack: list[Iterator[_State]] = [iter((start,))]
    for _ in range(MOST_STEPS):
        if not stack:
            assert furthest is not None
            return furthest
        state = next(stack[-1], None)
        if state is None:
            stack.pop()
            continue
        state = _skip_met(state)
        if not state.needs:
            return state.chosen
        reasons: list[str] = []
        options = _options(universe, target, state, reasons)
        if options:
            stack.append(iter(options))
        elif furthest is None or len(state.chosen) > furthest.depth:
            furthest = Clash(state.needs[0], tuple(reasons), len(state.chosen))
    return Clash(needs[0], (), 0, gave_up=True)


def _skip_met(state: _State) -> _State:
    needs = list(state.needs)
    met = list(state.met)
    while needs and any(_meets(state.chosen, one) for one in needs[0].requirement.alternatives):
        met.append(needs.pop(0))
    return _State(state.chosen, tuple(needs), tuple(met))


def _meets(chosen: dict[str, Release], wanted: Relation) -> bool:
    own = chosen.get(wanted.id)
    if own is not None:
        return wanted.range.admits(own.version)
    stand_ins = (given for release in chosen.values() for given in (*release.provides, *release.embeds))
    return any(given.id == wanted.id and wanted.range.admits(given.version) for given in stand_ins)


def _options(universe: Universe, target: Target, state: _State, reasons: list[str]) -> list[_State]:
    need, *rest = state.needs
    options = []
    for wanted in need.requirement.alternatives:
        own = state.chosen.get(wanted.id)
        if own is not None:
            reasons.append(f"{wanted.id} {own.version} is already chosen, {wanted.range} is needed")
            continue
        if universe.item(wanted.id) is None:
            reasons.append(f"{wanted.id} is in no catalog")
            continue
        for release, reason in universe.releases(wanted.id, target):
            reason = reason or _against(universe, state, wanted, release)
            if reason:
                reasons.append(f"{wanted.id} {release.version} {reason}")
                continue
            more = tuple(Need(one, wanted.id) for one in release.requires)
            options.append(_State({**state.chosen, wanted.id: release}, (need, *rest, *more), state.met))
    return options


def _against(universe: Universe, state: _State, wanted: Relation, release: Release) -> str:
    """Why a release that the target takes does not fit beside what is chosen."""
    if not wanted.range.admits(release.version):
        return f"is outside {wanted.range}"
    for need in (*state.met, *state.needs):
        for one in need.requirement.alternatives if need.requirement.id == wanted.id else ():
            if not one.range.admits(release.version):
                return f"is outside {one.range}, which {need.by or universe.request.source} needs"
    for name, other in state.chosen.items():
        for clash in other.conflicts:
            if clash.id == wanted.id and clash.range.admits(release.version):
                return f"cannot be beside {name} {other.version}"
        for soft in other.optional:
            if soft.id == wanted.id and not soft.range.admits(release.version):
                return f"is outside {soft.range}, which {name} {other.version} takes"
    for clash in release.conflicts:
        rival = state.chosen.get(clash.id)
        if rival is not None and clash.range.admits(rival.version):
            return f"cannot be beside {clash.id} {rival.version}"
    for soft in release.optional:
        rival = state.chosen.get(soft.id)
        if rival is not None and not soft.range.admits(rival.version):
            return f"takes {soft.id} {soft.range} only"
    return ""
