"""JSON (RFC 8259). Keys are the names on the way, joined by ``/``; elements of an array by their number, and those of
an array that holds texts only, each once, by the text in brackets: ``crew/[Aud]`` is there or not.
"""

import json
import re
from collections.abc import Iterator, Mapping
from typing import NamedTuple

from rhizon.core.settings.dialects.spans import (
    Found,
    NotWritableError,
    Scalar,
    SpanDialect,
    decoded,
    elements_checked,
    line_end,
)

__all__ = ["Json"]

_BLANK = re.compile(r"\s*")
_MEMBER = re.compile(r'[\s,]*(?:(?P<key>"(?:[^"\\]|\\.)*")\s*:\s*)?(?P<value>[{\[]|"(?:[^"\\]|\\.)*"|[^\s,:"{}\[\]]+)')


class _Node(NamedTuple):
    """A value in the text; ``members`` of an object or array by name, with where each begins."""

    start: int
    end: int
    members: "dict[str, tuple[int, _Node]] | None"


def _node(text: str, at: int) -> _Node:
    """The object or array that begins at ``at``; the text is known to be JSON."""
    named = text[at] == "{"
    members: dict[str, tuple[int, _Node]] = {}
    place = at + 1
    while (match := _MEMBER.match(text, place)) is not None:
        key, begin = match["key"], match.start("value")
        name = str(len(members)) if not named else json.loads(key) if "\\" in key else key[1:-1]
        one = _node(text, begin) if text[begin] in "{[" else _Node(begin, match.end(), None)
        if name in members:
            raise NotWritableError(f"{name} is twice in one object; it is ambiguous")
        members[name] = (match.start("key") if named else begin, one)
        place = one.end
    closing = _BLANK.match(text, place)
    assert closing is not None
    return _Node(at, closing.end() + 1, members)


class Json(SpanDialect):
    """No library edits JSON and keeps its layout."""

    language = "json"

    @staticmethod
    def _known(text: str) -> dict[str, object]:
        try:
            known = json.loads(text)
        except ValueError as broken:
            raise ValueError(f"not JSON: {broken}") from None
        except RecursionError:
            raise ValueError("not JSON that can be read: it is nested too deeply") from None
        if not isinstance(known, dict):
            raise ValueError("an object is expected")
        return known

    def _root(self, text: str) -> _Node:
        self._known(text)
        return _node(text, text.index("{"))

    def read(self, data: bytes) -> dict[str, str]:
        """All values by key. Raises ValueError."""
        text = decoded(data, "json")[0]  # where values are need not be known
        return dict(self._flat(self._known(text), "")) if text.strip() else {}

    def _flat(self, value: object, prefix: str) -> Iterator[tuple[str, str]]:
        """The values of an object by their path."""
        if isinstance(value, list):
            if value and all(isinstance(one, str) for one in value) and len(set(value)) == len(value):
                yield from ((f"{prefix}[{one}]", self.spell(True)) for one in value)
                return
            value = {str(number): one for number, one in enumerate(value)}
        assert isinstance(value, dict)
        for name, one in value.items():
            if isinstance(one, dict | list):
                yield from self._flat(one, f"{prefix}{name}/")
            else:
                yield prefix + name, self.spell(one)

    def find(self, text: str) -> dict[str, Found]:
        """Every value with its place."""
        if not text.strip():
            return {}
        return dict(self._below(text, self._root(text), ""))

    def _below(self, text: str, node: _Node, prefix: str) -> Iterator[tuple[str, Found]]:
        """The spans of the values below an object or array."""
        members = list((node.members or {}).items())
        by_text = self._texts(text, node)
        for number, (name, (begin, one)) in enumerate(members):
            if one.members is not None:
                yield from self._below(text, one, f"{prefix}{name}/")
                continue
            value = json.loads(text[one.start : one.end])
            if number + 1 < len(members):
                whole = (begin, members[number + 1][1][0])
            else:
                whole = (members[number - 1][1][1].end if number else begin, one.end)
            if by_text:
                yield f"{prefix}[{value}]", Found(self.spell(True), one.start, one.end, whole)
            else:
                yield prefix + name, Found(self.spell(value), one.start, one.end, whole)

    @staticmethod
    def _texts(text: str, node: _Node) -> bool:
        """Whether it is an array of texts that are all different."""
        if node.members is None or text[node.start] != "[":
            return False
        raw = [text[one.start : one.end] for _, one in node.members.values()]
        return all(one.startswith('"') for one in raw) and len(set(raw)) == len(raw)

    def spell(self, value: object) -> str:
        """The value as text."""
        return value if isinstance(value, str) else json.dumps(value)

    def edit(self, data: bytes, changes: Mapping[str, Scalar | None]) -> bytes:
        """The file with the changes. Raises NotWritableError, ValueError."""
        elements_checked(changes)
        there = self.read(data)
        same = all(there.get(key) == (value if value is None else self.spell(value)) for key, value in changes.items())
        return data if same else super().edit(data, changes)

    def write(self, value: Scalar, old: str | None) -> str:
        """The value in the form of the old one."""
        if isinstance(value, str) and old is not None and not old.startswith('"'):
            try:  # a number or flag stays one
                known = json.loads(value)
            except ValueError:
                known = None
            if known is not None and type(known) is type(json.loads(old)):
                return value
        return json.dumps(value, ensure_ascii=False)

    def add(self, text: str, key: str, value: Scalar) -> str:
        """A new member in the nearest object that is there. Raises NotWritableError where a part of the path is not an
        object."""
        if not text.strip():
            text = f"{{{line_end(text)}}}{line_end(text)}"
        node = self._root(text)
        parts = key.split("/")
        element = re.fullmatch(r"\[(.*)\]", parts[-1])
        if element is not None:
            return self._add_element(text, node, parts[:-1], element[1])
        while len(parts) > 1 and node.members and parts[0] in node.members:
            node = node.members[parts.pop(0)][1]
            if node.members is None or text[node.start] != "{":
                raise NotWritableError(f"{key}: a part of the path is not an object")
        return self._with_member(text, node, self._nested(parts, self.write(value, None)))

    def _add_element(self, text: str, root: _Node, way: list[str], name: str) -> str:
        """``name`` at the end of the array at the end of the way."""
        node = root
        for number, part in enumerate(way):
            if node.members is None or text[node.start] != "{":
                raise NotWritableError(f"{'/'.join(way)}: a part of the path is not an object")
            if part not in node.members:
                return self._with_member(text, node, self._nested(way[number:], f"[{json.dumps(name)}]"))
            node = node.members[part][1]
        if text[node.start] != "[" or (node.members and not self._texts(text, node)):
            raise NotWritableError(f"{'/'.join(way)} is not an array of distinct texts")
        return self._with_member(text, node, json.dumps(name, ensure_ascii=False))

    @staticmethod
    def _nested(parts: list[str], value: str) -> str:
        """A member with ``value`` at the end of ``parts``."""
        made = json.dumps(parts[0]) + ": " + "".join(f"{{{json.dumps(part)}: " for part in parts[1:])
        return made + value + "}" * (len(parts) - 1)

    @staticmethod
    def _with_member(text: str, node: _Node, made: str) -> str:
        """``made`` as the last member of an object or array, laid out as those before it are."""
        end = line_end(text)
        if node.members:
            begin, last = list(node.members.values())[-1]
            line = text.rfind("\n", 0, begin) + 1
            alone = not text[line:begin].strip()
            lead = end + text[line:begin] if alone else " "
            return text[: last.end] + "," + lead + made + text[last.end :]
        line = text.rfind("\n", 0, node.start) + 1
        indent = text[line : len(text[:line]) + len(text[line:]) - len(text[line:].lstrip(" \t"))]
        return text[: node.start + 1] + f"{end}{indent}  {made}{end}{indent}" + text[node.end - 1 :]
