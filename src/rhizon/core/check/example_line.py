"""A line that a pattern matches, made from the pattern: what comes first where there is a choice."""

import re
from re import _constants as codes  # type: ignore[attr-defined]
from re import _parser as parser  # type: ignore[attr-defined]
from typing import Any

__all__ = ["example_line"]

_CATEGORIES = {
    "CATEGORY_DIGIT": "7",
    "CATEGORY_WORD": "w",
    "CATEGORY_SPACE": " ",
    "CATEGORY_NOT_DIGIT": "x",
    "CATEGORY_NOT_WORD": "-",
    "CATEGORY_NOT_SPACE": "x",
}
_PRINTABLE = [chr(number) for number in range(32, 127)]


def example_line(pattern: str) -> str | None:
    """None where none was found that the pattern really matches, as with one that looks ahead."""
    try:
        made = "".join(_texts(parser.parse(pattern), {}))
    except (re.error, NotImplementedError, RecursionError):
        return None
    return made if re.search(pattern, made) else None


def _texts(parts: Any, groups: dict[int, str]) -> list[str]:
    return [_text(str(code), value, groups) for code, value in parts]


def _text(code: str, value: Any, groups: dict[int, str]) -> str:
    match code:
        case "LITERAL":
            return chr(value)
        case "NOT_LITERAL":
            return next(one for one in _PRINTABLE if ord(one) != value)
        case "ANY":
            return "x"
        case "IN":
            return _one_of(value)
        case "BRANCH":
            return "".join(_texts(value[1][0], groups))
        case "SUBPATTERN":
            groups[value[0]] = "".join(_texts(value[3], groups))
            return groups[value[0]]
        case "GROUPREF":
            return groups.get(value, "")
        case "MAX_REPEAT" | "MIN_REPEAT" | "POSSESSIVE_REPEAT":
            least, most, inner = value
            return "".join("".join(_texts(inner, groups)) for _ in range(max(least, min(1, most))))
        case "AT" | "ASSERT_NOT":
            return ""
    raise NotImplementedError(code)


def _one_of(value: Any) -> str:
    """A character of a set."""
    kind, first = value[0]
    if str(kind) == "NEGATE":
        refused = re.compile(f"[{''.join(_class_text(one) for one in value[1:])}]")
        return next(one for one in ["x", *_PRINTABLE] if not refused.match(one))
    if kind is codes.RANGE:
        return chr(first[0])
    if kind is codes.CATEGORY:
        return _CATEGORIES.get(str(first), "x")
    return chr(first)


def _class_text(one: Any) -> str:
    kind, value = one
    if kind is codes.RANGE:
        return f"{re.escape(chr(value[0]))}-{re.escape(chr(value[1]))}"
    if kind is codes.CATEGORY:
        return {"CATEGORY_DIGIT": r"\d", "CATEGORY_WORD": r"\w", "CATEGORY_SPACE": r"\s"}.get(str(value), "")
    return re.escape(chr(value))
