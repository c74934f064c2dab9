"""Files with the arguments of a command line, one a line, with ``#`` comments.

The server gets them in the order of the file. A key shows the form of its argument:

- ``--name=`` or ``name=`` holds its value, as one argument;
- ``--name`` has it as the next argument (on the same line here), or only is there or not;
- ``+set name``, a word before the name, makes three arguments of a line ``+set name value``. Which words are such is
  said by a line ``#pairs +set`` of the file, for those who read it without the game's definition;
- ``@1`` is the first argument that has no name, ``@2`` the second.
"""

import re
from collections.abc import Collection, Mapping
from typing import NamedTuple

from rhizon.core.argument_keys import ARGUMENT_KEY, is_switch, pair_words
from rhizon.core.settings.dialects.plain import said_lines, with_line
from rhizon.core.settings.dialects.spans import Found, NotWritableError, Scalar, SpanDialect, line_end

__all__ = ["Arguments", "argument_list"]

_JOINED = re.compile(r"(?P<key>[-+/]\S*?=|\w[\w.]*=)(?P<value>.*)")
_APART = re.compile(r"(?P<key>[-+/]\S*)(?:[ \t]+(?P<value>.*))?")
_PAIR = re.compile(r"(?P<word>\S+)[ \t]+(?P<name>\S+)(?:[ \t]+(?P<value>.*))?")
_PAIRS = re.compile(r"^#pairs(?P<words>(?:[ \t]+\S+)*)[ \t]*\r?$", re.MULTILINE)


class _Argument(NamedTuple):
    """What a line says; ``value`` None: it only is there, ``at`` where the value begins in the line."""

    key: str
    value: str | None
    at: int


class Arguments(SpanDialect):
    """See the module."""

    def find(self, text: str) -> dict[str, Found]:
        """Every argument with its place."""
        found: dict[str, Found] = {}
        words = _words_of(text)
        unnamed = 0
        for begin, end, line in said_lines(text):
            one = _understood(line, words)
            if one is None:
                unnamed += 1
                one = _Argument(f"@{unnamed}", line, 0)
            at = text.index(line, begin)
            value = self.spell(True) if one.value is None else one.value
            found.setdefault(one.key, Found(value, at, at + len(line), (begin, end)))
        return found

    def write(self, value: Scalar, old: str | None) -> str:
        """The line as it is written. Raises NotWritableError for a value that a line cannot have."""
        text = self.spell(value)
        if len(text.splitlines()) > 1:
            raise NotWritableError("an argument is one line")
        return text if old is None else old  # the whole line is made in :meth:`_edited`

    def add(self, text: str, key: str, value: Scalar) -> str:
        """A new line at the end, or behind the last one without a name. Raises NotWritableError."""
        said = self.write(value, None)
        if not ARGUMENT_KEY.fullmatch(key):
            raise NotWritableError(f"{key!r} is not a key of an argument, such as --name=, --name, +set name or @1")
        if key.endswith("="):
            return with_line(text, key + said)
        if not key.startswith("@"):
            return with_line(text, key if value is True else f"{key} {said}")
        _unnamed_checked(said, _words_of(text))
        found = self.find(text)
        before = found.get(f"@{int(key[1:]) - 1}")
        if key != "@1" and before is None:
            raise NotWritableError(f"{key} has no place: the argument before it is missing")
        first = min((one.start for one in found.values()), default=len(text))
        at = before.whole[1] if before is not None and before.whole is not None else first
        if at and not text[:at].endswith("\n"):
            text, at = text + line_end(text), at + len(line_end(text))
        return f"{text[:at]}{said}{line_end(text)}{text[at:]}"

    def edit(self, data: bytes, changes: Mapping[str, Scalar | None]) -> bytes:
        """The file with the changes. Raises NotWritableError."""
        gone = {key: None for key, value in changes.items() if value in (False, "") and is_switch(key)}
        ordered = {key: changes[key] for key in sorted(changes, key=lambda one: one if one.startswith("@") else "")}
        missing = set(pair_words([key for key, value in changes.items() if value is not None])) - {
            *_words_of(self.decoded(data)[0])
        }
        if missing:
            text, encode = self.decoded(data)
            data = encode(f"#pairs {' '.join(sorted(missing))}{line_end(text)}{text}")
        return super().edit(data, {**ordered, **gone})

    def _edited(self, text: str, changes: Mapping[str, Scalar | None]) -> str:
        """The text with the changes: a value is replaced where it stands in its line."""
        for key, value in changes.items():
            found = self.find(text)
            one = found.get(key)
            if one is None or one.whole is None:
                text = self.add(text, key, value) if value is not None else text
            elif value is None:
                if key.startswith("@") and f"@{int(key[1:]) + 1}" in found:
                    raise NotWritableError(f"{key} cannot be left out: another argument without a name follows it")
                text = text[: one.whole[0]] + text[one.whole[1] :]
            elif self.spell(value) != one.value:
                words = _words_of(text)
                line = text[one.start : one.end]
                said = self.write(value, None)
                if key.startswith("@"):
                    _unnamed_checked(said, words)
                    put = said
                else:
                    known = _understood(line, words)
                    assert known is not None
                    put = f"{line} {said}" if known.value is None else line[: known.at] + said
                text = text[: one.start] + put + text[one.end :]
        return text


def argument_list(data: bytes, words: Collection[str] = ()) -> tuple[str, ...]:
    """The arguments that such a file stands for, in its order; ``words`` are those that stand before a name."""
    text = data.decode("utf-8", "surrogateescape")
    known = {*words, *_words_of(text)}
    made: list[str] = []
    for _, _, line in said_lines(text):
        pair = _PAIR.fullmatch(line)
        if pair is not None and pair["word"] in known:
            made += [one for one in pair.groups() if one is not None]
            continue
        apart = None if _JOINED.fullmatch(line) else _APART.fullmatch(line)
        made += [line] if apart is None or apart["value"] is None else [apart["key"], apart["value"]]
    return tuple(made)


def _words_of(text: str) -> frozenset[str]:
    """The words before names that a file tells of."""
    return frozenset(word for match in _PAIRS.finditer(text) for word in match["words"].split())


def _understood(line: str, words: Collection[str]) -> _Argument | None:
    """What a line says; None for an argument without a name."""
    pair = _PAIR.fullmatch(line)
    if pair is not None and pair["word"] in words:
        at = len(line) if pair["value"] is None else pair.start("value")
        return _Argument(f"{pair['word']} {pair['name']}", pair["value"], at)
    match = _JOINED.fullmatch(line) or _APART.fullmatch(line)
    if match is None:
        return None
    return _Argument(match["key"], match["value"], len(line) if match["value"] is None else match.start("value"))


def _unnamed_checked(said: str, words: Collection[str]) -> None:
    """:class:`NotWritableError` for a text that would be read as an argument with a name."""
    if not said or said != said.strip() or said.startswith("#") or _understood(said, words) is not None:
        raise NotWritableError(f"{said!r} cannot be an argument without a name")
