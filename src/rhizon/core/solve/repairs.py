"""Small changes of a question that make it answerable; each is tried before it is named."""

from collections.abc import Iterator, Mapping
from typing import Literal, NamedTuple, Protocol

import msgspec

from rhizon.core.model.catalog import Release
from rhizon.core.model.contentlist import CHANNELS, TargetWish, Wish
from rhizon.core.model.lock import Target
from rhizon.core.solve.problem import Request
from rhizon.core.solve.reasons import Fact, Limit, Wished
from rhizon.core.version import parse_range

__all__ = ["Attempt", "Fit", "Repair", "repairs"]

# Each is a search of its own: the first few, best ranked, are what people choose from.
MOST_TRIED = 8
MOST_NAMED = 3

Kind = Literal["channel", "exclusion", "range", "target", "drop"]


class Repair(msgspec.Struct, frozen=True, kw_only=True):
    """One change, in words; ``item`` where it is about one. With it a solution was really found."""

    kind: Kind
    item: str | None
    text: str


class Fit(NamedTuple):
    """A solution of a changed question, as far as a repair speaks of it: its target, and releases by item."""

    target: Target
    chosen: Mapping[str, Release]


class Attempt(Protocol):
    """Answers a changed question, or None when it has no solution: on the target that failed where the change is about
    one item, else on any."""

    def __call__(self, changed: Request, item: str | None) -> Fit | None: ...


class _Candidate(msgspec.Struct, frozen=True):
    """A change to try; ``text`` empty is worded by what the solution then takes."""

    kind: Kind
    item: str | None
    request: Request
    text: str = ""

    def words(self, before: Request, fit: Fit) -> str:
        if self.text:
            return self.text
        return _on(before.game, fit.target) if self.item is None else _widened(before, fit, self.item)


def repairs(request: Request, core: list[Fact], attempt: Attempt) -> list[Repair]:
    """Ranked: a channel or an exclusion, a range, another target, an item less."""
    found: list[Repair] = []
    for number, one in enumerate(_candidates(request, core)):
        if number == MOST_TRIED or len(found) == MOST_NAMED:
            break
        fit = attempt(one.request, one.item)
        if fit is not None:
            repair = Repair(kind=one.kind, item=one.item, text=one.words(request, fit))
            if repair not in found:
                found.append(repair)
    return found


def _candidates(request: Request, core: list[Fact]) -> Iterator[_Candidate]:
    """Changes worth a try, those that change least first."""
    yield from _channels(request, core)
    excluded = [fact.item for fact in core if isinstance(fact, Limit) and fact.item in request.exclude]
    for item in dict.fromkeys(excluded):
        changed = msgspec.structs.replace(request, exclude=request.exclude - {item})
        yield _Candidate("exclusion", item, changed, f"do not exclude {item}")
    wished = [fact.item for fact in core if isinstance(fact, Wished)]
    for item in wished:
        wish = request.wishes[item]
        if not wish.range.open:
            changed = _with_wish(request, item, msgspec.structs.replace(wish, range=parse_range("*")))
            yield _Candidate("range", item, changed)
    if any(isinstance(fact, Limit) for fact in core):  # else the clash is the same on every target
        yield from _targets(request)
    barred = [fact.item for fact in core if isinstance(fact, Limit) and fact.item in request.wishes]
    for item in dict.fromkeys((*reversed(wished), *barred)):
        rest = {name: wish for name, wish in request.wishes.items() if name != item}
        changed = msgspec.structs.replace(request, wishes=rest)
        yield _Candidate("drop", item, changed, f"remove {item}, or mark it optional")


def _channels(request: Request, core: list[Fact]) -> Iterator[_Candidate]:
    items = dict.fromkeys(fact.item for fact in core if isinstance(fact, Limit) and "channel" in fact.reason)
    for item in items:
        own = CHANNELS.index(request.channel_of(item))
        for channel in CHANNELS[own + 1 :]:
            changed = msgspec.structs.replace(request, channels={**request.channels, item: channel})
            text = f"allow {channel} releases of {item}"
            yield _Candidate("channel", item, changed, text)


def _targets(request: Request) -> Iterator[_Candidate]:
    """Each fixed part of the target left open, then all of them."""
    wish, free = request.target, TargetWish()
    parts = [name for name in wish.__struct_fields__ if getattr(wish, name) != getattr(free, name)]
    for part in parts:
        target = msgspec.structs.replace(wish, **{part: getattr(free, part)})
        changed = msgspec.structs.replace(request, target=target)
        yield _Candidate("target", None, changed)
    if len(parts) > 1:
        yield _Candidate("target", None, msgspec.structs.replace(request, target=free))


def _with_wish(request: Request, item: str, wish: Wish) -> Request:
    wishes = {name: wish if name == item else one for name, one in request.wishes.items()}
    return msgspec.structs.replace(request, wishes=wishes)


def _widened(request: Request, fit: Fit, item: str) -> str:
    return f"use {item} {fit.chosen[item].version} ({request.source} asks for {request.wishes[item].range})"


def _on(game: str, target: Target) -> str:
    runtime = f", {target.runtime.capitalize()} {target.runtime_major}" if target.runtime_major else ""
    return f"use {target.words_for(game)}{runtime}"
