"""JSON (RFC 8259). Keys are the names on the way, joined by ``/``; elements of an array by their number."""

import json
import re
from collections.abc import Iterator
from typing import NamedTuple

from rhizon.core.settings.dialects.spans import Found, Scalar, SpanDialect, line_end

__all__ = ["Json"]

_BLANK = re.compile(r"[ \t\r\n]*")
_STRING = re.compile(r'"(?:[^"\\]|\\.)*"')
_OTHER = re.compile(r"[^\s,\]}]+")


class _Node(NamedTuple):
    """A value in the text; ``members`` of an object or array by name, with where each begins."""

    start: int
    end: int
    members: "dict[str, tuple[int, _Node]] | None"


def _node(text: str, at: int) -> _Node:
    """The value that begins at or after ``at``; the text is known to be JSON."""
    start = _BLANK.match(text, at).end()  # type: ignore[union-attr]
    if text[start] not in "{[":
        end = (_STRING if text[start] == '"' else _OTHER).match(text, start).end()  # type: ignore[union-attr]
        return _Node(start, end, None)
    members: dict[str, tuple[int, _Node]] = {}
    at = _BLANK.match(text, start + 1).end()  # type: ignore[union-attr]
    while text[at] not in "}]":
        begin, name = at, str(len(members))
        if text[start] == "{":
            quoted = _STRING.match(text, at)
            assert quoted is not None
            name = json.loads(quoted[0])
            at = _BLANK.match(text, quoted.end()).end() + 1  # type: ignore[union-attr]
        one = _node(text, at)
        members[name] = (begin, one)
        at = _BLANK.match(text, one.end).end()  # type: ignore[union-attr]
        if text[at] == ",":
            at = _BLANK.match(text, at + 1).end()  # type: ignore[union-attr]
    return _Node(start, at + 1, members)


class Json(SpanDialect):
    """No library edits JSON and keeps its layout."""

    def _root(self, text: str) -> _Node:
        try:
            known = json.loads(text)
        except ValueError as broken:
            raise ValueError(f"not JSON: {broken}") from None
        except RecursionError:
            raise ValueError("not JSON that can be read: it is nested too deeply") from None
        if not isinstance(known, dict):
            raise ValueError("an object is expected")
        return _node(text, 0)

    def find(self, text: str) -> dict[str, Found]:
        if not text.strip():
            return {}
        return dict(self._below(text, self._root(text), ""))

    def _below(self, text: str, node: _Node, prefix: str) -> Iterator[tuple[str, Found]]:
        members = list((node.members or {}).items())
        for number, (name, (begin, one)) in enumerate(members):
            if one.members is not None:
                yield from self._below(text, one, f"{prefix}{name}/")
                continue
            value = json.loads(text[one.start : one.end])
            if number + 1 < len(members):
                whole = (begin, members[number + 1][1][0])
            else:
                whole = (members[number - 1][1][1].end if number else begin, one.end)
            yield prefix + name, Found(self.spell(value), one.start, one.end, whole)

    def spell(self, value: object) -> str:
        return value if isinstance(value, str) else json.dumps(value)

    def write(self, value: Scalar, old: str | None) -> str:
        if isinstance(value, str) and old is not None and not old.startswith('"'):
            try:  # a number or flag stays one
                known = json.loads(value)
            except ValueError:
                known = None
            if known is not None and type(known) is type(json.loads(old)):
                return value
        return json.dumps(value, ensure_ascii=False)

    def add(self, text: str, key: str, value: Scalar) -> str:
        end = line_end(text)
        if not text.strip():
            text = "{" + end + "}" + end
        node = self._root(text)
        parts = key.split("/")
        while len(parts) > 1 and node.members and parts[0] in node.members:
            node = node.members[parts.pop(0)][1]
            if node.members is None or text[node.start] != "{":
                raise ValueError(f"{key}: what stands on the way is no object")
        made = json.dumps(parts[0]) + ": " + "".join(f"{{{json.dumps(part)}: " for part in parts[1:])
        made += self.write(value, None) + "}" * (len(parts) - 1)
        if node.members:
            begin, last = list(node.members.values())[-1]
            line = text.rfind("\n", 0, begin) + 1
            alone = not text[line:begin].strip()
            lead = end + text[line:begin] if alone else " "
            return text[: last.end] + "," + lead + made + text[last.end :]
        line = text.rfind("\n", 0, node.start) + 1
        indent = text[line : len(text[:line]) + len(text[line:]) - len(text[line:].lstrip(" \t"))]
        return text[: node.start + 1] + f"{end}{indent}  {made}{end}{indent}" + text[node.end - 1 :]
