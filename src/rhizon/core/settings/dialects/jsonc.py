"""JSON (RFC 8259) with comments, where a comma may stand behind the last member."""

import json
import re

from rhizon.core.settings.dialects.tables import Node, Root, Tables

__all__ = ["JsonWithComments"]


class JsonWithComments(Tables):
    """JSON with ``//`` and ``/* */``, where a comma may stand behind the last member."""

    skipped = re.compile(r"(?:\s|/\*.*?\*/|//[^\n]*)*+", re.DOTALL)
    remark = re.compile(r"[ \t]*+(?://[^\r\n]*)?")

    number = re.compile(r"-?(?:0|[1-9]\d*+)(?:\.\d+)?(?:[eE][-+]?\d+)?")

    _TEXT = re.compile(r'"(?:[^"\\\n]|\\.)*+"')
    _WORD = re.compile(r"true|false|null|-?(?:0|[1-9]\d*+)(?:\.\d+)?(?:[eE][-+]?\d+)?")

    def root(self, text: str) -> Root:
        """The object that the file is. Raises ValueError."""
        at = self.skip(text, 0)
        if not text.startswith("{", at):
            raise self.wrong(text, at, "an object is expected")
        node = self.value_at(text, at)
        rest = self.skip(text, node.end)
        if rest < len(text):
            raise self.wrong(text, rest, "nothing is expected behind the object")
        return Root(node, braces=True)

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

    def word_at(self, text: str, at: int) -> Node:
        """A number, true, false or null."""
        match = self._WORD.match(text, at)
        if match is None:
            raise self.wrong(text, at, "a value is expected")
        return Node(at, match.end(), match[0], "word")

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
