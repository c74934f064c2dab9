"""XML, in UTF-8 or the encoding that it names.

A key is a way of element names below the root, joined by ``/``: for the text of the element, or with ``/@name`` at its
end for an attribute. Where elements of one name differ by an attribute ``name``, ``key`` or ``id``, the way may say
which: ``entry[@name=port]/@value``.
"""

import html
import re
import xml.parsers.expat
from collections.abc import Callable
from typing import NamedTuple

from rhizon.core.settings.dialects.spans import Found, NotWritableError, Scalar, SpanDialect, decoded, line_end

__all__ = ["Xml"]

_ATTRIBUTE = re.compile(r"""([\w:.-]+)\s*=\s*("[^"]*"|'[^']*')""")
_STEP = re.compile(r"(?P<name>[^\[\]/@]+)(?:\[@(?P<by>name|key|id)=(?P<is>[^\]]+)\])?")
_ENCODING = re.compile(rb"""<\?xml[^>]{0,200}?encoding=["']([A-Za-z0-9._-]+)["']""")
_TAG = re.compile(r"""<(?:[^"'>]++|"[^"]*+"|'[^']*+')*+>""")
_COMMENT = re.compile(r"<!--.*?-->", re.DOTALL)
_BY = ("name", "key", "id")


class _Element(NamedTuple):
    """Where an element stands: the start of its tag, the end of that tag, the start and the end of its end tag."""

    ways: tuple[str, ...]
    start: int
    opened: int
    closing: int
    end: int
    leaf: bool


class Xml(SpanDialect):
    """Expat says where elements are; the libraries that write XML write all of it again."""

    aliases = True

    def spell(self, value: Scalar) -> str:
        """The value as text."""
        return {True: "true", False: "false"}[value] if isinstance(value, bool) else str(value)

    def decoded(self, data: bytes) -> tuple[str, Callable[[str], bytes]]:
        """The text in the file's declared encoding. Raises ValueError."""
        match = _ENCODING.match(data)
        if match is None or match[1].lower() in (b"utf-8", b"utf8"):
            return decoded(data, "xml")
        name = match[1].decode("ascii")
        try:
            # signs that the encoding does not have are written as XML's own references
            return data.decode(name), lambda text: text.encode(name, "xmlcharrefreplace")
        except (LookupError, UnicodeDecodeError) as broken:
            raise ValueError(f"not in its declared encoding: {broken}") from None

    def _elements(self, text: str) -> list[_Element]:
        """Where every element and its tags are. Raises ValueError for a document type or too much depth."""
        data = text.encode("utf-8", "surrogatepass")
        ascii_only = len(data) == len(text)
        offsets = None if ascii_only else _offsets(text)
        parser = xml.parsers.expat.ParserCreate("utf-8")
        stack: list[tuple[list[str], int, list[bool]]] = []
        found: list[_Element] = []

        def refuse(*_: object) -> None:
            raise ValueError("a document type is not read")

        def at(index: int) -> int:
            return index if offsets is None else offsets[index]

        def start(name: str, attributes: dict[str, str]) -> None:
            if len(stack) > 100:
                raise ValueError("it is nested too deeply")
            if stack:
                stack[-1][2][0] = False
            heads = stack[-1][0] if stack else []
            if not stack:
                ways = [""]
            elif heads == [""] and not attributes:
                ways = [name]
            else:
                marked = [f"{name}[@{by}={attributes[by]}]" for by in _BY if by in attributes]
                ways = [head + "/" + step if head else step for head in heads for step in (name, *marked)]
            stack.append((ways[:24], at(parser.CurrentByteIndex), [True]))

        def end(_name: str) -> None:
            ways, begin, leaf = stack.pop()
            opened = _tag_end(text, begin)
            closing = at(parser.CurrentByteIndex)
            last = opened if text[opened - 2 : opened] == "/>" else text.index(">", closing) + 1
            found.append(_Element(tuple(ways), begin, opened, closing, last, leaf[0]))

        parser.StartElementHandler = start
        parser.EndElementHandler = end
        parser.StartDoctypeDeclHandler = refuse
        try:
            parser.Parse(data, True)
        except xml.parsers.expat.ExpatError as broken:
            raise ValueError(f"not XML: {broken}") from None
        return sorted(found, key=lambda one: one.start)

    def find(self, text: str) -> dict[str, Found]:
        """Every text and attribute with its place."""
        found: dict[str, Found] = {}
        for one in self._elements(text) if text.strip() else ():
            whole = _with_line(text, one.start, one.end)
            has_some = text.find("=", one.start, one.opened) >= 0
            attributes = list(_ATTRIBUTE.finditer(text, one.start, one.opened)) if has_some else []
            own = [match[1] for match in attributes if match[1] not in _BY]
            for match in attributes:
                begin = match.start()
                while text[begin - 1].isspace():
                    begin -= 1
                value = Found(html.unescape(match[2][1:-1]), match.start(2), match.end(2), (begin, match.end()))
                entry = value._replace(whole=whole) if own == [match[1]] and one.leaf else value
                for way in one.ways:  # one of many that says nothing else goes as a whole
                    found.setdefault(f"{way}/@{match[1]}".lstrip("/"), entry if way.endswith("]") else value)
            if one.leaf and one.ways != ("",):
                empty = text[one.opened - 2 : one.opened] == "/>"
                inside = (one.start, one.end) if empty else (one.opened, one.closing)
                raw = "" if empty else text[inside[0] : inside[1]].strip()
                for way in one.ways:
                    found.setdefault(way, Found(_meant(raw), inside[0], inside[1], whole))
        return found

    def write(self, value: Scalar, old: str | None) -> str:
        """The value with what XML needs escaped; blanks around the old one stay."""
        text = html.escape(self.spell(value), quote=True)
        if old is None:
            return text
        if old[:1] in ('"', "'"):
            return f"{old[0]}{text}{old[0]}"
        if old.lstrip().startswith("<!"):  # comments stay before what is said now
            return "".join(_COMMENT.findall(old)) + text
        if old.startswith("<"):  # <name a="b"/> gets an inside
            name = re.match(r"<([\w:.-]+)", old)
            assert name is not None
            return f"{old[:-2].rstrip()}>{text}</{name[1]}>"
        blank = old[: len(old) - len(old.lstrip())], old[len(old.rstrip()) :]
        return f"{blank[0]}{text}{blank[1] if old.strip() else ''}"

    def add(self, text: str, key: str, value: Scalar) -> str:
        """A new element or attribute where its path says. Raises NotWritableError."""
        if not text.strip():
            raise NotWritableError("the file is empty, and its root element is unknown")
        elements = self._elements(text)
        steps = _steps(key)
        attribute = steps.pop()[1:] if steps and steps[-1].startswith("@") else None
        parent = elements[0]
        for count in range(len(steps), 0, -1):
            way = "/".join(steps[:count])
            known = next((one for one in elements if way in one.ways), None)
            if known is not None:
                parent, steps = known, steps[count:]
                break
        if not steps and attribute is not None:
            stop = parent.opened - (2 if text[parent.opened - 2 : parent.opened] == "/>" else 1)
            place = len(text[:stop].rstrip())
            return text[:place] + f' {attribute}="{self.write(value, None)}"' + text[place:]
        if not steps:
            raise NotWritableError(f"{key} has child elements and no text")
        made = self._made(steps, attribute, self.write(value, None))
        end = line_end(text)
        line = text.rfind("\n", 0, parent.start) + 1
        indent = text[line : parent.start] if not text[line : parent.start].strip() else ""
        if text[parent.opened - 2 : parent.opened] == "/>":
            name = re.match(r"<([\w:.-]+)", text[parent.start :])
            assert name is not None
            head = text[parent.start : parent.opened - 2].rstrip()
            inside = f"{head}>{end}{indent}  {made}{end}{indent}</{name[1]}>"
            return text[: parent.start] + inside + text[parent.end :]
        place = len(text[: parent.closing].rstrip())
        place = max(place, parent.opened)
        return text[:place] + f"{end}{indent}  {made}{end}{indent}" + text[parent.closing :]

    @staticmethod
    def _made(steps: list[str], attribute: str | None, value: str) -> str:
        """The elements that are missing on a path, as text."""
        made = value if attribute is None else ""
        for number, step in enumerate(reversed(steps)):
            match = _STEP.fullmatch(step)
            if match is None:
                raise NotWritableError(f"{step!r} is not an element")
            head = match["name"] + (f' {match["by"]}="{html.escape(match["is"])}"' if match["by"] else "")
            if number == 0 and attribute is not None:
                made = f'<{head} {attribute}="{value}"/>'
            else:
                made = f"<{head}>{made}</{match['name']}>"
        return made


def _meant(raw: str) -> str:
    """What the text of an element says, without comments."""
    if "<" in raw:
        raw = _COMMENT.sub("", raw).strip()
        if raw.startswith("<![CDATA[") and raw.endswith("]]>"):
            return raw[9:-3]
    return html.unescape(raw) if "&" in raw else raw


def _steps(key: str) -> list[str]:
    return re.findall(r"(?:[^/\[]|\[[^\]]*\])+", key)


def _tag_end(text: str, at: int) -> int:
    """Behind the ``>`` of the tag that begins there."""
    match = _TAG.match(text, at)
    assert match is not None
    return match.end()


def _with_line(text: str, start: int, end: int) -> tuple[int, int]:
    """The span with its line where nothing else is in that."""
    begin = text.rfind("\n", 0, start) + 1
    last = text.find("\n", end)
    last = len(text) if last < 0 else last + 1
    alone = not text[begin:start].strip() and not text[end:last].strip()
    return (begin, last) if alone else (start, end)


def _offsets(text: str) -> list[int]:
    """The place in the text for each byte of it in UTF-8."""
    places: list[int] = []
    for number, character in enumerate(text):
        places += [number] * len(character.encode("utf-8", "surrogatepass"))
    return [*places, len(text)]
