"""What a settings file's bytes show before any dialect reads them: their encoding, and keys that are there twice."""

import codecs
import json
from collections.abc import Iterator

from rhizon.core.check.observation import Encoding

__all__ = ["encoding_of", "repeated_keys"]

_SECTIONS = ("ini",)
_COMMENTS = ("#", "!", ";", "//")
_LINED = ("properties", "ini", "semicolon")


def encoding_of(data: bytes) -> Encoding:
    """How a text was saved, by its first bytes and by whether it is UTF-8."""
    if data.startswith((codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)):
        return "UTF-16"
    if len(data) > 3 and data[1:4:2] == b"\0\0":
        return "UTF-16"
    if data.startswith(codecs.BOM_UTF8):
        return "UTF-8 with a byte order mark"
    try:
        data.decode("utf-8")
    except UnicodeDecodeError:
        return "not UTF-8"
    return "UTF-8"


def repeated_keys(dialect: str, data: bytes) -> dict[str, tuple[int, ...]]:
    """Keys that a file has more than once, with their lines (none for JSON, which is read as a whole)."""
    text = data.decode("utf-8-sig", "replace")
    if dialect == "json":
        return dict.fromkeys(_repeated_in_json(text), ())
    if dialect not in _LINED:
        return {}
    lines: dict[str, list[int]] = {}
    for key, line in _keys_by_line(dialect, text):
        lines.setdefault(key, []).append(line)
    return {key: tuple(where) for key, where in lines.items() if len(where) > 1}


def _keys_by_line(dialect: str, text: str) -> Iterator[tuple[str, int]]:
    section = ""
    goes_on = False
    for number, line in enumerate(text.splitlines(), 1):
        part_of_value, goes_on = goes_on, dialect == "properties" and line.endswith("\\")
        stripped = line.strip()
        if part_of_value or not stripped or stripped.startswith(_COMMENTS):
            continue
        if dialect in _SECTIONS and stripped.startswith("["):
            section = f"{stripped.strip('[]').strip()}/"
            continue
        key, sign, _ = stripped.partition("=")
        if sign:
            yield f"{section}{key.strip()}", number


def _repeated_in_json(text: str) -> list[str]:
    repeated: list[str] = []

    def pairs(found: list[tuple[str, object]]) -> None:
        names = [name for name, _ in found]
        repeated.extend(name for name in dict.fromkeys(names) if names.count(name) > 1)

    try:
        json.loads(text, object_pairs_hook=pairs)
    except (ValueError, RecursionError):
        return []
    return repeated
