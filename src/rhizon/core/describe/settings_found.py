"""The settings and ports that a server's own files show: every key, its type by its value, its meaning by comments."""

import re
from collections.abc import Iterator
from typing import NamedTuple

from rhizon.core.argument_keys import VARIABLE
from rhizon.core.describe.folder import FileFacts, FolderFacts
from rhizon.core.settings.dialects import DIALECTS
from rhizon.core.settings.shared import SHARED, meant

__all__ = ["FoundKey", "found_keys"]

BY_ENDING = {
    "properties": ("properties",),
    "ini": ("ini", "properties"),
    "cfg": ("semicolon", "ini", "properties"),
    "conf": ("semicolon", "ini", "properties"),
    "json": ("json", "jsonc"),
    "jsonc": ("jsonc",),
    "json5": ("jsonc",),
    "lua": ("lua",),
    "toml": ("toml",),
    "yaml": ("yaml",),
    "yml": ("yaml",),
    "xml": ("xml",),
    "env": ("environment",),
}
LARGEST = 256 << 10
MOST_KEYS = 300
DEEPEST = 2
_SECRET = re.compile(r"pass(?:word|wd|phrase)?$|secret|token|api_?key", re.IGNORECASE)
_PORT = re.compile(r"(?:^|_)port(?:$|_)|port$|^port", re.IGNORECASE)
_FLAGS = {"true", "false", "yes", "no", "on", "off"}
_COMMENT = re.compile(r"^\s*(?:#|;|//|--|<!--)+\s*(?P<text>.*?)\s*(?:-->)?\s*$")


class FoundKey(NamedTuple):
    """A key of a settings file: ``kind`` is text, integer or flag, or "port"; ``value`` as it is there."""

    file: str
    dialect: str
    key: str
    name: str
    kind: str
    value: str
    meaning: str
    secret: bool
    encoding: str = "utf-8"

    @property
    def written(self) -> str:
        """The dialect, with the encoding where it is another one than UTF-8."""
        return self.dialect if self.encoding == "utf-8" else f"{self.dialect}@{self.encoding}"


def found_keys(folder: FolderFacts, left_out: tuple[str, ...] = ()) -> list[FoundKey]:
    """Every key of every settings file at most two folders deep; what is below ``left_out`` is content or a world."""
    found: list[FoundKey] = []
    used: set[str] = set()
    for file in folder.files:
        if file.path.startswith(tuple(f"{one}/" for one in left_out)) or file.path.count("/") > DEEPEST:
            continue
        dialect, values = _read(file)
        for key, value in list(values.items())[:MOST_KEYS]:
            one = _key(file, dialect, key, value, used)
            if one is not None:
                used.add(one.name)
                found.append(one)
    return found


def _read(file: FileFacts) -> tuple[str, dict[str, str]]:
    """The dialect of a file, and what it says; nothing for what is no settings file."""
    if file.data is None or file.size > LARGEST:
        return "", {}
    for dialect in BY_ENDING.get(file.ending, ()):
        if file.ending in ("cfg", "conf") and (dialect == "semicolon") != (b";\n" in file.data.replace(b"\r", b"")):
            continue
        try:
            values = DIALECTS[dialect if _is_utf8(file.data) else f"{dialect}@latin-1"].read(file.data)
        except (ValueError, RecursionError):
            continue
        if values:
            return dialect, dict(values)
    return "", {}


def _is_utf8(data: bytes) -> bool:
    try:
        data.decode("utf-8")
    except UnicodeDecodeError:
        return data.startswith((b"\xff\xfe", b"\xfe\xff"))
    return True


def _key(file: FileFacts, dialect: str, key: str, value: str, used: set[str]) -> FoundKey | None:
    """One of them, under a name that no other has."""
    last = re.sub(r"\[.*?\]|@", "", key).rstrip("/").rpartition("/")[2]
    if key.startswith(("xmlns", "@xmlns")) or not last or (dialect == "environment" and not VARIABLE.fullmatch(key)):
        return None
    words = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", last)
    name = re.sub(r"[^a-z0-9]+", "_", words.lower()).strip("_") or "value"
    if name[0].isdigit():
        name = f"key_{name}"
    text = value.strip()
    number = re.fullmatch(r"\d{1,18}", text) is not None
    is_port = number and _PORT.search(name) is not None and 0 < int(text) < 65536
    kind = "port" if is_port else "flag" if text.lower() in _FLAGS else "integer" if number else "text"
    if not is_port:
        shared = name if name in SHARED else meant(name)
        if shared is not None and kind in SHARED[shared].types and shared not in used:
            name = shared
    name = next(one for one in _names(name, key) if one not in used)
    meaning = _meaning(file, last, text) or key
    encoding = "utf-8" if _is_utf8(file.data or b"") else "latin-1"
    secret = bool(_SECRET.search(name))
    return FoundKey(file.path, dialect, key, name[:60], kind, value, meaning[:120], secret, encoding)


def _names(name: str, key: str) -> Iterator[str]:
    """The name itself, then with what is before it, then with a number."""
    yield name
    around = re.sub(r"[^a-z0-9]+", "_", re.sub(r"\[.*?\]|@", "", key).lower()).strip("_")
    yield around if around and not around[0].isdigit() else f"key_{around}"
    yield from (f"{name}_{number}" for number in range(2, 1 << 16))


def _meaning(file: FileFacts, key: str, value: str) -> str:
    """What a comment on the line of a key, or on the line before it, says."""
    lines = (file.data or b"").decode("utf-8" if _is_utf8(file.data or b"") else "latin-1", "replace").splitlines()
    for number, line in enumerate(lines):
        at = line.find(key)
        if at < 0 or (value and value not in line[at:]):
            continue
        end = line.find(value, at + len(key)) + len(value) if value else at + len(key)
        behind = re.match(r"[\"'\s,;})\]/>=]*?(?:#|;|//|--|<!--)\s*(?P<text>[^#;]*?)\s*(?:-->)?\s*$", line[end:])
        if behind is not None and behind["text"]:
            return behind["text"]
        before = _COMMENT.match(lines[number - 1]) if number else None
        return before["text"] if before is not None else ""
    return ""
