"""Try the targets in their order of preference and take the first that carries the list best."""

import re

from rhizon.core.errors import NoSolutionError
from rhizon.core.finding import Finding
from rhizon.core.model.catalog import LoaderBuild, Release
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.lock import Dropped, Target
from rhizon.core.names import near
from rhizon.core.solve.problem import Request, Shelf
from rhizon.core.solve.search import Clash, search
from rhizon.core.solve.solution import Solution, make_lock
from rhizon.core.solve.targets import candidates
from rhizon.core.solve.universe import Universe

__all__ = ["solve"]

MOST_REASONS = 12


def solve(request: Request, game: GameDefinition, shelf: Shelf) -> Solution:
    """The preferred target that meets every required wish and keeps most optional ones.

    Raises :class:`NoSolutionError` when none does.
    """
    universe = Universe(request, game, shelf)
    findings = _known(request, game, shelf, universe)
    host = shelf.host(game.id)
    best: tuple[int, Target, LoaderBuild, dict[str, Release], tuple[Dropped, ...]] | None = None
    clashes: list[tuple[Target, Clash]] = []
    for target, build in candidates(request, game, host[1]):
        outcome = _on_target(universe, target)
        if isinstance(outcome, Clash):
            clashes.append((target, outcome))
            continue
        chosen, dropped = outcome
        if best is None or len(dropped) < best[0]:
            best = (len(dropped), target, build, chosen, dropped)
        if not dropped:
            break
    if best is None:
        raise _no_solution(universe, clashes)
    _, target, build, chosen, dropped = best
    lock = make_lock(universe, target, build, host, chosen, dropped)
    return Solution(lock=lock, findings=tuple(findings))


def _on_target(universe: Universe, target: Target) -> tuple[dict[str, Release], tuple[Dropped, ...]] | Clash:
    """The required wishes together, then each optional wish in the order of the list, kept when it fits."""
    wishes = universe.request.wishes
    kept = [name for name, wish in wishes.items() if not wish.optional]
    outcome = search(universe, target, kept)
    if isinstance(outcome, Clash):
        return outcome
    everything = search(universe, target, list(wishes))
    if not isinstance(everything, Clash):
        return everything, ()
    dropped = []
    for name, wish in wishes.items():
        if not wish.optional:
            continue
        attempt = search(universe, target, [*kept, name])
        if isinstance(attempt, Clash):
            dropped.append(Dropped(id=name, reason="; ".join(attempt.reasons or (_sentence(attempt),))[:400]))
        else:
            outcome = attempt
            kept.append(name)
    return outcome, tuple(dropped)


def _known(request: Request, game: GameDefinition, shelf: Shelf, universe: Universe) -> list[Finding]:
    """Every wish must be in a catalog; look-alikes of a wish are findings."""
    index = shelf.index(game.id).items
    unknown = []
    findings = []
    for name in request.wishes:
        if universe.item(name) is None:
            other = shelf.other_game(game.id, name)
            guesses = near(name, index)
            if other is not None:
                unknown.append(f"{name} is known for the game {other} only")
            elif guesses:
                unknown.append(f"{name} is in no catalog; near it: {', '.join(guesses)}")
            else:
                unknown.append(f"{name} is in no catalog")
            continue
        title = _key(index[name].title) if name in index else ""
        for rival, line in index.items():
            if rival != name and (_key(rival) == _key(name) or (title and _key(line.title) == title)):
                findings.append(
                    Finding(
                        code="look-alike",
                        severity="warning",
                        subject=name,
                        what=f"{rival} looks like it ({line.title}) and is another item",
                        remedy=f"If you meant {rival}, write that id in the list.",
                    )
                )
    if unknown:
        lead = unknown[0] if len(unknown) == 1 else f"{len(unknown)} items of {request.source} are not to be had"
        raise NoSolutionError(
            "unknown-content",
            lead,
            details=unknown if len(unknown) > 1 else (),
            hint="Correct the id in the list, or add a catalog that has it (--catalog).",
        )
    return findings


def _key(text: str) -> str:
    return re.sub(r"[\W_]+", "", text).casefold()


def _no_solution(universe: Universe, clashes: list[tuple[Target, Clash]]) -> NoSolutionError:
    """The clash of the target that came furthest; ties go to the preferred target."""
    target, clash = max(clashes, key=lambda one: one[1].depth)
    if clash.gave_up:
        return NoSolutionError(
            "solve-gave-up",
            f"no answer was found for {universe.request.source} within the search limit",
            hint="Fix the target in the list ([target]) or ask for narrower ranges.",
        )
    on = f"{universe.game.title} {target.game_version}, {target.loader} {target.loader_build}"
    if target.runtime_major:
        on += f", {target.runtime.capitalize()} {target.runtime_major}"
    tried = len({(one.game_version, one.loader, one.loader_build) for one, _ in clashes})
    return NoSolutionError(
        "no-solution",
        _sentence(clash),
        details=[f"on {on}:", *clash.reasons[:MOST_REASONS], f"{tried} targets were tried; this one came furthest"],
        hint="Widen the range in the list, mark the item optional, allow its preview channel, or free [target].",
    )


def _sentence(clash: Clash) -> str:
    need = clash.need
    wanted = " or ".join(one.id if one.range.open else f"{one.id} {one.range}" for one in need.requirement.alternatives)
    if need.by is None:
        return f"no release of {wanted} fits"
    return f"{need.by} needs {wanted}, and no release of it fits"
