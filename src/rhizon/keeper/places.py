"""Names of files in an instance's ``.rhizon/`` that a keeper and the commands share."""

import json
import os
from pathlib import Path
from typing import Any

__all__ = [
    "INPUT",
    "JOB",
    "LIFE",
    "LOCK",
    "OPENED",
    "OUTPUT",
    "OWN",
    "RUNNING",
    "RUNS",
    "SOCKET",
    "TIMES",
    "read_json",
    "write_json",
]

OWN = ".rhizon"
JOB = "keeper-job.json"  # what to start and how; written by the command that starts the keeper
LIFE = "life.json"  # the state of the server, for everyone to read
LOCK = "keeper.lock"  # locked as long as a keeper lives
RUNNING = "running.json"  # the process, and the token of its console
INPUT = "console-input"  # the FIFO that is the server's standard input
SOCKET = "console"
OUTPUT = "last-run.log"  # what the server prints, of the current or the last run
TIMES = "last-run.times"  # lines of "offset time": when output came
OPENED = "opened-ports.json"  # what a router forwards because it was asked to, and when to ask again
RUNS = "runs"  # logs of earlier runs, compressed


def read_json(path: Path) -> dict[str, Any] | None:
    """A JSON object from a file; None where there is none, or it is no object."""
    try:
        found = json.loads(path.read_bytes())
    except (OSError, ValueError):
        return None
    return found if isinstance(found, dict) else None


def write_json(path: Path, document: dict[str, Any], mode: int = 0o644) -> None:
    """Replaces a file whole, in one rename. Raises OSError."""
    beside = path.with_name(f"{path.name}.new")
    beside.unlink(missing_ok=True)
    handle = os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0), mode)
    with os.fdopen(handle, "wb") as file:
        file.write(json.dumps(document).encode())
    beside.replace(path)
