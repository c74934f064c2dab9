"""What a refusal can rest on: each fact is a sentence with its source."""

from typing import NamedTuple

from rhizon.core.solve.problem import Request

__all__ = ["Clash", "Fact", "Limit", "Need", "Wished", "sentence"]


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
    """Releases of an item that need one of several others."""

    item: str
    versions: tuple[str, ...]
    wanted: tuple[tuple[str, str], ...]
    missing: bool


class Clash(NamedTuple):
    """Releases of an item that cannot be beside releases of another; ``only`` when they merely restrict them."""

    item: str
    versions: tuple[str, ...]
    other: str
    range: str
    only: bool


Fact = Wished | Limit | Need | Clash


def _listed(versions: tuple[str, ...]) -> str:
    if len(versions) > 8:
        return f"{', '.join(versions[:3])}, … {', '.join(versions[-3:])}"
    return ", ".join(versions)


def _named(item: str, versions: tuple[str, ...]) -> str:
    if len(versions) == 1:
        return f"{item} {versions[0]}"
    if len(versions) <= 3:
        return f"{item} {', '.join(versions[:-1])} and {versions[-1]}"
    return f"{item} {versions[0]} to {versions[-1]} ({len(versions)} releases)"


def _range(item: str, text: str) -> str:
    return item if text == "*" else f"{item} {text}"


def sentence(fact: Fact, request: Request) -> str:
    """The fact in plain words, and where it is."""
    match fact:
        case Wished(item, wanted, there):
            none = f", and none of its releases is ({_listed(there)})" if there else ""
            return f"{request.source} asks for {_range(item, wanted)}{none}"
        case Limit(item, versions, reason, every):
            subject = f"every release of {item}" if every and len(versions) > 1 else _named(item, versions)
            return f"{subject} {reason}"
        case Need(item, versions, wanted, missing):
            what = " or ".join(_range(name, text) for name, text in wanted)
            tail = ", which no catalog has" if missing else ""
            return f"{_named(item, versions)} needs {what}{tail} (declared by {item})"
        case Clash(item, versions, other, wanted, only):
            verb = "takes" if only else "conflicts with"
            return (
                f"{_named(item, versions)} {verb} {_range(other, wanted)}{' only' if only else ''} (declared by {item})"
            )
