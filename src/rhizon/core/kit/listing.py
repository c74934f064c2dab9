"""What can stand for a player's folder: a listing that was pasted, or the client's log.

The forms are those of ``sha256sum`` (GNU coreutils, "digest output modes"), ``ls -l`` and ``ls -lR`` (POSIX), ``dir``
and ``dir /s`` (Windows, in any language), and names alone.
"""

import re
from collections.abc import Iterator

from rhizon.core.kit.judge import Fit, Seen, SeenFile, judge_loaded, read_mark
from rhizon.core.model.kit import KitManifest

__all__ = ["MOST_LINES", "is_log", "judge_log", "parse_listing"]

MOST_LINES = 200_000
LONGEST_PATH = 1000
_CONTROL = re.compile(r"\x1b\[[0-9;?]*[ -/]*[@-~]|[\x00-\x08\x0b-\x1f\x7f-\x9f]")
_SUM = re.compile(r"\\?(?P<sha256>[0-9a-fA-F]{64})[ \t][ *]?(?P<path>\S.*)")
_LS = re.compile(
    r"(?P<type>[-dlbcps])[-rwxsStT]{9}[.+@]?\s+\d+\s+\S+\s+\S+\s+(?P<size>\d+)\s+"
    r"(?:\w{3,5}\.?\s+\d{1,2}|\d{1,2}\.?\s+\w{3,5}\.?|\d{4}-\d\d-\d\d)\s+[\d:.]{4,18}(?:\s[+-]\d{4})?\s(?P<path>.+)"
)
_DIR = re.compile(
    r"\d{1,4}[./-]\d{1,2}[./-]\d{1,4}\s+\d{1,2}:\d\d(?:\s?[AaPp]\.?\s?[Mm]\.?)?\s+"
    r"(?P<size><[A-Z]+>|\d[\d.,'\u00a0\u202f ]*)\s+(?P<path>\S.*)"
)
_DIR_HEAD = re.compile(r"\s\S.*\s(?P<folder>[A-Za-z]:\\.*|\\\\.*)")
_LS_HEAD = re.compile(r"(?P<folder>[^:]+):")


def parse_listing(text: str) -> Seen:
    """A pasted listing as a folder: sizes and hashes as far as it has them. Lines that are none of it are left out."""
    return Seen(files=tuple(_files(text)), whole=True)


def _files(text: str) -> Iterator[SeenFile]:
    folder = ""
    lines = [_CONTROL.sub("", line[:LONGEST_PATH]).rstrip() for line in text.splitlines()[:MOST_LINES]]
    form = _form(lines)
    for line in lines:
        if not line.strip():
            continue
        if form == "sum":
            match = _SUM.fullmatch(line)
            if match is not None:
                yield SeenFile(path=match["path"], sha256=match["sha256"].lower())
        elif form == "ls":
            match, head = _LS.fullmatch(line), _LS_HEAD.fullmatch(line)
            if match is not None and match["type"] == "-":
                yield SeenFile(path=_joined(folder, match["path"]), size=int(match["size"]))
            elif match is None and head is not None:
                folder = head["folder"]
        elif form == "dir":
            match, head = _DIR.fullmatch(line.strip()), _DIR_HEAD.fullmatch(line)
            if match is not None and not match["size"].startswith("<"):
                size = re.sub(r"\D", "", match["size"])
                yield SeenFile(path=_joined(folder, match["path"]), size=int(size))
            elif match is None and head is not None:
                folder = head["folder"]
        elif not line.endswith((":", "/", "\\")):
            yield SeenFile(path=line.strip().removeprefix("./"))


def _form(lines: list[str]) -> str:
    """The form that most lines have."""
    counts = {
        "sum": sum(_SUM.fullmatch(line) is not None for line in lines),
        "ls": sum(_LS.fullmatch(line) is not None for line in lines),
        "dir": sum(_DIR.fullmatch(line.strip()) is not None for line in lines),
    }
    best = max(counts, key=lambda name: counts[name])
    return best if counts[best] else "names"


def _joined(folder: str, name: str) -> str:
    return f"{folder.rstrip('/')}/{name}" if folder not in ("", ".") else name


def is_log(manifest: KitManifest, text: str) -> bool:
    """Whether a text is a log of the game's client, by the definition's patterns."""
    return manifest.log is not None and any(_said(manifest.log.content, text))


def _said(pattern: str, text: str) -> Iterator[tuple[str, str]]:
    compiled = re.compile(pattern)
    for line in text.splitlines()[:MOST_LINES]:
        match = compiled.search(line[:LONGEST_PATH])
        if match is not None:
            yield match["id"], match["version"]


def judge_log(manifest: KitManifest, text: str) -> Fit:
    """By the last start that a client's log tells of. The manifest has a log rule."""
    rule = manifest.log
    assert rule is not None
    lines = text.splitlines()[-MOST_LINES:]
    begin = 0
    if rule.game or rule.loader:
        first = re.compile(rule.game or rule.loader)
        begin = max((number for number, line in enumerate(lines) if first.search(line[:LONGEST_PATH])), default=0)
    last = "\n".join(lines[begin:])
    loaded: dict[str, list[str]] = {}
    for name, version in _said(rule.content, last):
        loaded.setdefault(name, []).append(version)
    loader = read_mark(rule.loader, last) if rule.loader else None
    game = read_mark(rule.game, last) if rule.game else None
    return judge_loaded(manifest, loaded, loader[1] if loader is not None else "", game[1] if game is not None else "")
