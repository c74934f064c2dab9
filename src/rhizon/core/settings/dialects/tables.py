"""Tables within tables, with comments, as several languages have them: what their dialects share.

Keys are the names on the way, joined by ``/``; elements without a name by their number as the language counts them, and
those of a table that holds texts only, each once, by the text in brackets: ``crew/[Aud]`` is there or not.
"""

import re
from collections.abc import Iterator, Mapping
from typing import NamedTuple

from rhizon.core.settings.dialects.spans import (
    Found,
    NotWritableError,
    Scalar,
    SpanDialect,
    elements_checked,
    line_end,
)
from rhizon.core.text_limits import MOST_DEEP

__all__ = ["Member", "Node", "Root", "Tables"]

_LINE_ENDS = re.compile(r"\r?\n|\Z")


class Node(NamedTuple):
    """A value: where it is written, what it says, and the members of a table."""

    start: int
    end: int
    said: str
    kind: str
    members: "list[Member] | None" = None


class Member(NamedTuple):
    """A member of a table: where it begins, its value, and where its separator ends (None: it has none)."""

    name: str
    begin: int
    value: Node
    separator: int | None

    @property
    def end(self) -> int:
        return self.separator if self.separator is not None else self.value.end


class Root(NamedTuple):
    """A file: its outermost table. ``braces`` is False for assignments that stand one after the other."""

    node: Node
    braces: bool


class Tables(SpanDialect):
    """What both languages share."""

    skipped: re.Pattern[str]
    number: re.Pattern[str]
    remark: re.Pattern[str]  # what may stand behind a member on its line
    lists = "]"  # what closes a list
    first = 0  # the number of the first element without a name
    separators = ","
    joined = ": "
    keeps_last = False  # whether a separator behind the last member is as usual as none

    # what a language says

    def root(self, text: str) -> Root:
        """The outermost table. Raises ValueError with the line that is wrong."""
        raise NotImplementedError

    def name_at(self, text: str, at: int) -> tuple[str, int] | None:
        """The name of a member and where its value may begin; None for an element without one."""
        raise NotImplementedError

    def text_at(self, text: str, at: int) -> tuple[str, int] | None:
        """The text in quotes there, and where it ends. Raises ValueError for one without end."""
        raise NotImplementedError

    def word_at(self, text: str, at: int) -> Node:
        """A value that is neither table nor text. Raises ValueError."""
        raise NotImplementedError

    def named(self, name: str) -> str:
        """A name as it is written."""
        raise NotImplementedError

    def quoted(self, value: str, old: str | None) -> str:
        """A text as it is written, in the quotes of the old one."""
        raise NotImplementedError

    def opens(self, text: str, at: int) -> str:
        """What closes the table that begins there; empty where none does."""
        return "}" if text.startswith("{", at) else ""

    # reading

    def wrong(self, text: str, at: int, what: str) -> ValueError:
        """An error with its line."""
        return ValueError(f"line {text.count(chr(10), 0, at) + 1}: {what}")

    def skip(self, text: str, at: int) -> int:
        """Where the next word after blanks and comments begins."""
        match = self.skipped.match(text, at)
        assert match is not None
        return match.end()

    def value_at(self, text: str, at: int, deep: int = 0) -> Node:
        """The value that begins there. Raises ValueError."""
        closing = self.opens(text, at)
        if closing:
            if deep >= MOST_DEEP:
                raise self.wrong(text, at, f"it is nested more than {MOST_DEEP} deep")
            return self._table(text, at, closing, deep)
        quoted = self.text_at(text, at)
        if quoted is not None:
            return Node(at, quoted[1], quoted[0], "text")
        return self.word_at(text, at)

    def _table(self, text: str, start: int, closing: str, deep: int) -> Node:
        members: list[Member] = []
        unnamed = self.first
        at = self.skip(text, start + 1)
        while not text.startswith(closing, at):
            if at >= len(text):
                raise self.wrong(text, start, f"what begins here has no {closing}")
            if members and members[-1].separator is None:
                raise self.wrong(text, at, "a comma is expected")
            named = self.name_at(text, at) if closing == "}" else None
            name, begins = named if named is not None else (str(unnamed), at)
            unnamed += named is None
            value = self.value_at(text, begins, deep + 1)
            after = self.skip(text, value.end)
            separator = after + 1 if after < len(text) and text[after] in self.separators else None
            members.append(Member(name, at, value, separator))
            at = self.skip(text, separator if separator is not None else after)
        return Node(start, at + 1, "", closing, members)

    def find(self, text: str) -> dict[str, Found]:
        """Every value with its place; of a name that a table has twice the last, as the languages have it."""
        if not text.strip():
            return {}
        return dict(self._below(text, self.root(text).node, ""))

    def _below(self, text: str, node: Node, prefix: str) -> Iterator[tuple[str, Found]]:
        by_text = _texts(node)
        last = {one.name: number for number, one in enumerate(node.members or ())}
        for number, one in enumerate(node.members or ()):
            if last[one.name] != number:
                continue
            if one.value.members is not None:
                yield from self._below(text, one.value, f"{prefix}{one.name}/")
                continue
            key = f"{prefix}[{one.value.said}]" if by_text else prefix + one.name
            said = self.spell(True) if by_text else one.value.said
            yield key, Found(said, one.value.start, one.value.end, self._goes(text, node, number))

    def _goes(self, text: str, node: Node, number: int) -> tuple[int, int]:
        """What goes with a member: its line where it has one for itself, else it and one separator."""
        members = node.members or []
        one, before = members[number], members[number - 1] if number else None
        begins = before.end if before is not None else node.start + len(node.kind)
        line = text.rfind("\n", begins, one.begin) + 1
        leads = (line or begins == 0) and not text[line : one.begin].strip()
        remark = self.remark.match(text, one.end)
        assert remark is not None
        ends = _LINE_ENDS.match(text, remark.end())
        if leads and ends is not None:
            return line, ends.end()
        if number + 1 < len(members) and not text[one.end : members[number + 1].begin].strip():
            return one.begin, members[number + 1].begin
        if before is None or before.separator is None or one.separator is not None:
            return one.begin, one.end
        return (before.value.end if not text[before.separator : one.begin].strip() else one.begin), one.end

    def spell(self, value: Scalar) -> str:
        """The value as text."""
        return {True: "true", False: "false"}[value] if isinstance(value, bool) else str(value)

    # writing

    def edit(self, data: bytes, changes: Mapping[str, Scalar | None]) -> bytes:
        """The file with the changes. Raises NotWritableError, ValueError."""
        elements_checked(changes)
        return super().edit(data, changes)

    def _edited(self, text: str, changes: Mapping[str, Scalar | None]) -> str:
        made = super()._edited(text, changes)
        for key in [key for key, value in changes.items() if value is None and made != text]:
            if any(other.startswith(f"{key}/") for other in self.find(made)):
                raise NotWritableError(f"{key} is there twice, as a table too; it is ambiguous")
        if self.keeps_last or made == text or None not in changes.values():
            return made
        usual = {name for name, at in _dangling(self.root(text).node, "") if at is not None} if text.strip() else set()
        left = [at for name, at in _dangling(self.root(made).node, "") if at is not None and name not in usual]
        for at in sorted(left, reverse=True):  # a reader of plain JSON would stumble over them
            made = made[: at - 1] + made[at:]
        return made

    def write(self, value: Scalar, old: str | None) -> str:
        """The value in the form of the old one: a number stays a number, quotes stay."""
        if not isinstance(value, str):
            return self.spell(value)
        if old is not None:
            same_number = self.number.fullmatch(old) and self.number.fullmatch(value)
            if same_number or (old in ("true", "false") and value in ("true", "false")):
                return value
        return self.quoted(value, old)

    def add(self, text: str, key: str, value: Scalar) -> str:
        """A new member in the nearest table that is there. Raises NotWritableError where a part of the path is none."""
        if not text.strip():
            text = self.begun(line_end(text))
        root = self.root(text)
        *way, last = key.split("/")
        element = re.fullmatch(r"\[(.*)\]", last)
        node = root.node
        while way:
            inside = next((one.value for one in reversed(node.members or ()) if one.name == way[0]), None)
            if inside is None:
                break
            if inside.members is None or (inside.kind == "]" and (len(way) > 1 or element is None)):
                raise NotWritableError(f"{key}: a part of the path is not a table")
            node = inside
            way.pop(0)
        if element is None:
            made = self._nested([*way, last], self.write(value, None))
        elif way:
            made = self._nested(way, self.listed(self.quoted(element[1], None)))
        elif (node.members and not _texts(node)) or node is root.node or node.kind != self.lists:
            raise NotWritableError(f"{key.rpartition('/')[0] or key} is not a list of distinct texts")
        else:
            made = self.quoted(element[1], None)
        return self._with_member(text, root, node, made)

    def begun(self, end: str) -> str:
        """What a new file begins with."""
        raise NotImplementedError

    def listed(self, element: str) -> str:
        """A list of one element."""
        raise NotImplementedError

    def _nested(self, parts: list[str], value: str) -> str:
        """A member with ``value`` at the end of ``parts``."""
        made = self.named(parts[0]) + self.joined
        made += "".join(f"{{ {self.named(part)}{self.joined}" for part in parts[1:])
        return made + value + " }" * (len(parts) - 1)

    def _with_member(self, text: str, root: Root, node: Node, made: str) -> str:
        """``made`` as the last member of a table, laid out as those before it are."""
        end = line_end(text)
        if node is root.node and not root.braces:
            return f"{text}{'' if not text or text.endswith(chr(10)) else end}{made}{end}"
        if not node.members:
            return self._first_member(text, node, made)
        last = node.members[-1]
        line = text.rfind("\n", 0, last.begin) + 1
        closed = "," if last.separator is not None else ""
        if text[line : last.begin].strip():  # it shares its line
            return text[: last.end] + ("" if closed else ",") + f" {made}{closed}" + text[last.end :]
        remark = self.remark.match(text, last.end)
        assert remark is not None
        stays = text.startswith(("\n", "\r\n"), remark.end())
        behind = remark[0] if stays else ""
        comma = "" if closed else ","
        at = last.end + len(behind)
        return text[: last.end] + comma + behind + end + text[line : last.begin] + made + closed + text[at:]

    def _first_member(self, text: str, node: Node, made: str) -> str:
        """``made`` as the only member of a table, behind what is remarked in it."""
        end = line_end(text)
        line = text.rfind("\n", 0, node.start) + 1
        indent = text[line : line + len(text[line:]) - len(text[line:].lstrip(" \t"))]
        closes = node.end - 1
        own = text.rfind("\n", node.start, closes) + 1
        if own and not text[own:closes].strip():
            return f"{text[:own]}{indent}  {made}{end}{text[own:]}"
        kept = text[node.start + 1 : closes].rstrip()
        return f"{text[: node.start + 1]}{kept}{end}{indent}  {made}{end}{indent}{text[closes:]}"


def _texts(node: Node) -> bool:
    """Whether it is a list of texts that are all different."""
    members = node.members or []
    if not members or any(one.value.kind != "text" or one.begin != one.value.start for one in members):
        return False
    return len({one.value.said for one in members}) == len(members)


def _dangling(node: Node, name: str) -> Iterator[tuple[str, int | None]]:
    """Every table, with where the separator behind its last member ends."""
    members = node.members or []
    yield name, members[-1].separator if members else None
    for one in members:
        if one.value.members is not None:
            yield from _dangling(one.value, f"{name}/{one.name}")
