"""Whose code a failed start was in: the classes of a stack trace, looked up in the archives of the server."""

from collections.abc import Sequence
from pathlib import Path
from typing import NamedTuple

from rhizon.app.archives.on_server import scan_content
from rhizon.app.archives.scan import classes_of
from rhizon.app.host import Host
from rhizon.app.instance.state import InstanceState
from rhizon.core.archives.class_path import ClassPath
from rhizon.core.archives.class_store import ClassStore

__all__ = ["Suspect", "suspect_of"]

MOST_FRAMES = 60


class Suspect(NamedTuple):
    """Content that a failure is likely to be of: its id, its file, and why."""

    id: str
    file: str
    why: str


def suspect_of(host: Host, state: InstanceState, frames: Sequence[str]) -> Suspect | None:
    """The content whose class is the first in a stack trace (classes with dots, the last cause's first) that no other
    archive has; None where no frame is of content."""
    scanned = scan_content(host, state) if frames else []
    files = {one.path: one for one in scanned if one.archive is not None and one.archive.facts is not None}
    archives = {path: one.archive for path, one in files.items() if one.archive is not None}
    path = ClassPath(archives, ClassStore(lambda name: classes_of(Path(name))))
    for name in dict.fromkeys(frames[:MOST_FRAMES]):
        holders = path.holders(name.replace(".", "/"))
        if len(holders) == 1:
            facts = archives[holders[0]].facts
            assert facts is not None
            file = Path(holders[0]).name
            return Suspect(facts.id, file, f"{name} is the first class of content in the stack trace; it is in {file}")
    return None
