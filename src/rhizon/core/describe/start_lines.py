"""How a server is started, by the scripts in its folder: the program, its arguments, its heap."""

import re
import shlex
from collections.abc import Iterator
from typing import NamedTuple

from rhizon.core.describe.folder import FileFacts, FolderFacts

__all__ = ["StartLine", "heap_of", "start_lines", "without_heap"]

SCRIPTS = ("sh", "bat", "cmd", "bash", "command")
_BEFORE = {"exec", "nohup", "call", "start", "nice", "ionice", "env", "sudo", "screen", "tmux", "@echo"}
_ASSIGNED = re.compile(r"(?:export +|set +\"?)?(?P<name>[A-Za-z_]\w*)=(?P<value>.*?)\"?$")
_HEAP = re.compile(r"-Xmx(?P<number>\d+)(?P<unit>[kKmMgGtT]?)|--max-old-space-size=(?P<mib>\d+)")
_HEAP_FLAGS = re.compile(r"-X(?:mx|ms|mn)\S+|--max-old-space-size=\d+")
_UNITS = {"": 1 / (1 << 20), "k": 1 / 1024, "m": 1, "g": 1024, "t": 1 << 20}
RUNTIMES = {"java": "java", "javaw": "java", "mono": "mono", "python": "python", "python3": "python", "node": "node"}


class StartLine(NamedTuple):
    """A line that starts a server: from which file, its words, the variables set before it."""

    source: str
    words: tuple[str, ...]
    variables: dict[str, str]

    @property
    def runtime(self) -> str:
        """The family of its program, "" where it is not one that is known by its name."""
        return RUNTIMES.get(re.sub(r"\.exe$", "", self.words[0].replace("\\", "/").rpartition("/")[2].lower()), "")


def start_lines(folder: FolderFacts) -> list[StartLine]:
    """Every line of a script in the folder that starts a program of the folder, or a runtime with a file of it."""
    return [
        one for file in folder.files if file.ending in SCRIPTS and "/" not in file.path for one in _of(file, folder)
    ]


def _of(file: FileFacts, folder: FolderFacts) -> Iterator[StartLine]:
    text = (file.data or b"").decode("utf-8", "replace").replace("\\\n", " ").replace("^\r\n", " ")
    variables: dict[str, str] = {}
    for line in text.splitlines():
        line = line.strip()
        if not line or line.startswith(("#", "::", "rem ", "REM ")):
            continue
        assigned = _ASSIGNED.fullmatch(line)
        if assigned is not None and " " not in assigned["value"].strip("\"'"):
            variables[assigned["name"]] = assigned["value"].strip("\"'")
            continue
        if assigned is not None:
            variables[assigned["name"]] = assigned["value"].strip("\"'")
        words = _words(line, variables)
        if words and _starts(words, folder):
            used = {
                name: value for name, value in variables.items() if f"${name}" not in text and f"%{name}%" not in text
            }
            yield StartLine(file.path, tuple(words), used if "export" in text or file.ending in ("bat", "cmd") else {})


def _words(line: str, variables: dict[str, str]) -> list[str]:
    for name, value in variables.items():
        for spelled in (f"${{{name}}}", f"%{name}%", f"${name}"):
            line = line.replace(spelled, value)
    line = re.sub(r'"\$@"|\$\*|%\*|\$@', "", line)
    line = re.sub(r"(?:\d?>>?|<)\s*\S+|\|.*$|&\s*$|;.*$", "", line)
    try:
        words = shlex.split(line, posix=True)
    except ValueError:
        return []
    while words and (words[0].lower() in _BEFORE or _ASSIGNED.fullmatch(words[0])):
        words.pop(0)
    return words


def _starts(words: list[str], folder: FolderFacts) -> bool:
    program = words[0].replace("\\", "/").removeprefix("./")
    if folder.file(program) is not None:
        return True
    named = re.sub(r"\.exe$", "", program.rpartition("/")[2].lower()) in RUNTIMES
    parts = [part for word in words[1:] for part in (word, *re.split(r"[:;=]", word))]
    return named and any(folder.file(one.replace("\\", "/").removeprefix("./")) is not None for one in parts)


def heap_of(words: tuple[str, ...]) -> int:
    """The heap that flags give, in MiB; 0 where they give none."""
    for word in words:
        match = _HEAP.fullmatch(word)
        if match is not None:
            return int(match["mib"]) if match["mib"] else int(int(match["number"]) * _UNITS[match["unit"].lower()])
    return 0


def without_heap(words: tuple[str, ...]) -> tuple[str, ...]:
    """The words without the flags of the heap, which Rhizon gives itself."""
    return tuple(word for word in words if not _HEAP_FLAGS.fullmatch(word))
