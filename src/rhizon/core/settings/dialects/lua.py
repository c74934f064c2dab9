"""Lua tables (Lua 5.4 reference manual, 3.1 and 3.4.9): one ``return { ... }`` or plain assignments. What is computed
in a table is kept as it stands, and a file that does more than hold values is refused.
"""

import re

from rhizon.core.settings.dialects.spans import NotWritableError, Scalar
from rhizon.core.settings.dialects.tables import Member, Node, Root, Tables

__all__ = ["LuaTables"]

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
_COMPUTED = "computed"


class LuaTables(Tables):
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

    def root(self, text: str) -> Root:
        """The table that is returned, else the assignments of the file. Raises ValueError."""
        members: list[Member] = []
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
                return Root(node, braces=True)
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
            members.append(Member(word[0], begin, value, separator))
            at = self.skip(text, separator if separator is not None else after)
        return Root(Node(0, len(text), "", "", members), braces=False)

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

    def word_at(self, text: str, at: int) -> Node:
        """A number or a word; anything else up to the end of the member is what is computed."""
        match = _NUMBER.match(text, at) or self._NAME.match(text, at)
        if match is not None and (match[0] in ("true", "false", "nil") or match[0][0] in "-.0123456789"):
            return Node(at, match.end(), match[0], "word")
        return self._whole(text, at)

    def value_at(self, text: str, at: int, deep: int = 0) -> Node:
        """The value that begins there; in a table all of it, where it goes on to be computed."""
        node = super().value_at(text, at, deep)
        after = self.skip(text, node.end)
        ends = not deep or node.kind == _COMPUTED or after >= len(text) or text[after] in ",;}"
        return node if ends else self._whole(text, at)

    def _whole(self, text: str, at: int) -> Node:
        end = self._computed(text, at)
        return Node(at, end, text[at:end], _COMPUTED)

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


def _unescaped(match: re.Match[str]) -> str:
    decimal, byte, point, one = match.groups()
    if decimal is not None or byte is not None:
        return chr(int(decimal) if decimal is not None else int(byte, 16))
    if point is not None:
        number = int(point, 16)
        return chr(number) if number < 0x110000 and not 0xD800 <= number < 0xE000 else "\ufffd"
    return "" if one is None else _ESCAPED.get(one, one)
