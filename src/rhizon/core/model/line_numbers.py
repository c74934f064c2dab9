"""On which line of a TOML text a value stands, for a person who has to fix it."""

import re

__all__ = ["line_of", "lines_of"]

_HEAD = re.compile(r"[ \t]*(?P<open>\[\[?)(?P<name>[^\[\]]+)\]\]?[ \t]*(?:#.*)?$")
_NAME = r"""(?:[A-Za-z0-9_-]+|"[^"]*"|'[^']*')"""
_KEY = re.compile(rf"[ \t]*(?P<key>{_NAME}(?:[ \t]*\.[ \t]*{_NAME})*)[ \t]*=")
_PART = re.compile(_NAME)


def lines_of(text: str) -> dict[str, int]:
    """Tables and keys by their way (``ports[0].default``), each with its line from 1. Read line by line, so that a file
    with other mistakes has lines too; a text over several lines may add ways that no one asks for."""
    found: dict[str, int] = {}
    counts: dict[str, int] = {}
    table = ""
    for number, line in enumerate(text.splitlines(), 1):
        head = _HEAD.match(line)
        if head is not None:
            table = _way(head["name"])
            if head["open"] == "[[":
                counts[table] = counts.get(table, -1) + 1
                table = f"{table}[{counts[table]}]"
            found.setdefault(table, number)
        elif (key := _KEY.match(line)) is not None:
            way = _way(key["key"])
            found.setdefault(f"{table}.{way}" if table else way, number)
    return found


def line_of(found: dict[str, int], place: str) -> int | None:
    """The line of the longest part of a way that has one."""
    while place:
        if place in found:
            return found[place]
        place = place[: max(place.rfind("."), place.rfind("["))] if "." in place or "[" in place else ""
    return None


def _way(name: str) -> str:
    return ".".join(part.strip("\"'") for part in _PART.findall(name))
