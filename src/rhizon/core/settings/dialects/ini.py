"""Files of ``key = value`` lines: INI with its sections, and the style that ends a value with a semicolon."""

import re

from rhizon.core.settings.dialects.spans import Found, NotWritableError, Scalar, SpanDialect, line_end

__all__ = ["Ini", "Semicolon"]

_SECTION = re.compile(r"[ \t]*\[(?P<name>[^\]\r\n]+)\][^\r\n]*(?:\r?\n|$)")
# a comment, or a text that may look like one inside
_COMMENTED = re.compile(r'(?P<text>"(?:[^"\r\n]|"")*")|//[^\r\n]*|/\*.*?\*/', re.DOTALL)
_SEMICOLON = re.compile(
    r"""(?<!\w)(?P<key>[A-Za-z_]\w*+(?:\[\])?)[ \t]*+=[ \t]*+(?P<value>"(?:[^"\r\n]|"")*+"[ \t]*+|[^;\r\n]*+);"""
)


class Ini(SpanDialect):
    """Keys are ``Section/key``, or ``key`` before the first section, as they are written. The first of several lines of
    one key counts. A value may stand in double quotes, which stay. No library keeps files without sections and with
    repeated keys as they are."""

    def find(self, text: str) -> dict[str, Found]:
        """Every value with its place."""
        found: dict[str, Found] = {}
        section = ""
        at = 0
        while at < len(text):
            end = text.find("\n", at)
            end = len(text) if end < 0 else end + 1
            head = _SECTION.match(text, at)
            if head is not None:
                section = head["name"].strip() + "/"
            else:
                self._line(text, at, end, section, found)
            at = end
        return found

    @staticmethod
    def _line(text: str, at: int, end: int, section: str, found: dict[str, Found]) -> None:
        key, equals, value = text[at:end].rstrip("\r\n").partition("=")
        if not equals or not key.strip() or key.lstrip()[0] in ";#[":
            return  # a comment, an empty line, or something that only the game understands
        start = at + len(key) + 1 + len(value) - len(value.lstrip(" \t"))
        value = value.strip(" \t")
        stop = start + len(value)
        if _quoted(value):
            value = value[1:-1]
        found.setdefault(section + key.strip(), Found(value, start, stop, (at, end)))

    def write(self, value: Scalar, old: str | None) -> str:
        """The value as it is written. Raises NotWritableError for one that an INI file cannot hold."""
        text = self.spell(value)
        if "\n" in text or "\r" in text:
            raise NotWritableError("a value in an INI file is one line")
        if text != text.strip(" \t"):
            raise NotWritableError("a value in an INI file does not begin or end with a blank")
        quoted = old is not None and _quoted(old)
        return f'"{text}"' if quoted or _quoted(text) else text

    def add(self, text: str, key: str, value: Scalar) -> str:
        """Where a new key goes: the end of its section, or a new section at the end."""
        section, _, name = key.rpartition("/")
        end = line_end(text)
        line = f"{name} = {self.write(value, None)}{end}"
        text = text if not text or text.endswith("\n") else text + end
        if not section:
            first = next((one.start() for one in re.finditer(r"(?m)^[ \t]*\[", text)), len(text))
            return text[:first] + line + text[first:]
        own = [one for one in self.find(text).items() if one[0].startswith(section + "/")]
        if own:
            last = max(one.whole[1] for _, one in own if one.whole is not None)
            return text[:last] + line + text[last:]
        for head in re.finditer(r"(?m)^[ \t]*\[(?P<name>[^\]\r\n]+)\][^\r\n]*(?:\r?\n|$)", text):
            if head["name"].strip() == section:
                return text[: head.end()] + line + text[head.end() :]
        return text + f"[{section}]{end}{line}"


def _quoted(value: str) -> bool:
    return len(value) >= 2 and value[0] == value[-1] == '"'


class Semicolon(SpanDialect):
    """``key = value;`` with text in double quotes (doubled inside) and ``//`` or ``/* */`` comments."""

    def find(self, text: str) -> dict[str, Found]:
        """Every value with its place."""
        blank = _COMMENTED.sub(lambda match: match["text"] or " " * len(match[0]), text)
        found: dict[str, Found] = {}
        for match in _SEMICOLON.finditer(blank):
            start = match.start("value")
            raw = text[start : match.end("value")].rstrip(" \t")
            stop = start + len(raw)
            value = raw[1:-1].replace('""', '"') if raw.startswith('"') else raw
            begin = text.rfind("\n", 0, match.start()) + 1
            last = text.find("\n", match.end())
            alone = not blank[begin : match.start()].strip() and not blank[match.end() : max(last, 0) or None].strip()
            whole = (begin, len(text) if last < 0 else last + 1) if alone else match.span()
            found.setdefault(match["key"], Found(value, start, stop, whole))
        return found

    def spell(self, value: Scalar) -> str:
        """The value as text."""
        return str(int(value)) if isinstance(value, bool) else str(value)

    def write(self, value: Scalar, old: str | None) -> str:
        """The value as it is written. Raises NotWritableError for one that an INI file cannot hold."""
        text = self.spell(value)
        if "\n" in text or "\r" in text:
            raise NotWritableError("a value in such a file is one line")
        bare = isinstance(value, int) or (
            old is not None and not old.startswith('"') and re.fullmatch(r"[\w.+-]+", text)
        )
        if old is not None and old.startswith('"'):
            bare = False
        return text if bare else '"' + text.replace('"', '""') + '"'

    def add(self, text: str, key: str, value: Scalar) -> str:
        """Where a new key goes: the end of its section, or a new section at the end."""
        end = line_end(text)
        text = text if not text or text.endswith("\n") else text + end
        return f"{text}{key} = {self.write(value, None)};{end}"
