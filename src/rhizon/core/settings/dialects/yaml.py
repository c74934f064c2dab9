"""YAML 1.2. Keys are the names on the way, joined by ``/``; elements of a sequence by their number, and those of one
that holds different texts only by the text in brackets: ``crew/[Aud]`` is there or not."""

import itertools
import json
import re
from collections.abc import Iterator, Mapping
from typing import Any

from rhizon.core.settings.dialects.spans import (
    Found,
    NotWritableError,
    Scalar,
    SpanDialect,
    elements_checked,
    line_end,
)

__all__ = ["Yaml"]

_PLAIN = re.compile(r"[A-Za-z_/][\w./+-]*(?: [\w./+(),-]+)*")
_WORDS = re.compile(r"(?i)true|false|yes|no|on|off|null|y|n")
_NUMBER = re.compile(r"[-+]?\d+(?:\.\d+)?")


class Yaml(SpanDialect):
    """PyYAML says where each value is (libyaml where it is, which is thirty times as fast); what a library would
    write again it would also lay out again."""

    language = "yaml"

    def _root(self, text: str) -> Any:
        import yaml

        try:
            root = yaml.compose(text, Loader=getattr(yaml, "CBaseLoader", yaml.BaseLoader))
        except (yaml.YAMLError, ValueError, RecursionError) as broken:
            raise ValueError(f"not YAML: {' '.join(str(broken).split())[:200]}") from None
        if root is not None and getattr(root, "id", "") != "mapping":
            raise ValueError("a mapping is expected")
        return root

    def find(self, text: str) -> dict[str, Found]:
        """Every value with its place."""
        root = self._root(text)
        return dict(self._below(text, root, "", set())) if root is not None else {}

    def _below(self, text: str, node: Any, prefix: str, seen: set[int]) -> Iterator[tuple[str, Found]]:
        """The spans of the values below a mapping or sequence."""
        if id(node) in seen:
            return  # an alias: it is edited where it is written
        seen.add(id(node))
        if prefix and _texts(text, node):
            yield from self._elements(text, node, prefix)
            return
        flow = _in_flow(node) if node.flow_style else []
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
            whole = flow[number] if flow else self._alone(text, key or value, end)
            yield prefix + name, Found(str(value.value), start, end, whole)

    def _elements(self, text: str, node: Any, prefix: str) -> Iterator[tuple[str, Found]]:
        """Each text of a sequence; what goes with it is its line, or in a flow sequence its comma."""
        flow = _in_flow(node) if node.flow_style else []
        for number, one in enumerate(node.value):
            start, end = one.start_mark.index, one.end_mark.index
            whole = flow[number] if flow else self._line(text, one, end)
            yield f"{prefix}[{one.value}]", Found(self.spell(True), start, end, whole)

    def _alone(self, text: str, first: Any, end: int) -> tuple[int, int] | None:
        """The lines of a member, where nothing else is in them (the dash of a sequence, say)."""
        begin, last = self._line(text, first, end)
        return (begin, last) if not text[begin : first.start_mark.index].strip() else None

    @staticmethod
    def _line(text: str, first: Any, end: int) -> tuple[int, int]:
        begin = text.rfind("\n", 0, first.start_mark.index) + 1
        if text[end - 1 : end] == "\n":  # a text of several lines ends with its last one
            return begin, end
        last = text.find("\n", end)
        return begin, len(text) if last < 0 else last + 1

    def edit(self, data: bytes, changes: Mapping[str, Scalar | None]) -> bytes:
        """The file with the changes. Raises NotWritableError, ValueError."""
        elements_checked(changes)
        return super().edit(data, changes)

    def spell(self, value: Scalar) -> str:
        """The value as text."""
        return {True: "true", False: "false"}[value] if isinstance(value, bool) else str(value)

    def write(self, value: Scalar, old: str | None) -> str:
        """The value in the quotes of the old one. Raises NotWritableError for several lines, an anchor or a tag."""
        text = self.spell(value)
        if old is not None and old[:1] in ("|", ">"):
            raise NotWritableError("a text of several lines is not edited")
        if old is not None and old[:1] in ("&", "!"):
            raise NotWritableError("a value with an anchor or a tag is not edited")
        if old == "":  # nothing follows the colon
            return " " + self.write(value, None)
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
        """A new line in the mapping or sequence. Raises NotWritableError where a part of the path is not a mapping."""
        end = line_end(text)
        text = text if not text or text.endswith("\n") else text + end
        node = self._root(text)
        parts = key.split("/")
        if len(parts) > 1 and parts[-1].startswith("[") and parts[-1].endswith("]"):
            return self._add_element(text, node, parts[:-1], self.write(parts[-1][1:-1], None))
        while node is not None and len(parts) > 1:
            below = next((one for name, one in node.value if name.value == parts[0]), None)
            if below is None:
                break
            in_lines = isinstance(below.value, list) and not below.flow_style
            if not in_lines or (below.value and not isinstance(below.value[0], tuple)):
                raise NotWritableError(f"{key}: a part of the path is not a mapping on its own lines")
            node = below
            parts.pop(0)
        if node is None or not node.value:
            column, at = 0, len(text)
        elif node.flow_style:
            raise NotWritableError(f"{key}: the mapping it belongs to is on one line")
        else:
            column = node.value[0][0].start_mark.column
            at = _end(node)
            if text[at - 1 : at] != "\n":
                at = text.find("\n", at) + 1 or len(text)
        lines = [" " * (column + 2 * number) + self.write(part, None) + ":" for number, part in enumerate(parts)]
        lines[-1] += " " + self.write(value, None)
        return text[:at] + end.join(lines) + end + text[at:]

    def _add_element(self, text: str, node: Any, way: list[str], word: str) -> str:
        """``word`` at the end of the sequence at the end of the way."""
        column = 0
        for number, part in enumerate(way):
            found = next((one for one in node.value if one[0].value == part), None) if _mapping(node) else None
            if found is None and (node is None or _mapping(node)):
                return self._with_sequence(text, node, way[number:], word)
            if found is None:
                raise NotWritableError(f"{'/'.join(way)}: a part of the path is not a mapping")
            column, node = found[0].start_mark.column, found[1]
        end = line_end(text)
        if node.id == "scalar" and node.value == "":  # nothing follows the colon
            at = text.find("\n", node.end_mark.index) + 1 or len(text)
            return f"{text[:at]}{' ' * (column + 2)}- {word}{end}{text[at:]}"
        if node.id != "sequence" or (node.value and not _texts(text, node)):
            raise NotWritableError(f"{'/'.join(way)} is not a sequence of distinct texts")
        if node.flow_style:
            at = node.value[-1].end_mark.index if node.value else node.start_mark.index + 1
            return f"{text[:at]}{', ' if node.value else ''}{word}{text[at:]}"
        at = _end(node)
        if text[at - 1 : at] != "\n":
            at = text.find("\n", at) + 1 or len(text)
        return f"{text[:at]}{' ' * node.start_mark.column}- {word}{end}{text[at:]}"

    def _with_sequence(self, text: str, node: Any, way: list[str], word: str) -> str:
        """A sequence that is not there yet, with its first word, at the end of a mapping in lines of its own."""
        if node is not None and node.flow_style:
            raise NotWritableError(f"{'/'.join(way)}: the mapping it belongs to is on one line")
        column, at = (0, len(text)) if node is None or not node.value else (node.start_mark.column, _end(node))
        if text[at - 1 : at] != "\n" and at:
            at = text.find("\n", at) + 1 or len(text)
        lines = [" " * (column + 2 * number) + self.write(part, None) + ":" for number, part in enumerate(way)]
        lines.append(" " * (column + 2 * len(way)) + "- " + word)
        end = line_end(text)
        return text[:at] + end.join(lines) + end + text[at:]


def _in_flow(node: Any) -> list[tuple[int, int]]:
    """What goes with each member of what is written in brackets: its comma too."""
    spans = [
        (one[0].start_mark.index, one[1].end_mark.index)
        if isinstance(one, tuple)
        else (one.start_mark.index, one.end_mark.index)
        for one in node.value
    ]
    goes = [(start, following) for (start, _), (following, _) in itertools.pairwise(spans)]
    start, end = spans[-1] if spans else (0, 0)
    return [*goes, (spans[-2][1] if len(spans) > 1 else start, end)]


def _mapping(node: Any) -> bool:
    return node is not None and node.id == "mapping"


def _texts(text: str, node: Any) -> bool:
    """Whether a node is a sequence of texts that are all different, each on a line of its own or all in one."""
    if node.id != "sequence" or not node.value or any(one.id != "scalar" for one in node.value):
        return False
    words = [one.value for one in node.value]
    if len(set(words)) < len(words):
        return False
    heads = (text[text.rfind("\n", 0, one.start_mark.index) + 1 : one.start_mark.index] for one in node.value)
    return bool(node.flow_style) or all(head.strip() == "-" for head in heads)


def _end(node: Any) -> int:
    """Where the last thing in a mapping or sequence ends. Its own mark stands at whatever follows; an alias's mark
    stands where its anchor is, and then the key tells the line."""
    end = 0
    while isinstance(node.value, list) and node.value and not node.flow_style:
        last = node.value[-1]
        if isinstance(last, tuple):
            end = max(end, last[0].end_mark.index)
        node = last[1] if isinstance(last, tuple) else last
    return max(end, int(node.end_mark.index))
