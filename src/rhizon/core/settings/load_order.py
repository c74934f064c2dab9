"""The order of a loader's list of what is enabled: what a piece of content needs comes before it."""

from collections.abc import Iterator, Mapping, Sequence
from typing import Protocol, runtime_checkable

from rhizon.core.content_paths import enabled_name, loaded
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.lock import Lock
from rhizon.core.model.setting import NAME_WORD
from rhizon.core.settings.apply import name_in
from rhizon.core.settings.dialects import Dialect

__all__ = ["in_load_order", "misplaced", "put_in_load_order"]


@runtime_checkable
class _Permuting(Protocol):
    """A dialect that can put elements in another order."""

    def permuted(self, data: bytes, keys: Sequence[str], /) -> bytes:
        """See :class:`~rhizon.core.settings.dialects.spans.SpanDialect`."""


def in_load_order(present: Sequence[str], lock: Lock, named: Mapping[str, str] | None = None) -> list[str]:
    """The same names, each behind what it needs and what is to be loaded before it; else as they were. A circle of
    needs is cut at its first name. ``named`` is what the list calls each id, where that is not the id."""
    called = named or {one.id: one.id for one in lock.releases}
    needs: dict[str, set[str]] = {name: set() for name in present}
    for first, second in _pairs(lock):
        before, after = called.get(first, first), called.get(second, second)
        if before in needs and after in needs and before != after:
            needs[after].add(before)
    left, made = list(dict.fromkeys(present)), []
    while left:
        following = next((name for name in left if not needs[name] & set(left)), left[0])
        left.remove(following)
        made.append(following)
    return made


def put_in_load_order(game: GameDefinition, lock: Lock, path: str, dialect: Dialect, data: bytes) -> bytes:
    """A settings file with its list of what is enabled in order; unchanged where it is none, or in order already."""
    place = game.loaders[lock.target.loader].enabled
    if place is None or place.file != path or not isinstance(dialect, _Permuting):
        return data
    named = _named(dialect.read(data), place.key)
    names = list(named)
    wanted = in_load_order(names, lock, _called(game, lock))
    return data if wanted == names else dialect.permuted(data, [named[name] for name in wanted])


def misplaced(game: GameDefinition, lock: Lock, values: Mapping[str, str]) -> list[tuple[str, str]]:
    """What is loaded before something that it needs, and that, by the values of the file that has the list."""
    place = game.loaders[lock.target.loader].enabled
    if place is None:
        return []
    ids = {name: ident for ident, name in _called(game, lock).items()}
    names = [name for key in values if (name := name_in(place, key)) is not None]
    at = {ids.get(name, name): number for number, name in enumerate(names)}
    pairs = set(_pairs(lock))
    return sorted(
        (second, first)
        for first, second in pairs
        if first in at and second in at and at[second] < at[first] and (second, first) not in pairs
    )


def _pairs(lock: Lock) -> Iterator[tuple[str, str]]:
    """What is to be loaded first, and what then: by need, and by the wish of an author. Where two are before each
    other, the place of neither says anything."""
    for one in lock.releases:
        yield from ((one.id, other) for other in one.because)
        yield from ((first, one.id) for first in one.after)


def _called(game: GameDefinition, lock: Lock) -> dict[str, str]:
    """What the list calls each piece that is loaded."""
    return {one.id: enabled_name(game, lock, one) for one in loaded(game, lock)}


def _named(values: Mapping[str, str], pattern: str) -> dict[str, str]:
    """The keys of a list of names, by name, in the order of the file."""
    head, _, tail = pattern.partition(NAME_WORD)
    return {
        key[len(head) : len(key) - len(tail)]: key
        for key in values
        if len(key) > len(head) + len(tail) and key.startswith(head) and key.endswith(tail)
    }
