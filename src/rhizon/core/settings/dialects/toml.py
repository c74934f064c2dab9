"""TOML. Keys are the names on the way, joined by ``/``; those of an array of different texts end in the text in
brackets, ``crew/[Aud]``, which is there or not."""

import json
import re
from collections.abc import Iterator, Mapping
from typing import Any

from rhizon.core.settings.dialects.spans import NotWritableError, Scalar, decoded, elements_checked, verify_edit
from rhizon.core.toml_reading import read_toml

__all__ = ["Toml"]


_LINES = re.compile(r"[^\n]*\n|[^\n]+")  # what else Unicode calls the end of a line may stand in a text
_HEAD = re.compile(r"[ \t]*\[(?P<name>[A-Za-z0-9_. \t-]+)\][ \t]*(?:#.*)?")
_LINE = re.compile(
    r"[ \t]*(?P<key>[A-Za-z0-9_-]+)[ \t]*=[ \t]*"
    r"""(?P<value>"(?:[^"\\\r\n]|\\.)*"|'[^'\r\n]*'|[^\s"'#\[\]{},]+)[ \t]*(?:\#.*)?"""
)
_ANOTHER = ("\n",)  # a table that no key leads into
# texts and lists that go over several lines, which could hold lines that look like others
_OVER_LINES = re.compile(r"""\"{3}|'{3}|[\[,][ \t]*(?:\#[^\n]*)?\r?$""", re.MULTILINE)


class Toml:
    """tomlkit keeps comments, order and blanks. A value on a line of its own is put in its place without it, which is
    ten times as fast in a long file; a look at the result sees that it was the right line."""

    def _parsed(self, text: str) -> Any:
        import tomlkit
        from tomlkit.exceptions import TOMLKitError

        try:
            return tomlkit.parse(text)
        except (TOMLKitError, ValueError, RecursionError) as broken:
            raise ValueError(f"not TOML: {broken}") from None

    def spell(self, value: Scalar) -> str:
        """The value as text."""
        return {True: "true", False: "false"}[value] if isinstance(value, bool) else str(value)

    def read(self, data: bytes) -> dict[str, str]:
        """All values by key. Raises ValueError."""
        return dict(self._below(self._loaded(decoded(data, "toml")[0]), ""))

    @staticmethod
    def _loaded(text: str) -> dict[str, Any]:
        try:
            return read_toml(text)  # six times as fast where nothing is to be kept
        except ValueError as broken:
            raise ValueError(f"not TOML: {broken}") from None

    def _below(self, table: Mapping[str, Any], prefix: str) -> Iterator[tuple[str, str]]:
        for name, value in table.items():
            if isinstance(value, Mapping):
                yield from self._below(value, f"{prefix}{name}/")
            elif not isinstance(value, list):
                yield prefix + name, self.spell(value)
            elif all(isinstance(one, str) for one in value) and len(set(value)) == len(value):
                yield from ((f"{prefix}{name}/[{one}]", self.spell(True)) for one in value)

    def edit(self, data: bytes, changes: Mapping[str, Scalar | None]) -> bytes:
        """The file with the changes, layout kept. Raises NotWritableError, ValueError."""
        elements_checked(changes)
        text, encode = decoded(data, "toml")
        known = self._loaded(text)
        there = dict(self._below(known, ""))
        wanted = {
            key: value
            for key, value in changes.items()
            if (value is None and key in there) or (value is not None and there.get(key) != self.spell(value))
        }
        if not wanted:
            return data
        quick = self._in_place(text, known, {tuple(key.split("/")): value for key, value in wanted.items()})
        if quick is not None:
            return encode(quick)
        made = self._laid_out(text, wanted)
        verify_edit(there, self.read(made.encode("utf-8", "surrogateescape")), wanted, self.spell)
        if "\r\n" in text and "\n" not in text.replace("\r\n", ""):
            made = made.replace("\r\n", "\n").replace("\n", "\r\n")
        return encode(made)

    def _laid_out(self, text: str, wanted: Mapping[str, Scalar | None]) -> str:
        """``text`` with the values put where tomlkit puts them."""
        document = self._parsed(text)
        if document.as_string().replace("\r\n", "\n") != text.replace("\r\n", "\n"):
            raise NotWritableError("it has tables of one name in several places, and would be laid out again")
        for key, value in wanted.items():
            try:
                self._put(document, key.split("/"), value)
            except (KeyError, TypeError) as broken:  # a name with a slash in it, or tables written in pieces
                raise NotWritableError(f"{key} was not found at its place") from broken
        return str(document.as_string())

    def _in_place(
        self, text: str, expected: dict[str, Any], wanted: Mapping[tuple[str, ...], Scalar | None]
    ) -> str | None:
        """``text`` with just these values changed; None where that is not as simple as it looks. ``expected`` is what
        it says, and becomes what it is to say."""
        left = {key: value for key, value in wanted.items() if value is not None}
        names = {key[-1] for key in left}
        if len(left) < len(wanted):
            return None
        table: tuple[str, ...] = ()
        plain = _OVER_LINES.search(text) is None
        made = []
        for line in _LINES.findall(text):
            name = line.partition("=")[0].strip()
            if name in names and (*table, name) in left:
                bare = line.rstrip("\r\n")
                match = _LINE.fullmatch(bare)
                place = _found(expected, table)
                if match is None or name not in place:
                    return None
                place[name] = put = _typed(place.get(name), left.pop((*table, name)))
                line = bare[: match.start("value")] + _written(put, match["value"]) + line[match.end("value") :]
            elif name.startswith("["):
                head = _HEAD.fullmatch(line.rstrip("\r\n"))
                plain = plain and head is not None
                # one of many tables, a quoted name: what follows is not in the table before it
                table = tuple(part.strip() for part in head["name"].split(".")) if head is not None else _ANOTHER
            made.append(line)
        if left:
            return None
        if plain:
            return "".join(made)  # every value ends on its line: it was the right one
        try:
            return "".join(made) if self._loaded("".join(made)) == expected else None
        except ValueError:
            return None

    def _put(self, table: Any, parts: list[str], value: Scalar | None) -> None:
        """Sets one key, with the tables on the way to it."""
        import tomlkit

        if parts[-1].startswith("[") and parts[-1].endswith("]") and len(parts) > 1:
            self._put_element(table, parts[:-1], parts[-1][1:-1], there=value is not None)
            return
        for part in parts[:-1]:
            if part not in table:
                table[part] = tomlkit.table()
            table = table[part]
            if not isinstance(table, Mapping):
                raise NotWritableError(f"{'/'.join(parts)}: a part of the path is not a table")
        if value is None:
            del table[parts[-1]]
            return
        old = table.get(parts[-1])
        table[parts[-1]] = _typed(old, value)

    @staticmethod
    def _put_element(table: Any, way: list[str], name: str, *, there: bool) -> None:
        """A text into the array at the end of the way, or out of it."""
        import tomlkit

        for part in way[:-1]:
            if not isinstance(table, dict):
                raise NotWritableError(f"{'/'.join(way)}: a part of the path is not a table")
            table = table.setdefault(part, tomlkit.table())
        array = table.setdefault(way[-1], tomlkit.array()) if isinstance(table, dict) else None
        if not isinstance(array, list) or any(not isinstance(one, str) for one in array):
            raise NotWritableError(f"{'/'.join(way)} is not an array of texts")
        if there:
            array.append(name)
        else:
            array.remove(name)


def _typed(old: object, value: Scalar) -> Scalar:
    """A text as the number or flag that is there already, where it can be one."""
    if isinstance(value, str) and isinstance(old, bool) and value in ("true", "false"):
        return value == "true"
    if isinstance(value, str) and isinstance(old, int) and not isinstance(old, bool) and _whole(value):
        return int(value)
    return value


def _found(document: Any, table: tuple[str, ...]) -> dict[str, Any]:
    """The table, or an empty one where there is none of that name."""
    for part in table:
        document = document.get(part, {}) if isinstance(document, dict) else {}
    return document if isinstance(document, dict) else {}


def _written(value: Scalar, old: str) -> str:
    """A value in the form of the one that is there."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, int):
        return str(value)
    if old.startswith("'") and "'" not in value and value.isprintable():
        return f"'{value}'"
    return json.dumps(value, ensure_ascii=False)


def _whole(text: str) -> bool:
    return text.removeprefix("-").isdecimal()
