"""Ids and versions as authors write them, as ours.

An id is compared without regard to capitals; what no id of ours can have becomes a hyphen. A version's order:

- numbers count field by field, whatever separates them (``1.2_3`` is 1.2.3, ``2024-11-03`` is 2024.11.3);
- a word of a finished release after them (``Final``, ``GA``, ``RELEASE``) is a build part: it changes no order but
  between two spellings of one version;
- any other word is a preview of the numbers before it (``1.2.3 beta 2`` is 1.2.3-beta.2);
- a version without any number is older than every other; two such are in the order of their letters.
"""

import re

from rhizon.core.names import ID_PATTERN, printable
from rhizon.core.version import Version, VersionRange, parse_range, parse_version

__all__ = ["read_id", "read_version", "version_in_name", "with_read_versions"]

_FINISHED = {"final", "ga", "release", "stable"}
_PART = re.compile(r"\d+|[A-Za-z]+")
_NAMED = re.compile(r"[-_ ]v?(\d[\w.+-]*)$")
_BOUND = re.compile(r"\s*(>=|<=|!=|>|<|=)?\s*(.*?)\s*")
_UNKNOWN = "${"  # of a placeholder that no build filled in


def read_id(text: str) -> str:
    """The id that an author's spelling stands for, such as ``reedlight`` for ``ReedLight``. Raises ValueError for a
    path, and for a text of which nothing remains."""
    found = (
        ""
        if "/" in text or "\\" in text
        else re.sub(r"[^a-z0-9_.-]+", "-", text.strip().lower()).lstrip("-_.")[:64].rstrip("-")
    )
    if not re.match(ID_PATTERN, found):
        raise ValueError(f"{printable(text, 80)!r} is not an id (letters, digits, - _ .)")
    return found


def read_version(text: str) -> Version:
    """The version that an author's spelling stands for. Raises ValueError for an empty text, a placeholder, and one
    without a letter or a number."""
    text = text.strip()
    if _UNKNOWN in text or not text[:1].isalnum() or not text.isascii():
        raise ValueError(f"{printable(text, 80)!r} is not a version")
    text = re.sub(r"(?i)^(?:version|release)[ ._-]+(?=\d)", "", text)
    if not re.fullmatch(r"\d{4}-\d\d?-\d\d?", text):
        try:
            strict = parse_version(text)
        except ValueError:
            pass
        else:
            if not strict.pre or text.rpartition("-")[2].lower() not in _FINISHED:
                return strict
    parts = _PART.findall(text)
    if parts[:1] and parts[0].lower() in ("v", "r", "version", "release") and len(parts) > 1:
        parts = parts[1:]
    numbers: list[str] = []
    while parts and parts[0].isdecimal():
        numbers.append(parts.pop(0)[:18])
    words = [part.lower()[:20] for part in parts]
    spelled = ".".join(numbers) or "0"
    if not numbers and not words:
        raise ValueError(f"{printable(text, 80)!r} is not a version")
    if words:
        finished = words[0] in _FINISHED
        mark = "+" if numbers and finished else "-0." if finished else "-"  # what comes out is read as the same again
        spelled += mark + ".".join(words)
    return parse_version(spelled[:64].rstrip(".+-"))


def version_in_name(file_name: str) -> str:
    """The version that a file name ends in, such as 2.1.0 for ``reedlight-2.1.0.jar``; empty for none."""
    stem = file_name.rpartition("/")[2].rpartition(".")[0]
    stem = re.sub(r" \(\d+\)$", "", stem)
    match = _NAMED.search(stem)
    return match[1] if match else ""


def with_read_versions(text: str) -> VersionRange:
    """A range in comparators whose versions may be spelled as authors do. Raises ValueError with what is right."""
    try:
        return parse_range(text)
    except ValueError:
        bounds = [_BOUND.fullmatch(part) for part in text.split(",")]
        if not all(one is not None and re.match(r"[A-Za-z]*\d", one[2]) for one in bounds):
            raise
        return parse_range(", ".join(f"{one[1] or '='}{read_version(one[2])}" for one in bounds if one is not None))
