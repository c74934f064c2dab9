"""Small changes of a question that make it answerable; each is tried before it is named."""

import re
from collections.abc import Callable, Iterator, Mapping
from functools import partial
from typing import Literal, NamedTuple, Protocol

import msgspec

from rhizon.core.model.catalog import Release
from rhizon.core.model.contentlist import CHANNELS, TargetWish, Wish
from rhizon.core.model.lock import Target
from rhizon.core.solve.problem import Request
from rhizon.core.solve.reasons import Fact, Limit, Wished
from rhizon.core.solve.watch import GaveUpError
from rhizon.core.version import parse_range

__all__ = ["Attempt", "Fit", "Repair", "Repairs", "repairs"]

MOST_REMOVED = 16  # wishes of which it is tried whether the list can be had without each
MOST_TRIED = 24  # other changes: each is a search of its own
MOST_NAMED = 3

Kind = Literal["channel", "exclusion", "range", "target", "drop"]


Change = Callable[[Request], Request]


class Repair(NamedTuple):
    """One change, in words; ``item`` where it is about one. With it a solution was really found."""

    kind: Kind
    item: str | None
    text: str
    change: Change


class Fit(NamedTuple):
    """A solution of a changed question, as far as a repair speaks of it: its target, and releases by item."""

    target: Target
    chosen: Mapping[str, Release]


class Attempt(Protocol):
    """Answers a changed question, or None when it has no solution: on the targets that failed where the change is about
    one item, else on any. Raises GaveUpError."""

    def __call__(self, changed: Request, item: str | None) -> Fit | None: ...


class Repairs(NamedTuple):
    """What lifts a clash, the least change for a person first; ``untried`` is what there was no time for, in words."""

    found: tuple[Repair, ...]
    untried: tuple[str, ...]


class _Candidate(NamedTuple):
    """A change to try; ``text`` empty is worded by what the solution then takes."""

    kind: Kind
    item: str | None
    change: Change
    text: str = ""

    def words(self, before: Request, fit: Fit) -> str:
        if self.text:
            return self.text
        return _on(before.game, fit.target) if self.item is None else _widened(before, fit, self.item)


def repairs(request: Request, core: list[Fact], attempt: Attempt) -> Repairs:
    """Removals are tried first, so that nobody hears that no change helps where one does; named are the least changes:
    a range, an exclusion, another target, a channel, an item less."""
    kept: list[tuple[int, Repair]] = []
    untried: list[str] = []
    over = False
    for candidates, most, named in (
        (_removals(request, core), MOST_REMOVED, MOST_NAMED),
        (_changes(request, core), MOST_TRIED, MOST_NAMED),
    ):
        found = 0
        for number, one in enumerate(candidates):
            if found == named:
                break
            if one.kind == "channel" and any((other.kind, other.item) == ("channel", one.item) for _, other in kept):
                continue  # a more settled channel does
            if over or number == most:
                untried.append(_LEFT[one.kind].format(item=one.item))
                continue
            try:
                fit = attempt(one.change(request), one.item)
            except GaveUpError:
                over = True
                untried.append(_LEFT[one.kind].format(item=one.item))
                continue
            if fit is not None:
                repair = Repair(one.kind, one.item, one.words(request, fit), one.change)
                if repair.text not in [other.text for _, other in kept]:
                    kept.append((_rank(one, fit), repair))
                    found += 1
    kept.sort(key=lambda one: one[0])
    return Repairs(tuple(repair for _, repair in kept[:MOST_NAMED]), tuple(dict.fromkeys(untried)))


_LEFT: Mapping[Kind, str] = {
    "channel": "other channels of {item}",
    "exclusion": "without the exclusion of {item}",
    "range": "other releases of {item}",
    "target": "other targets",
    "drop": "without {item}",
}


def _rank(one: _Candidate, fit: Fit) -> int:
    """How much a person gives up: a stable release goes before one that is not."""
    order: tuple[Kind, ...] = ("range", "exclusion", "target", "channel", "drop")
    taken = fit.chosen.get(one.item) if one.item is not None else None
    settled = taken is None or taken.channel == CHANNELS[0]
    return order.index(one.kind) + (0 if settled or one.kind == "channel" else 3)


def _removals(request: Request, core: list[Fact]) -> Iterator[_Candidate]:
    """One wish less, the later ones first."""
    wished = [fact.item for fact in core if isinstance(fact, Wished)]
    barred = [fact.item for fact in core if isinstance(fact, Limit) and fact.item in request.wishes]
    order = list(request.wishes)
    for item in sorted(dict.fromkeys((*wished, *barred)), key=order.index, reverse=True):
        yield _Candidate("drop", item, partial(_less, item), f"remove {item}, or mark it optional")


def _changes(request: Request, core: list[Fact]) -> Iterator[_Candidate]:
    """Other changes worth a try, those that change least first."""
    for item in dict.fromkeys(fact.item for fact in core if isinstance(fact, Wished)):
        wish = request.wishes[item]
        if not wish.range.open:
            open_one = msgspec.structs.replace(wish, range=parse_range("*"))
            yield _Candidate("range", item, partial(_with_wish, item, open_one))
    excluded = [fact.item for fact in core if isinstance(fact, Limit) and fact.item in request.exclude]
    for item in dict.fromkeys(excluded):
        yield _Candidate("exclusion", item, partial(_admitted, item), f"do not exclude {item}")
    if any(isinstance(fact, Limit) for fact in core):  # else the clash is the same on every target
        yield from _targets(request)
    yield from _channels(request, core)


def _channels(request: Request, core: list[Fact]) -> Iterator[_Candidate]:
    items = dict.fromkeys(fact.item for fact in core if isinstance(fact, Limit) and "channel" in fact.reason)
    for item in items:
        own = CHANNELS.index(request.channel_of(item))
        for channel in CHANNELS[own + 1 :]:
            wish = msgspec.structs.replace(request.wishes.get(item, Wish()), channel=channel)
            text = f"allow {channel} releases of {item}: {_entry(item, wish)}"
            yield _Candidate("channel", item, partial(_with_wish, item, wish), text)


def _entry(item: str, wish: Wish) -> str:
    """The whole line of a list."""
    name = item if re.fullmatch(r"[A-Za-z0-9_-]+", item) else f'"{item}"'
    parts = [] if wish.range.open else [f'range = "{wish.range}"']
    parts.append(f'channel = "{wish.channel}"')
    return f"{name} = {{ {', '.join(parts)} }} in [content]"


def _targets(request: Request) -> Iterator[_Candidate]:
    """Each fixed part of the target left open, then all of them."""
    wish, free = request.target, TargetWish()
    parts = [name for name in wish.__struct_fields__ if getattr(wish, name) != getattr(free, name)]
    for part in parts:
        target = msgspec.structs.replace(wish, **{part: getattr(free, part)})
        yield _Candidate("target", None, partial(_aimed, target))
    if len(parts) > 1:
        yield _Candidate("target", None, partial(_aimed, free))


def _less(item: str, request: Request) -> Request:
    wishes = {name: wish for name, wish in request.wishes.items() if name != item}
    return msgspec.structs.replace(request, wishes=wishes)


def _admitted(item: str, request: Request) -> Request:
    return msgspec.structs.replace(request, exclude=request.exclude - {item})


def _aimed(target: TargetWish, request: Request) -> Request:
    return msgspec.structs.replace(request, target=target)


def _with_wish(item: str, wish: Wish, request: Request) -> Request:
    return msgspec.structs.replace(request, wishes={**request.wishes, item: wish})


def _widened(request: Request, fit: Fit, item: str) -> str:
    return f"use {item} {fit.chosen[item].version} ({request.source} asks for {request.wishes[item].range})"


def _on(game: str, target: Target) -> str:
    runtime = f", {target.runtime.capitalize()} {target.runtime_major}" if target.runtime_major else ""
    return f"use {target.words_for(game)}{runtime}"
