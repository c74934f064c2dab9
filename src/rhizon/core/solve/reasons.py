"""What a refusal can rest on: each fact is a sentence with its source."""

import re
from collections.abc import Sequence
from typing import NamedTuple

from rhizon.core.solve.problem import Request

__all__ = ["Chain", "Clash", "Fact", "Folded", "Limit", "Need", "Wished", "joined", "natural", "sentence"]

MOST_NAMES = 8


class Wished(NamedTuple):
    """The list wishes for an item; ``there`` are its releases when none is in the range."""

    item: str
    range: str
    there: tuple[str, ...] = ()


class Limit(NamedTuple):
    """Releases of an item that the target or the list does not admit, all for one reason.

    ``reason`` completes "2.0 ..."; ``all`` when no release is outside of it.
    """

    item: str
    versions: tuple[str, ...]
    reason: str
    all: bool


class Need(NamedTuple):
    """Releases of an item that need one of several others; ``there`` are the releases of those when none of them is in
    the range."""

    item: str
    versions: tuple[str, ...]
    wanted: tuple[tuple[str, str], ...]
    missing: bool
    there: tuple[tuple[str, tuple[str, ...]], ...] = ()


class Clash(NamedTuple):
    """Releases of an item that cannot be beside releases of another; ``only`` when they merely restrict them."""

    item: str
    versions: tuple[str, ...]
    other: str
    range: str
    only: bool


Fact = Wished | Limit | Need | Clash


class Folded(NamedTuple):
    """Facts of one kind that are told in one sentence."""

    facts: tuple[Fact, ...]


class Chain(NamedTuple):
    """Needs of which each leads to the next, told in one sentence."""

    facts: tuple[Need, ...]


def natural(text: str) -> tuple[tuple[int, str], ...]:
    """A key by which a2 comes before a10."""
    return tuple((int(one), "") if one.isdecimal() else (-1, one) for one in re.split(r"(\d{1,18})", text))


def _listed(versions: tuple[str, ...]) -> str:
    if len(versions) > 8:
        return f"{', '.join(versions[:3])}, … {', '.join(versions[-3:])}"
    return ", ".join(versions)


def joined(names: Sequence[str], word: str = "and") -> str:
    """Names with commas, the last after a word; of many the first ones and how many more."""
    if len(names) > MOST_NAMES:
        return f"{', '.join(names[: MOST_NAMES - 1])} {word} {len(names) - MOST_NAMES + 1} more"
    return f"{', '.join(names[:-1])} {word} {names[-1]}" if len(names) > 1 else names[0]


def _named(item: str, versions: tuple[str, ...]) -> str:
    if len(versions) == 1:
        return f"{item} {versions[0]}"
    if len(versions) <= 3:
        return f"{item} {', '.join(versions[:-1])} and {versions[-1]}"
    return f"{item} {versions[0]} to {versions[-1]} ({len(versions)} releases)"


def _range(item: str, text: str) -> str:
    return item if text == "*" else f"{item} {text}"


def _verb(versions: Sequence[object], one: str, several: str) -> str:
    return one if len(versions) == 1 else several


def sentence(fact: Fact | Folded | Chain, request: Request) -> str:
    """The fact in plain words, and where it is."""
    match fact:
        case Folded(facts):
            return _together(facts, request)
        case Chain(needs):
            first, last = needs[0], needs[-1]
            between = joined([one.item for one in needs[1:]])
            return f"{_named(first.item, first.versions)} needs {_range(*last.wanted[0])} by way of {between}"
        case Wished(item, wanted, there):
            none = f"; {item} has only {_listed(there)}" if there else ""
            return f"{request.source} asks for {_range(item, wanted)}{none}"
        case Limit(item, versions, reason, every):
            subject = f"every release of {item}" if every and len(versions) > 1 else _named(item, versions)
            return f"{subject} {_agreed(reason, versions if not every else ())}"
        case Need(item, versions, wanted, missing, there):
            what = joined([_range(name, text) for name, text in wanted], "or")
            verb = _verb(versions, "needs", "need")
            tail = ", which no catalog has" if missing else ""
            only = "".join(f"; {name} has only {_listed(found)}" for name, found in there)
            return f"{_named(item, versions)} {verb} {what}{tail} (declared by {item}){only}"
        case Clash(item, versions, other, wanted, only):
            verb = _verb(versions, "takes", "take") if only else _verb(versions, "conflicts with", "conflict with")
            return (
                f"{_named(item, versions)} {verb} {_range(other, wanted)}{' only' if only else ''} (declared by {item})"
            )


def _agreed(reason: str, versions: tuple[str, ...]) -> str:
    """What is said of one release, said of several."""
    if len(versions) < 2:
        return reason
    first, _, rest = reason.partition(" ")
    return f"{_SEVERAL.get(first, first)} {rest}"


_SEVERAL = {"is": "are", "was": "were", "requires": "require"}


def _together(facts: tuple[Fact, ...], request: Request) -> str:
    """Several facts of one kind in a sentence."""
    names = sorted(dict.fromkeys(fact.item for fact in facts), key=natural)
    first = facts[0]
    if isinstance(first, Wished):
        return f"{request.source} asks for {joined(names)}"
    if isinstance(first, Limit):
        each = [_named(one.item, one.versions) for one in facts if isinstance(one, Limit)]
        return f"{joined(sorted(each, key=natural))} {_agreed(first.reason, ('', ''))}"
    if isinstance(first, Need):
        wanted = [_range(*one.wanted[0]) for one in facts if isinstance(one, Need)]
        verb = _verb(first.versions, "needs", "need")
        what = joined(sorted(wanted, key=natural))
        return f"{_named(first.item, first.versions)} {verb} {what} (declared by {first.item})"
    others = sorted((_range(one.other, one.range) for one in facts if isinstance(one, Clash)), key=natural)
    verb = _verb(first.versions, "conflicts with", "conflict with")
    if first.only:
        verb = _verb(first.versions, "takes", "take")
    only = " only" if first.only else ""
    return f"{_named(first.item, first.versions)} {verb} {joined(others)}{only} (declared by {first.item})"
