"""What Rhizon keeps on a rented server, in a folder of its own there: the record of what was sent, the mark of a change
that is not finished, the way back from the last push, and what is staged."""

import getpass
import platform
import time
import uuid
from collections.abc import Callable
from typing import Literal, TypeVar

from rhizon.adapters.remotes.files import RemoteFiles
from rhizon.core.errors import DocumentError, StateError
from rhizon.core.model.base import Strict
from rhizon.core.model.decode import encode_json
from rhizon.core.model.documents import decode
from rhizon.core.model.remote import PushMark, PushRecord, PushUndo, RemoteDefinition
from rhizon.core.names import printable
from rhizon.core.remote.start_file import start_file

__all__ = [
    "ASIDE",
    "BEFORE",
    "COMING_RECORD",
    "INCOMING",
    "LARGEST_DOCUMENT",
    "MARK",
    "OWN_FOLDER",
    "RECORD",
    "STAGED",
    "UNDO",
    "WORLD_BEFORE",
    "WORLD_COMING",
    "away",
    "own_record",
    "put",
    "read_mark",
    "read_record",
    "read_undo",
    "take_mark",
]

OWN_FOLDER = ".rhizon-push"
RECORD, COMING_RECORD, UNDO = (f"{OWN_FOLDER}/{name}.json" for name in ("record", "coming", "undo"))
MARK, ASIDE, CLOCK = (f"{OWN_FOLDER}/{name}" for name in ("incomplete", "start-before", "clock"))
INCOMING, BEFORE = f"{OWN_FOLDER}/incoming", f"{OWN_FOLDER}/before"
WORLD_COMING, WORLD_BEFORE = f"{OWN_FOLDER}/world-coming", f"{OWN_FOLDER}/world-before"
STAGED = (INCOMING, BEFORE, WORLD_COMING, WORLD_BEFORE)  # folders that a listing need not go into
LARGEST_DOCUMENT = 64 << 20
STALE_SECONDS = 3600  # a change of somebody else that has not moved for so long has broken off

D = TypeVar("D", bound=Strict)


def _document(kind: type[D], data: bytes | None, path: str) -> D | None:
    """None where it is not there, or was cut short: then the server is looked at as if there were none."""
    if data is None:
        return None
    try:
        return decode(kind, data, path)
    except DocumentError:
        return None


def read_record(files: RemoteFiles, path: str) -> PushRecord | None:
    """What was sent there, or is coming."""
    return _document(PushRecord, files.read(path, LARGEST_DOCUMENT), path)


def read_undo(files: RemoteFiles) -> PushUndo | None:
    """The way back from the last push."""
    return _document(PushUndo, files.read(UNDO, LARGEST_DOCUMENT), UNDO)


def own_record(data: bytes | None, remote: RemoteDefinition, name: str) -> PushRecord | None:
    """What was sent there before, from the record's bytes. Raises StateError where it is another server's."""
    record = _document(PushRecord, data, RECORD)
    if record is not None and record.server != name:
        raise StateError(
            "push-other-server",
            f"{remote.name} has the server {record.server}, not {name}",
            hint=f"Use another remote, or remove {OWN_FOLDER} there if it is to be replaced.",
        )
    return record


def read_mark(files: RemoteFiles) -> PushMark | None:
    """The change that is not finished."""
    data = files.read(MARK, 1 << 16)
    if data is None:
        return None
    found = _document(PushMark, data, MARK)
    return found or PushMark(format="rhizon-push-mark/1", who="somebody", host="", since=0, push="")


def take_mark(files: RemoteFiles, what: Literal["push", "undo", "restore"]) -> PushMark | None:
    """Says there that a change has begun; answers the one that broke off before. Raises StateError while somebody
    else's goes on."""
    mine = PushMark(
        format="rhizon-push-mark/1",
        who=printable(getpass.getuser(), 60),
        host=printable(platform.node(), 60) or "?",
        since=int(time.time()),
        push=uuid.uuid4().hex,
        what=what,
    )
    if files.create(MARK, encode_json(mine)):
        return None
    other = read_mark(files)
    if other is not None and other.push and (other.who, other.host) != (mine.who, mine.host):
        quiet = _seconds_quiet(files, other)
        if quiet < STALE_SECONDS:
            raise StateError(
                "push-busy",
                f"{other.who} on {other.host} has begun a {other.what} there, which moved {_ago(quiet)}",
                hint="Wait until it has ended; one that has not moved for an hour is taken over.",
            )
    if other is not None and (other.what == "restore") != (what == "restore"):
        raise StateError(
            "remote-incomplete",
            f"a {other.what} there has broken off: what is there is not whole",
            hint=f"End it first: run that {other.what} again.",
        )
    files.write(MARK, encode_json(mine))
    return other


def _seconds_quiet(files: RemoteFiles, other: PushMark) -> float:
    """For how long nothing of a change has been written, by the clock there; by the clocks of those who began it and of
    here where that is not known."""
    files.write(CLOCK, b"now")
    listed = files.listing([BEFORE, WORLD_BEFORE], [MARK, CLOCK], OWN_FOLDER)
    files.remove(CLOCK)
    clock = listed.pop(CLOCK, None)
    moved = max((one.mtime for path, one in listed.items() if path == MARK or path.startswith(STAGED)), default=0)
    if clock is None or not clock.mtime or not moved:
        return time.time() - other.since
    return clock.mtime - moved


def _ago(seconds: float) -> str:
    return f"{seconds / 60:.0f} min ago" if seconds >= 60 else "just now"


def put(files: RemoteFiles, before: str, after: str) -> None:
    """A rename over what is there."""
    if not files.replaces:
        files.remove(after)
    files.rename(before, after)


def away(files: RemoteFiles, remote: RemoteDefinition, work: Callable[[], None]) -> None:
    """Does something while what the host starts is not there. If that fails it stays away: a server of which half is
    missing must not start."""
    start = start_file(remote)
    if files.read(start, 1) is not None:
        put(files, start, ASIDE)
    work()
    if files.read(start, 1) is None and files.read(ASIDE, 1) is not None:
        put(files, ASIDE, start)
    files.remove(ASIDE)
