"""How much memory a server gets and why, before it ever ran and from what its runs have shown."""

from pathlib import Path
from typing import Literal, NamedTuple

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.measured import gc_runs, process_runs
from rhizon.adapters.plots import heap_plot, process_plot
from rhizon.app.choose.resolve import catalogs_for, solve_source
from rhizon.app.choose.sources import read_any
from rhizon.app.host import Host
from rhizon.app.instance.reservations import others_than
from rhizon.app.instance.state import require_instance_state
from rhizon.app.reporter import Reporter
from rhizon.core.allocate.measured import (
    HeapEvidence,
    ProcessEvidence,
    advice,
    evidence,
    process_advice,
    process_evidence,
)
from rhizon.core.allocate.memory import MemoryBudget, budget
from rhizon.core.allocate.trend import trend
from rhizon.core.errors import StateError
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.lock import Lock
from rhizon.core.runtimes import family_of
from rhizon.core.settings.apply import checked_settings
from rhizon.core.settings.content import with_content

__all__ = ["MemoryAdvice", "MemoryQuestion", "memory_advice"]

Fit = Literal["fits", "tight", "does not fit"]
TIGHT_SHARE = 0.85
ENOUGH_EVENTS = 20  # of collections, and of a run, before what was measured counts more than the guess
ENOUGH_SECONDS = 600


class MemoryAdvice(msgspec.Struct, frozen=True, kw_only=True):
    """MiB. ``budget`` is what the parts add up to; ``lowest``, ``recommended`` and ``highest`` are heap: the least that
    makes sense, what to take, the most that still helps. ``measured`` and ``growth`` (MiB an hour, with its interval)
    are from past runs, ``enough`` says whether they count; ``process`` is what the system says of the process in them.
    A server that is not ``bounded`` has no heap of its own: all three are then of the process. ``source`` is what an
    instance was made from, ``limits_file`` where a reserve is kept."""

    name: str
    game: str
    game_title: str
    source: str
    players: int
    budget: MemoryBudget
    granted_mib: int | None
    lowest_mib: int
    recommended_mib: int
    highest_mib: int
    total_mib: int
    reserve_mib: int
    limits_file: str
    others_mib: int
    free_mib: int
    fit: Fit
    instead: str
    flags: tuple[tuple[str, str], ...]
    measured: HeapEvidence | None
    enough: bool
    growth: tuple[float, float, float] | None
    process: ProcessEvidence | None
    bounded: bool
    plot: str | None


class MemoryQuestion(msgspec.Struct, frozen=True, kw_only=True):
    """What a person asks: for so many ``players``, from what past runs have shown (``measured``), with a ``plot`` drawn
    into that file, with another reserve left to the machine."""

    players: int | None = None
    catalogs: tuple[str, ...] = ()
    measured: bool = False
    plot: Path | None = None
    reserve_mib: int | None = None


def memory_advice(
    host: Host,
    path: Path,
    reporter: Reporter,
    question: MemoryQuestion,
) -> MemoryAdvice:
    """For an instance, or for a list or pack that is solved for it. Raises :class:`StateError` (nothing was measured
    yet, no Matplotlib) and what solving raises."""
    players, measured, plot, reserve_mib = question.players, question.measured, question.plot, question.reserve_mib
    home = host.home(path)
    one = _of_instance(host, home) if home.is_ours else _of_source(host, path, question.catalogs, reporter)
    if players is not None:
        one.settings["max_players"] = players
    game, lock = one.game, one.lock
    made = budget(game, lock.releases, one.settings, lock.pack_memory)
    family, runtime = family_of(game.runtime), lock.target.runtime_major
    bounded = family is not None and bool(family.described(runtime, made.heap_mib))
    past = _past(home, one.name, game, bounded=bounded) if measured else _Past()
    lowest, recommended, highest = past.bounds or _by_model(game, lock, one.settings, made)
    if plot is not None:
        bounds = {"granted": one.granted or 0, "recommended": recommended, "estimated before it ran": made.heap_mib}
        if past.heap is not None:
            heap_plot(plot, one.name, gc_runs(home.own), bounds)
        else:
            process_plot(plot, one.name, process_runs(home.own), bounds)
    others = sum(entry.memory_mib for entry in others_than(host, home))
    room = host.memory(others)
    if reserve_mib is not None:
        room = msgspec.structs.replace(room, wanted_reserve_mib=reserve_mib)
    reserve, free = room.reserve_mib, room.free_mib
    fit, instead = _fit(free, lowest, recommended, made.outside_heap_mib)
    return MemoryAdvice(
        name=one.name,
        game=game.id,
        game_title=game.title,
        source=one.source,
        players=int(one.settings.get("max_players", _default(game, "max_players"))),
        budget=made,
        granted_mib=one.granted,
        lowest_mib=lowest,
        recommended_mib=recommended,
        highest_mib=highest,
        total_mib=room.total_mib,
        reserve_mib=reserve,
        limits_file=str(host.places.limits),
        others_mib=others,
        free_mib=free,
        fit=fit,
        instead=instead,
        flags=family.described(runtime, recommended) if family is not None else (),
        measured=past.heap,
        enough=past.bounds is not None,
        growth=past.growth,
        process=past.process,
        bounded=bounded,
        plot=str(plot) if plot is not None else None,
    )


class _Subject(NamedTuple):
    """What advice is asked for; ``granted`` is the heap of an instance, ``source`` what that was made from."""

    name: str
    game: GameDefinition
    lock: Lock
    settings: dict[str, str | int | bool]
    granted: int | None = None
    source: str = ""


def _of_instance(host: Host, home: InstanceFolder) -> _Subject:
    state = require_instance_state(host, home)
    instance = state.instance
    return _Subject(
        instance.name,
        state.game,
        state.lock,
        dict(instance.settings),
        granted=instance.heap_mib,
        source=instance.source,
    )


def _of_source(host: Host, path: Path, catalogs: tuple[str, ...], reporter: Reporter) -> _Subject:
    source = read_any(host, path, None, reporter)
    game = host.games(source.beside).get(source.game)
    shelf = catalogs_for(host, source, game, catalogs, reporter)
    lock = solve_source(host, source, game, shelf, reporter).solution.lock
    return _Subject(source.name, game, lock, checked_settings(with_content(game, lock), source.settings, source.label))


class _Past(NamedTuple):
    """What past runs have shown; ``bounds`` are advice where that was enough to go by."""

    heap: HeapEvidence | None = None
    process: ProcessEvidence | None = None
    growth: tuple[float, float, float] | None = None
    bounds: tuple[int, int, int] | None = None


def _past(home: InstanceFolder, name: str, game: GameDefinition, *, bounded: bool) -> _Past:
    """What past runs have shown. Raises StateError where none was measured."""
    heap = evidence(gc_runs(home.own)) if home.is_ours else None
    process = process_evidence(process_runs(home.own)) if home.is_ours else None
    if heap is None and (bounded or process is None):
        raise StateError(
            "nothing-measured",
            f"no run of {name} has been measured yet",
            hint="Run it first; runs started by rhizon run are measured (with Java 9 or newer).",
        )
    if heap is not None:
        if heap.events < ENOUGH_EVENTS or heap.seconds < ENOUGH_SECONDS:
            return _Past(heap, process)
        settled = tuple(
            point for point in heap.live if point[0] >= heap.live[-1][0] / 4
        )  # before that it is not a leak
        return _Past(heap, process, trend(settled), advice(heap.live_mib, game.memory.least_mib))
    assert process is not None
    if process.seconds < ENOUGH_SECONDS:
        return _Past(heap, process)
    return _Past(heap, process, trend(process.points), process_advice(process.peak_mib, 0))


def _default(game: GameDefinition, name: str) -> str | int | bool:
    return game.settings[name].default if name in game.settings else 0


def _by_model(
    game: GameDefinition, lock: Lock, settings: dict[str, str | int | bool], made: MemoryBudget
) -> tuple[int, int, int]:
    """Without players at least, as budgeted, and twice that at most."""
    empty = budget(game, lock.releases, {**settings, "max_players": 0}).heap_mib
    least = lock.pack_memory.least_mib if lock.pack_memory is not None else 0
    return min(max(empty, least, game.memory.least_mib), made.heap_mib), made.heap_mib, made.heap_mib * 2


def _fit(free: int, lowest: int, recommended: int, outside: int) -> tuple[Fit, str]:
    """Whether the memory fits, and what to do instead."""
    if recommended + outside <= free * TIGHT_SHARE:
        return "fits", ""
    if recommended + outside <= free:
        return "tight", "It needs nearly all that is free; do not grant memory to another server on this machine."
    if lowest + outside <= free:
        heap = free - outside
        return "tight", f"{heap} MiB of heap is what this machine can grant: --memory {heap}, with fewer players."
    return (
        "does not fit",
        "Plan fewer players, a smaller world or less content; or forget another server.",
    )
