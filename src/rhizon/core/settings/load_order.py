"""The order of a loader's list of what is enabled: what a piece of content needs comes before it."""

from collections.abc import Mapping, Sequence

from rhizon.core.model.game import GameDefinition
from rhizon.core.model.lock import Lock
from rhizon.core.model.setting import NAME_WORD
from rhizon.core.settings.apply import name_in
from rhizon.core.settings.dialects import Dialect
from rhizon.core.settings.dialects.spans import SpanDialect

__all__ = ["in_load_order", "misplaced", "put_in_load_order"]


def in_load_order(present: Sequence[str], lock: Lock) -> list[str]:
    """The same names, each behind what it needs; else as they were. A circle of needs is cut at its first name."""
    needs: dict[str, set[str]] = {name: set() for name in present}
    for one in lock.releases:
        for other in one.because:
            if other in needs and one.id in needs and other != one.id:
                needs[other].add(one.id)
    left, made = list(dict.fromkeys(present)), []
    while left:
        following = next((name for name in left if not needs[name] & set(left)), left[0])
        left.remove(following)
        made.append(following)
    return made


def put_in_load_order(game: GameDefinition, lock: Lock, path: str, dialect: Dialect, data: bytes) -> bytes:
    """A settings file with its list of what is enabled in order; unchanged where it is none, or in order already."""
    place = game.loaders[lock.target.loader].enabled
    if place is None or place.file != path or not isinstance(dialect, SpanDialect):
        return data
    named = _named(dialect.read(data), place.key)
    names = list(named)
    wanted = in_load_order(names, lock)
    return data if wanted == names else dialect.permuted(data, [named[name] for name in wanted])


def misplaced(game: GameDefinition, lock: Lock, values: Mapping[str, str]) -> list[tuple[str, str]]:
    """What is loaded before something that it needs, and that, by the values of the file that has the list."""
    place = game.loaders[lock.target.loader].enabled
    if place is None:
        return []
    names = [name for key in values if (name := name_in(place, key)) is not None]
    at = {name: number for number, name in enumerate(names)}
    return [
        (other, one.id)
        for one in lock.releases
        for other in one.because
        if one.id in at and other in at and at[other] < at[one.id] and one.id not in _needed_by(lock, one.id, other)
    ]


def _needed_by(lock: Lock, first: str, second: str) -> tuple[str, ...]:
    """Of two that need each other the first, whose place says nothing."""
    because = {one.id: one.because for one in lock.releases}
    return (first,) if first in because.get(second, ()) else ()


def _named(values: Mapping[str, str], pattern: str) -> dict[str, str]:
    """The keys of a list of names, by name, in the order of the file."""
    head, _, tail = pattern.partition(NAME_WORD)
    return {
        key[len(head) : len(key) - len(tail)]: key
        for key in values
        if len(key) > len(head) + len(tail) and key.startswith(head) and key.endswith(tail)
    }
