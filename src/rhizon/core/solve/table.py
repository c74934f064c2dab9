"""Every candidate target against every wish: what people work out by hand."""

from typing import Literal

import msgspec

from rhizon.core.errors import NoSolutionError
from rhizon.core.model.catalog import Release
from rhizon.core.model.contentlist import TargetWish
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.lock import Target
from rhizon.core.solve.problem import Request, Shelf
from rhizon.core.solve.targets import candidates
from rhizon.core.solve.universe import Universe

__all__ = ["Cell", "Row", "target_table"]

Fit = Literal["fits", "nearly", "no"]


class Cell(msgspec.Struct, frozen=True, kw_only=True):
    """One item on one target: the newest release that fits; else the newest that nearly does, and what it lacks."""

    id: str
    fit: Fit
    version: str | None
    reason: str


class Row(msgspec.Struct, frozen=True, kw_only=True):
    """One target with a cell for each wish in the order of the list. ``wanted``: the list allows it."""

    target: Target
    wanted: bool
    fitting: int
    cells: tuple[Cell, ...]


def target_table(request: Request, game: GameDefinition, shelf: Shelf) -> list[Row]:
    """Targets sorted by how much of the list they carry, then as the solver prefers them.

    Each item is looked at by itself: a target that carries every item may still have no solution together.
    Of several runtime majors of one build only the first that is preferred is shown.
    """
    host = shelf.host(game.id)[1]
    universe = Universe(request, game, shelf)
    wanted = {one[0] for one in _or_none(request, game, shelf)}
    free = msgspec.structs.replace(request, target=TargetWish())
    rows = []
    seen = set()
    for target, _ in candidates(free, game, host):
        key = (target.game_version, target.loader, target.loader_build)
        if key in seen:
            continue
        seen.add(key)
        cells = tuple(_cell(universe, target, name) for name in request.wishes)
        rows.append(
            Row(
                target=target,
                wanted=any((one.game_version, one.loader, one.loader_build) == key for one in wanted),
                fitting=sum(cell.fit == "fits" for cell in cells),
                cells=cells,
            )
        )
    rows.sort(key=lambda row: -row.fitting)
    return rows


def _or_none(request: Request, game: GameDefinition, shelf: Shelf) -> list[tuple[Target, object]]:
    try:
        return list(candidates(request, game, shelf.host(game.id)[1]))
    except NoSolutionError:
        return []


def _cell(universe: Universe, target: Target, name: str) -> Cell:
    nearly: Cell | None = None
    lacking = ""
    for release, reason in universe.releases(name, target):
        version = release.version.text
        if not reason:
            return Cell(id=name, fit="fits", version=version, reason="")
        lacking = lacking or f"{version} {reason}"
        if nearly is None and _nearly(universe, target, name, release):
            nearly = Cell(id=name, fit="nearly", version=version, reason=reason)
    return nearly or Cell(id=name, fit="no", version=None, reason=lacking or "is in no catalog")


def _nearly(universe: Universe, target: Target, name: str, release: Release) -> bool:
    """Only its channel is in the way, or it is for a newer game version and would fit there."""
    game = universe.game
    wish = universe.request.wishes[name]
    if release.yanked or name in universe.request.exclude or not wish.range.admits(release.version):
        return False
    if not universe.off_target(release, target):
        return True
    newer = game.versions[game.position(target.game_version) + 1 :]
    there = (msgspec.structs.replace(target, game_version=version) for version in newer)
    return any(not universe.off_target(release, one) for one in there)
