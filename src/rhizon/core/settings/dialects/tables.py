"""Tables within tables, with comments: Lua's (Lua 5.4 reference manual, 3.1 and 3.4.9) and JSON with comments.

Keys are the names on the way, joined by ``/``; elements without a name by their number as the language counts them, and
those of a table that holds texts only, each once, by the text in brackets: ``crew/[Aud]`` is there or not. A file of
Lua is one ``return { ... }`` or plain assignments; what is computed in a table is kept as it stands, and a file that
does more than hold values is refused.
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
    elements_checked,
    line_end,
)
from rhizon.core.text_limits import MOST_DEEP

__all__ = ["JsonWithComments", "LuaTables"]

_NUMBER = re.compile(r"-?(?:0[xX][0-9a-fA-F]+|(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)")
_RESERVED = frozenset(
    re.findall(
        r"\w+",
        "and break do else elseif end false for function goto if in local nil not or repeat return then true until "
        "while",
    )
)
_ESCAPE = re.compile(r"\\(?:(\d{1,3})|x([0-9a-fA-F]{2})|u\{([0-9a-fA-F]{1,8})\}|z\s*|(\r\n|.))", re.DOTALL)
_ESCAPED = {"a": "\a", "b": "\b", "f": "\f", "n": "\n", "r": "\r", "t": "\t", "v": "\v", "\r\n": "\n"}
_LINE_ENDS = re.compile(r"\r?\n|\Z")
_COMPUTED = "computed"


class _Node(NamedTuple):
    """A value: where it is written, what it says, and the members of a table."""

    start: int
    end: int
    said: str
    kind: str
    members: "list[_Member] | None" = None


class _Member(NamedTuple):
    """A member of a table: where it begins, its value, and where its separator ends (None: it has none)."""

    name: str
    begin: int
    value: _Node
    separator: int | None

    @property
    def end(self) -> int:
        return self.separator if self.separator is not None else self.value.end


class _Root(NamedTuple):
    """A file: its outermost table. ``braces`` is False for assignments that stand one after the other."""

    node: _Node
    braces: bool


class _Tables(SpanDialect):
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

    def root(self, text: str) -> _Root:
        """The outermost table. Raises ValueError with the line that is wrong."""
        raise NotImplementedError

    def name_at(self, text: str, at: int) -> tuple[str, int] | None:
        """The name of a member and where its value may begin; None for an element without one."""
        raise NotImplementedError

    def text_at(self, text: str, at: int) -> tuple[str, int] | None:
        """The text in quotes there, and where it ends. Raises ValueError for one without end."""
        raise NotImplementedError

    def word_at(self, text: str, at: int) -> _Node:
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

    def value_at(self, text: str, at: int, deep: int = 0) -> _Node:
        """The value that begins there. Raises ValueError."""
        closing = self.opens(text, at)
        if closing:
            if deep >= MOST_DEEP:
                raise self.wrong(text, at, f"it is nested more than {MOST_DEEP} deep")
            return self._table(text, at, closing, deep)
        quoted = self.text_at(text, at)
        if quoted is not None:
            return _Node(at, quoted[1], quoted[0], "text")
        return self.word_at(text, at)

    def _table(self, text: str, start: int, closing: str, deep: int) -> _Node:
        members: list[_Member] = []
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
            members.append(_Member(name, at, value, separator))
            at = self.skip(text, separator if separator is not None else after)
        return _Node(start, at + 1, "", closing, members)

    def find(self, text: str) -> dict[str, Found]:
        """Every value with its place; of a name that a table has twice the last, as the languages have it."""
        if not text.strip():
            return {}
        return dict(self._below(text, self.root(text).node, ""))

    def _below(self, text: str, node: _Node, prefix: str) -> Iterator[tuple[str, Found]]:
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

    def _goes(self, text: str, node: _Node, number: int) -> tuple[int, int]:
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

    def _with_member(self, text: str, root: _Root, node: _Node, made: str) -> str:
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

    def _first_member(self, text: str, node: _Node, made: str) -> str:
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


class LuaTables(_Tables):
    """Values in Lua's syntax. No library edits it and keeps its layout."""

    skipped = re.compile(r"(?:\s|--\[(?P<level>=*)\[.*?\](?P=level)\]|--(?!\[=*\[)[^\n]*)*+", re.DOTALL)
    remark = re.compile(r"[ \t]*+(?:--(?!\[=*\[)[^\r\n]*)?")
    lists = "}"
    first = 1
    separators = ",;"
    joined = " = "
    keeps_last = True

    number = _NUMBER

    _NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
    _SHORT = re.compile(r"\"(?:[^\"\\\n]|\\(?:\r\n|.))*+\"|'(?:[^'\\\n]|\\(?:\r\n|.))*+'", re.DOTALL)
    _LONG = re.compile(r"\[(=*)\[(?:\r?\n)?(.*?)\]\1\]", re.DOTALL)

    def root(self, text: str) -> _Root:
        """The table that is returned, else the assignments of the file. Raises ValueError."""
        members: list[_Member] = []
        at = self.skip(text, 0)
        while at < len(text):
            begin = at
            word = self._NAME.match(text, at)
            if word is not None and word[0] == "return":
                node = self.value_at(text, self.skip(text, word.end()))
                rest = self.skip(text, node.end)
                rest = self.skip(text, rest + 1) if text.startswith(";", rest) else rest
                if node.members is None:
                    raise self.wrong(text, at, "`return` of a table is expected")
                if rest < len(text):
                    raise self.wrong(text, rest, "nothing is expected behind the table that is returned")
                return _Root(node, braces=True)
            if word is not None and word[0] == "local":
                at = self.skip(text, word.end())
                word = self._NAME.match(text, at)
            sign = self.skip(text, word.end()) if word is not None else at
            if word is None or word[0] in _RESERVED or not text.startswith("=", sign) or text.startswith("==", sign):
                raise self.wrong(text, at, "only `name = value` and `return { ... }` are read in a file of Lua tables")
            value = self.value_at(text, self.skip(text, sign + 1))
            if value.kind == _COMPUTED:
                raise self.wrong(text, value.start, "a plain value or a table is expected")
            after = self.skip(text, value.end)
            separator = after + 1 if text.startswith(";", after) else None
            members.append(_Member(word[0], begin, value, separator))
            at = self.skip(text, separator if separator is not None else after)
        return _Root(_Node(0, len(text), "", "", members), braces=False)

    def name_at(self, text: str, at: int) -> tuple[str, int] | None:
        """The name before ``=``: a word, or a text or number in brackets."""
        word = self._NAME.match(text, at)
        if word is not None and word[0] not in _RESERVED:
            name, after = word[0], word.end()
        elif text.startswith("[", at) and not text.startswith(("[[", "[="), at):
            inner = self.skip(text, at + 1)
            quoted = self.text_at(text, inner)
            number = _NUMBER.match(text, inner)
            if quoted is not None:
                name, after = quoted
            elif number is not None:
                name, after = number[0], number.end()
            else:
                raise self.wrong(text, at, "a text or a number is expected in brackets")
            after = self.skip(text, after)
            if not text.startswith("]", after):
                raise self.wrong(text, at, "what begins here has no ]")
            after += 1
        else:
            return None
        sign = self.skip(text, after)
        if not text.startswith("=", sign) or text.startswith("==", sign):
            return None
        return name, self.skip(text, sign + 1)

    def text_at(self, text: str, at: int) -> tuple[str, int] | None:
        """A text in quotes or in long brackets."""
        if text.startswith(('"', "'"), at):
            match = self._SHORT.match(text, at)
            if match is None:
                raise self.wrong(text, at, "a text has no end")
            return _ESCAPE.sub(_unescaped, match[0][1:-1]), match.end()
        if text.startswith(("[[", "[="), at):
            long = self._LONG.match(text, at)
            if long is None:
                raise self.wrong(text, at, "a text has no end")
            return long[2].replace("\r\n", "\n"), long.end()
        return None

    def word_at(self, text: str, at: int) -> _Node:
        """A number or a word; anything else up to the end of the member is what is computed."""
        match = _NUMBER.match(text, at) or self._NAME.match(text, at)
        if match is not None and (match[0] in ("true", "false", "nil") or match[0][0] in "-.0123456789"):
            return _Node(at, match.end(), match[0], "word")
        return self._whole(text, at)

    def value_at(self, text: str, at: int, deep: int = 0) -> _Node:
        """The value that begins there; in a table all of it, where it goes on to be computed."""
        node = super().value_at(text, at, deep)
        after = self.skip(text, node.end)
        ends = not deep or node.kind == _COMPUTED or after >= len(text) or text[after] in ",;}"
        return node if ends else self._whole(text, at)

    def _whole(self, text: str, at: int) -> _Node:
        end = self._computed(text, at)
        return _Node(at, end, text[at:end], _COMPUTED)

    def _computed(self, text: str, start: int) -> int:
        """Where what is computed there ends. Raises ValueError for what Rhizon cannot tell the end of."""
        open_now: list[str] = []
        at, last = start, start
        closing = {"(": ")", "[": "]", "{": "}"}
        while at < len(text):
            quoted = self.text_at(text, at) if text[at] in "\"'" or text.startswith(("[[", "[="), at) else None
            word = self._NAME.match(text, at)
            if word is not None and word[0] in _RESERVED - {"true", "false", "nil", "and", "or", "not"}:
                break
            if not open_now and text[at] in ",;}":
                if last == start:
                    break
                return last
            if text[at] in closing:
                open_now.append(closing[text[at]])
            elif text[at] in ")]}" and (not open_now or open_now.pop() != text[at]):
                break
            last = quoted[1] if quoted is not None else word.end() if word is not None else at + 1
            at = self.skip(text, last)
        raise self.wrong(text, start, "a value is expected")

    def named(self, name: str) -> str:
        """A word as it is, anything else in brackets."""
        plain = self._NAME.fullmatch(name) is not None and name not in _RESERVED
        return name if plain else f"[{self.quoted(name, None)}]"

    def quoted(self, value: str, old: str | None) -> str:
        """In the quotes of the old text; in double ones where it had others."""
        quote = "'" if old is not None and old.startswith("'") else '"'
        made = "".join(
            f"\\{one}"
            if one in ("\\", quote)
            else "\\n"
            if one == "\n"
            else f"\\{ord(one):03}"
            if ord(one) < 32
            else one
            for one in value
        )
        return quote + made + quote

    def begun(self, end: str) -> str:  # noqa: ARG002 - one file needs no line
        """Assignments need no beginning."""
        return ""

    def add(self, text: str, key: str, value: Scalar) -> str:
        """A new member, or a new assignment. Raises NotWritableError."""
        name = key.partition("/")[0]
        plain = self._NAME.fullmatch(name) is not None and name not in _RESERVED
        if not plain and (not text.strip() or not self.root(text).braces):
            raise NotWritableError(f"{name} cannot be assigned to in Lua")
        return super().add(text, key, value)

    def listed(self, element: str) -> str:
        """A table of one element."""
        return f"{{ {element} }}"


class JsonWithComments(_Tables):
    """JSON with ``//`` and ``/* */``, where a comma may stand behind the last member."""

    skipped = re.compile(r"(?:\s|/\*.*?\*/|//[^\n]*)*+", re.DOTALL)
    remark = re.compile(r"[ \t]*+(?://[^\r\n]*)?")

    number = re.compile(r"-?(?:0|[1-9]\d*+)(?:\.\d+)?(?:[eE][-+]?\d+)?")

    _TEXT = re.compile(r'"(?:[^"\\\n]|\\.)*+"')
    _WORD = re.compile(r"true|false|null|-?(?:0|[1-9]\d*+)(?:\.\d+)?(?:[eE][-+]?\d+)?")

    def root(self, text: str) -> _Root:
        """The object that the file is. Raises ValueError."""
        at = self.skip(text, 0)
        if not text.startswith("{", at):
            raise self.wrong(text, at, "an object is expected")
        node = self.value_at(text, at)
        rest = self.skip(text, node.end)
        if rest < len(text):
            raise self.wrong(text, rest, "nothing is expected behind the object")
        return _Root(node, braces=True)

    def opens(self, text: str, at: int) -> str:
        """Objects and arrays."""
        return "]" if text.startswith("[", at) else super().opens(text, at)

    def name_at(self, text: str, at: int) -> tuple[str, int] | None:
        """The name before the colon, which every member of an object has."""
        quoted = self.text_at(text, at)
        colon = self.skip(text, quoted[1]) if quoted is not None else at
        if quoted is None or not text.startswith(":", colon):
            raise self.wrong(text, at, 'a name in quotes and ":" are expected')
        return quoted[0], self.skip(text, colon + 1)

    def text_at(self, text: str, at: int) -> tuple[str, int] | None:
        """A text in double quotes."""
        if not text.startswith('"', at):
            return None
        match = self._TEXT.match(text, at)
        try:
            said = json.loads(match[0], strict=False) if match is not None else None
        except ValueError:
            said = None
        if match is None or not isinstance(said, str):
            raise self.wrong(text, at, "a text has no end, or an escape that JSON does not have")
        return said, match.end()

    def word_at(self, text: str, at: int) -> _Node:
        """A number, true, false or null."""
        match = self._WORD.match(text, at)
        if match is None:
            raise self.wrong(text, at, "a value is expected")
        return _Node(at, match.end(), match[0], "word")

    def named(self, name: str) -> str:
        """In quotes."""
        return json.dumps(name, ensure_ascii=False)

    def quoted(self, value: str, old: str | None) -> str:  # noqa: ARG002 - there is one form
        """In quotes."""
        return json.dumps(value, ensure_ascii=False)

    def begun(self, end: str) -> str:
        """An object."""
        return f"{{{end}}}{end}"

    def listed(self, element: str) -> str:
        """An array of one element."""
        return f"[{element}]"


def _unescaped(match: re.Match[str]) -> str:
    decimal, byte, point, one = match.groups()
    if decimal is not None or byte is not None:
        return chr(int(decimal) if decimal is not None else int(byte, 16))
    if point is not None:
        number = int(point, 16)
        return chr(number) if number < 0x110000 and not 0xD800 <= number < 0xE000 else "\ufffd"
    return "" if one is None else _ESCAPED.get(one, one)


def _texts(node: _Node) -> bool:
    """Whether it is a list of texts that are all different."""
    members = node.members or []
    if not members or any(one.value.kind != "text" or one.begin != one.value.start for one in members):
        return False
    return len({one.value.said for one in members}) == len(members)


def _dangling(node: _Node, name: str) -> Iterator[tuple[str, int | None]]:
    """Every table, with where the separator behind its last member ends."""
    members = node.members or []
    yield name, members[-1].separator if members else None
    for one in members:
        if one.value.members is not None:
            yield from _dangling(one.value, f"{name}/{one.name}")
