"""A document that says only what is different from another one."""

from collections.abc import Mapping
from typing import Any

__all__ = ["KEYS_OF_LISTS", "extended"]

# Tables in a list are the same table where this field is; other lists are replaced whole.
KEYS_OF_LISTS = {"ports": "role", "failures": "code", "progress": "label"}


def extended(base: Mapping[str, Any], own: Mapping[str, Any]) -> dict[str, Any]:
    """``base`` with what ``own`` says in its place. Tables are put together field by field, and so are ports by their
    role, failures by their code and progress by its label; any other value or list of ``own`` counts alone, and a text
    ``"none"`` for a whole table takes it out."""
    made = dict(base)
    for name, value in own.items():
        before = made.get(name)
        if isinstance(before, Mapping) and isinstance(value, Mapping):
            made[name] = extended(before, value)
        elif isinstance(before, Mapping | list) and value == "none":
            del made[name]
        elif isinstance(before, list) and isinstance(value, list) and name in KEYS_OF_LISTS:
            made[name] = _by_key(before, value, KEYS_OF_LISTS[name])
        else:
            made[name] = value
    return made


def _by_key(before: list[Any], own: list[Any], key: str) -> list[Any]:
    """The tables of both lists: one that both have is put together, in its old place."""
    tables = [one for one in own if isinstance(one, Mapping)]
    named = {one.get(key): one for one in tables}
    made = [
        extended(one, named.pop(one.get(key))) if isinstance(one, Mapping) and one.get(key) in named else one
        for one in before
    ]
    return [*made, *(one for one in own if not isinstance(one, Mapping) or named.get(one.get(key)) is one)]
