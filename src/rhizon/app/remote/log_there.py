"""The log of a rented server, read there and judged as at home."""

import fnmatch
from pathlib import Path

import msgspec

from rhizon.adapters.remotes.files import RemoteFiles
from rhizon.app.foresee.good_runs import seen_in_good_runs
from rhizon.app.host import Host
from rhizon.app.instance.state import InstanceState, require_instance_state
from rhizon.app.remote.control_there import rhizon_there
from rhizon.app.remote.remotes import find_remote, with_tries
from rhizon.app.reporter import Reporter
from rhizon.app.run.blame import suspect_of
from rhizon.app.run.logs import MOST_LINES, LogLine, LogWishes, Reader
from rhizon.core.boot import BootFailure, BootJudge
from rhizon.core.errors import InputError
from rhizon.core.finding import Finding
from rhizon.core.model.game import LogFile
from rhizon.core.model.remote import RemoteDefinition
from rhizon.core.names import printable
from rhizon.core.words import command_line

__all__ = ["LogThere", "read_log_there"]

MOST_BYTES = 16 << 20  # of the end of a log
AFTER_READY = 400  # lines of the end that are judged where the server was ready


class _TheirLine(msgspec.Struct, frozen=True):
    text: str


class _TheirLog(msgspec.Struct, frozen=True):
    """What is of use in the answer of another Rhizon."""

    runs: int
    lines: list[_TheirLine]


class LogThere(msgspec.Struct, frozen=True, kw_only=True):
    """Lines of a log file there, ``file``; ``run`` is 1 for the newest of ``runs``. ``ready`` says whether the server
    became ready in it; findings are why it did not, or what ended it, with the content at fault."""

    folder: str
    name: str
    remote: str
    file: str
    run: int
    runs: int
    ready: bool
    lines: tuple[LogLine, ...]
    left_out: int
    findings: tuple[Finding, ...]


def read_log_there(host: Host, folder: Path, word: str, wishes: LogWishes, reporter: Reporter) -> LogThere:
    """Raises InputError (no log there, a wrong pattern), RemoteError."""
    state = require_instance_state(host, host.home(folder).required())
    _, remote = find_remote(host, word)
    if remote.reach.by == "rhizon" and not remote.dictates.log:
        file, texts, runs = _of_rhizon(host, remote, wishes)
    else:
        file, data, runs, encoding = with_tries(
            host, remote, reporter, lambda files: _fetched(state, remote, files, wishes)
        )
        texts = [one.rstrip("\r") for one in data.decode(encoding, "replace").split("\n")]
    if texts and not texts[-1]:
        texts.pop()
    good = seen_in_good_runs(state.home)
    reader = Reader(state.game, good, wishes)
    lines = [line for line in map(reader.read, texts) if line is not None]
    most = min(wishes.lines or MOST_LINES, MOST_LINES)
    judge = _judged(state, good, texts)
    failure = judge.failure if not judge.ready else _judged(state, good, texts[-AFTER_READY:]).failure
    return LogThere(
        folder=str(state.home.folder),
        name=state.instance.name,
        remote=remote.name,
        file=file,
        run=wishes.run,
        runs=runs,
        ready=judge.ready,
        lines=tuple(lines[-most:]),
        left_out=max(0, len(lines) - most),
        findings=tuple(_blamed(host, state, one) for one in [*judge.troubles, *([failure] if failure else [])]),
    )


def _of_rhizon(host: Host, remote: RemoteDefinition, wishes: LogWishes) -> tuple[str, list[str], int]:
    """The log that the Rhizon of that machine has of a run, its lines, and how many runs it keeps."""
    answer = rhizon_there(host, remote, ("log", remote.reach.folder, "--run", str(wishes.run)))
    try:
        result = msgspec.convert((answer or {}).get("result"), _TheirLog)
    except msgspec.ValidationError:
        error = (answer or {}).get("error")
        why = error.get("message") if isinstance(error, dict) else "its Rhizon gives no answer"
        raise InputError(
            "no-log-there", f"{remote.name}: {printable(str(why), 200)}", hint="Has the server been started there?"
        ) from None
    return f"run {wishes.run}", [one.text for one in result.lines], result.runs


def _fetched(
    state: InstanceState, remote: RemoteDefinition, files: RemoteFiles, wishes: LogWishes
) -> tuple[str, bytes, int, str]:
    """The name of the log file, the end of it, how many there are, and its encoding."""
    rules = (LogFile(path=remote.dictates.log),) if remote.dictates.log else state.game.log.files
    if not rules:
        raise InputError(
            "no-log-there",
            f"it is not known where {remote.name} has the log of {state.game.title}",
            hint='Say it in the remote file: [dictates] log = "logs/latest.txt".',
        )
    found = []
    for rule in rules:
        below = rule.path.rpartition("/")[0]
        listed = files.listing(below=below)
        names = [
            one for one in listed if fnmatch.fnmatchcase(one, rule.path) and one.count("/") == rule.path.count("/")
        ]
        found += [(listed[one].mtime, one, listed[one].size, rule.encoding) for one in names]
    found.sort(reverse=True)
    if wishes.run > len(found):
        shown = ", ".join(one.path for one in rules)
        raise InputError(
            "no-log-there" if not found else "no-such-run",
            f"{remote.name} has {len(found)} log files named {shown}",
            hint="The newest one is 1." if found else "Has the server been started there?",
        )
    _, path, size, encoding = found[wishes.run - 1]
    return path, files.read(path, MOST_BYTES, max(0, size - MOST_BYTES)) or b"", len(found), encoding


def _judged(state: InstanceState, good: list[str], texts: list[str]) -> BootJudge:
    judge = BootJudge(state.game, good)
    for text in texts:
        judge.feed(text)
    return judge


def _blamed(host: Host, state: InstanceState, failure: BootFailure) -> Finding:
    """A failure with the content that it is of."""
    suspect = suspect_of(host, state, failure.frames) if failure.culprit is None else None
    culprit = failure.culprit or (suspect.id if suspect is not None else "")
    why = f"; {suspect.why}" if suspect is not None else ""
    return Finding(
        code=failure.code,
        severity="error",
        subject=culprit or "the log there",
        what=f"{failure.what}{why}",
        remedy=failure.hint.replace("{server}", command_line(str(state.home.folder))),
    )
