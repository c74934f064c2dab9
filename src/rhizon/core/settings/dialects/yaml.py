"""YAML 1.2. Keys are the names on the way, joined by ``/``; elements of a sequence by their number."""

import json
import re
from collections.abc import Iterator
from typing import Any

from rhizon.core.settings.dialects.spans import Found, Scalar, SpanDialect, line_end

__all__ = ["Yaml"]

_PLAIN = re.compile(r"[A-Za-z_/][\w./+-]*(?: [\w./+(),-]+)*")
_WORDS = re.compile(r"(?i)true|false|yes|no|on|off|null|y|n")
_NUMBER = re.compile(r"[-+]?\d+(?:\.\d+)?")


class Yaml(SpanDialect):
    """ruamel.yaml says where each value stands; what it would write again it would also lay out anew."""

    def _root(self, text: str) -> Any:
        from ruamel.yaml import YAML
        from ruamel.yaml.error import YAMLError

        try:
            root = YAML(typ="rt").compose(text)
        except (YAMLError, ValueError, RecursionError) as broken:
            raise ValueError(f"not YAML: {' '.join(str(broken).split())[:200]}") from None
        if root is not None and getattr(root, "id", "") != "mapping":
            raise ValueError("a mapping is expected")
        return root

    def find(self, text: str) -> dict[str, Found]:
        root = self._root(text)
        return dict(self._below(text, root, "", set())) if root is not None else {}

    def _below(self, text: str, node: Any, prefix: str, seen: set[int]) -> Iterator[tuple[str, Found]]:
        if id(node) in seen:
            return  # an alias: it is edited where it is written
        seen.add(id(node))
        for number, member in enumerate(node.value):
            key, value = member if isinstance(member, tuple) else (None, member)
            name = str(number) if key is None else str(getattr(key, "value", number))
            if isinstance(value.value, list):
                yield from self._below(text, value, f"{prefix}{name}/", seen)
                continue
            if id(value) in seen:
                continue
            seen.add(id(value))
            start, end = value.start_mark.index, value.end_mark.index
            yield prefix + name, Found(str(value.value), start, end, self._line(text, key or value, end))

    @staticmethod
    def _line(text: str, first: Any, end: int) -> tuple[int, int]:
        begin = text.rfind("\n", 0, first.start_mark.index) + 1
        last = text.find("\n", end)
        return begin, len(text) if last < 0 else last + 1

    def spell(self, value: Scalar) -> str:
        return {True: "true", False: "false"}[value] if isinstance(value, bool) else str(value)

    def write(self, value: Scalar, old: str | None) -> str:
        text = self.spell(value)
        if old is not None and old[:1] in ("|", ">"):
            raise ValueError("a text of several lines is not edited")
        if old is not None and old[:1] == "'" and text.isprintable():
            return "'" + text.replace("'", "''") + "'"
        if old is not None and old[:1] == '"':
            return json.dumps(text, ensure_ascii=False)
        typed = isinstance(value, int) or (old is not None and bool(_NUMBER.fullmatch(old) and _NUMBER.fullmatch(text)))
        typed = typed or (old is not None and bool(_WORDS.fullmatch(old) and _WORDS.fullmatch(text)))
        if typed or (_PLAIN.fullmatch(text) and not _WORDS.fullmatch(text)):
            return text
        return json.dumps(text, ensure_ascii=False)

    def add(self, text: str, key: str, value: Scalar) -> str:
        end = line_end(text)
        text = text if not text or text.endswith("\n") else text + end
        node = self._root(text)
        parts = key.split("/")
        while node is not None and len(parts) > 1:
            below = next((one for name, one in node.value if name.value == parts[0]), None)
            if below is None:
                break
            in_lines = isinstance(below.value, list) and not below.flow_style
            if not in_lines or (below.value and not isinstance(below.value[0], tuple)):
                raise ValueError(f"{key}: what stands on the way is no mapping in lines of its own")
            node = below
            parts.pop(0)
        if node is None or not node.value:
            column, at = 0, len(text)
        elif node.flow_style:
            raise ValueError(f"{key}: the mapping it belongs to is written in one line")
        else:
            column = node.value[0][0].start_mark.column
            at = self._line(text, node.value[-1][0], node.value[-1][1].end_mark.index)[1]
            if isinstance(node.value[-1][1].value, list):
                at = node.value[-1][1].end_mark.index
                at = text.rfind("\n", 0, at) + 1 if text[at - 1 : at] != "\n" and at < len(text) else at
        lines = [" " * (column + 2 * number) + self.write(part, None) + ":" for number, part in enumerate(parts)]
        lines[-1] += " " + self.write(value, None)
        return text[:at] + end.join(lines) + end + text[at:]
