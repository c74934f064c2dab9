"""Bounds on text that a stranger may have written, before a parser sees it: length, depth, digits of a number.

One place for all of them. Parsers have limits of their own, which differ, grow with the square of their input, or end
in a recursion error; what passes here is harmless to each. (Documents of ours in JSON go to msgspec, whose limits are
as strict and which is asked millions of times.)
"""

import re
from typing import Literal

__all__ = ["MOST_DEEP", "MOST_DIGITS", "Language", "TextLimitError", "bounded"]

Language = Literal["json", "toml", "yaml", "xml", "properties"]

MOST_DEEP = 100
MOST_DIGITS = 400
LARGEST = 32 << 20  # characters; callers that read metadata stop much earlier

_DIGITS = re.compile(rf"[0-9][0-9_]{{{MOST_DIGITS},}}")
# what opens, what closes, and what neither does within: texts and comments. Whatever does not end goes to the end of
# the text, so that nothing is looked at twice.
_TOKENS: dict[str, re.Pattern[str]] = {
    "json": re.compile(r'"(?:[^"\\]|\\.)*+(?:"|\Z)|(?P<open>[\[{])|(?P<close>[\]}])', re.DOTALL),
    "toml": re.compile(
        r'"""(?:[^\\]|\\.)*?(?:"""|\Z)|'
        r"'''.*?(?:'''|\Z)|"
        r'"(?:[^"\\\n]|\\.)*+(?:"|\n|\Z)|'
        r"'[^'\n]*+(?:'|\n|\Z)|#[^\n]*+|"
        r"(?P<open>[\[{])|(?P<close>[\]}])",
        re.DOTALL,
    ),
    "xml": re.compile(
        r"<!--.*?(?:-->|\Z)|<!\[CDATA\[.*?(?:\]\]>|\Z)|<[?!][^<>]*+>|"
        r"(?P<close></[^<>]*+>)|<[^<>]*+(?<=/)>|(?P<open><[^<>]*+>)",
        re.DOTALL,
    ),
}


class TextLimitError(ValueError):
    """The text is beyond what is read; the message says which limit."""


def bounded(text: str, language: Language) -> None:
    """Raises :class:`TextLimitError` for text that no honest author writes: over 32 Mi characters, nested more than 100
    deep, or with a number of more than 400 digits.

    YAML is checked by its parser, which is written without recursion and stops at a depth of its own; properties do not
    nest.
    """
    if len(text) > LARGEST:
        raise TextLimitError(f"it is longer than {LARGEST} characters")
    if language in ("json", "toml", "yaml") and len(text) > MOST_DIGITS:
        digits = _DIGITS.search(text)
        if digits is not None and not _in_text(text, digits.start()):
            raise TextLimitError(f"a number has more than {MOST_DIGITS} digits")
    tokens = _TOKENS.get(language)
    if tokens is None or not _may_be_deep(text, language):
        return
    depth = 0
    for token in tokens.finditer(text):
        if token.lastgroup == "open":
            depth += 1
            if depth > MOST_DEEP:
                raise TextLimitError(f"it is nested more than {MOST_DEEP} deep")
        elif token.lastgroup == "close":
            depth -= 1


def _may_be_deep(text: str, language: Language) -> bool:
    """A count that costs nothing: most texts have fewer brackets than they would need."""
    opening = text.count("<") if language == "xml" else text.count("[") + text.count("{")
    return opening > MOST_DEEP


def _in_text(text: str, at: int) -> bool:
    """Whether a place is within quotes on its line, where digits are not a number."""
    line = text[text.rfind("\n", 0, at) + 1 : at]
    return line.count('"') % 2 == 1 or line.count("'") % 2 == 1
