"""The way back from the last push: what it moved aside on the rented server comes back, what it added goes."""

import contextlib
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.adapters.remotes.files import RemoteFiles
from rhizon.app.host import Host
from rhizon.app.instance.exclusive import exclusive
from rhizon.app.instance.state import require_instance_state
from rhizon.app.remote.control_there import require_stopped_there
from rhizon.app.remote.push import ServerThere
from rhizon.app.remote.records import (
    ASIDE,
    BEFORE,
    COMING_RECORD,
    MARK,
    RECORD,
    UNDO,
    away,
    put,
    read_mark,
    read_undo,
    take_mark,
)
from rhizon.app.remote.remotes import find_remote, with_tries
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError
from rhizon.core.finding import Finding
from rhizon.core.model.decode import encode_json
from rhizon.core.model.remote import PushedFile, PushRecord, PushUndo, RemoteDefinition
from rhizon.core.names import RelPath
from rhizon.core.remote.push_plan import ThereFile, was_changed
from rhizon.core.remote.start_file import start_file
from rhizon.core.units import counted

__all__ = ["UndoThereResult", "UndoThereStep", "undo_there"]


class UndoThereStep(msgspec.Struct, frozen=True, kw_only=True):
    """What is done to one file there."""

    action: Literal["bring back", "remove", "leave"]
    path: RelPath
    reason: str


class UndoThereResult(msgspec.Struct, frozen=True, kw_only=True):
    """What was undone, or would be: the push that began at ``since`` (seconds since 1970)."""

    folder: str
    name: str
    remote: str
    planned: bool
    since: int
    steps: tuple[UndoThereStep, ...]
    findings: tuple[Finding, ...]


def undo_there(host: Host, folder: Path, word: str, reporter: Reporter, *, dry_run: bool = False) -> UndoThereResult:
    """Takes the last push back, also one that broke off. What was changed there since stays.

    Raises InputError where there is nothing to undo, RemoteError, :class:`StateError` (another change goes on).
    """
    home = host.home(folder).required()
    _, remote = find_remote(host, word)
    if not dry_run:
        require_stopped_there(host, folder, word, reporter)
    with exclusive(host, home, reporter) if not dry_run else contextlib.nullcontext():
        server = ServerThere(require_instance_state(host, home), remote)
        return with_tries(host, remote, reporter, lambda files: _Undo(server, files, reporter).go(dry_run=dry_run))


class _Undo:
    """One undo over one connection."""

    def __init__(self, server: ServerThere, files: RemoteFiles, reporter: Reporter) -> None:
        self._server, self._files, self._reporter = server, files, reporter
        self._remote: RemoteDefinition = server.remote
        self._name = server.state.instance.name

    def go(self, *, dry_run: bool) -> UndoThereResult:
        self._reporter.step("listing what is there")
        there = self._files.listing(self._server.leave, self._server.exact)
        way_back = read_undo(self._files) if UNDO in there else None
        mark = read_mark(self._files) if MARK in there else None
        if mark is not None and (way_back is None if mark.what == "undo" else COMING_RECORD not in there):
            return self._cleared(way_back, dry_run=dry_run)
        if way_back is None or way_back.server != self._name:
            raise InputError(
                "nothing-kept",
                f"nothing to undo on {self._remote.name}",
                hint="History there starts with the first push; one push can be taken back.",
            )
        sent = self._server.sent(self._files, there)
        aside = {path.removeprefix(f"{BEFORE}/"): one for path, one in self._files.listing(below=BEFORE).items()}
        steps = _planned(way_back, sent, there, aside)
        if not dry_run:
            take_mark(self._files, "undo")
            self._reporter.step("bringing back what was there")
            away(self._files, self._remote, lambda: self._bring_back(steps))
            self._settle(way_back, steps)
        return self._result(way_back.since, steps, planned=dry_run)

    def _result(self, since: int, steps: list[UndoThereStep], *, planned: bool) -> UndoThereResult:
        return UndoThereResult(
            folder=str(self._server.state.home.folder),
            name=self._name,
            remote=self._remote.name,
            planned=planned,
            since=since,
            steps=tuple(steps),
            findings=tuple(_left(one) for one in steps if one.action == "leave"),
        )

    def _cleared(self, way_back: PushUndo | None, *, dry_run: bool) -> UndoThereResult:
        """Of a push that broke off before a file changed places, or an undo that broke off after the last one did, only
        the mark is left."""
        if not dry_run:
            take_mark(self._files, "undo")
            if way_back is None:
                self._files.remove_folder(BEFORE)
            self._files.remove(MARK)
            self._reporter.done("no file had changed places")
        return self._result(int(time.time()), [], planned=dry_run)

    def _bring_back(self, steps: list[UndoThereStep]) -> None:
        """The start file comes last."""
        files, start = self._files, start_file(self._remote)
        gone = [str(one.path) for one in steps if one.action == "remove"]
        files.remove_all([*gone, *([ASIDE] if start in gone else [])])
        back = [one.path for one in steps if one.action == "bring back"]
        if not files.replaces:
            files.remove_all(back)
        files.rename_all([(f"{BEFORE}/{path}", str(path)) for path in back if path != start])
        if start in back:
            put(files, f"{BEFORE}/{start}", start)

    def _settle(self, way_back: PushUndo, steps: list[UndoThereStep]) -> None:
        """Writes down what is there now; a file that stayed counts as changed there."""
        now = self._files.listing(self._server.leave, self._server.exact)
        records = {path: one for path, one in way_back.files.items() if path in now}
        record = PushRecord(format="rhizon-push/1", server=self._name, files=records)
        self._files.write(RECORD, encode_json(record))
        self._files.remove_all([UNDO, COMING_RECORD])
        self._files.remove_folder(BEFORE)
        self._files.remove(MARK)
        self._reporter.done(f"{counted(sum(one.action != 'leave' for one in steps), 'file')} as before the push")


def _planned(
    way_back: PushUndo,
    sent: Mapping[RelPath, PushedFile],
    there: Mapping[str, ThereFile],
    aside: Mapping[str, ThereFile],
) -> list[UndoThereStep]:
    """A file that the push replaced or added goes back, unless somebody changed it since."""
    steps = []
    for path in way_back.moved:
        if path not in aside:
            continue  # an earlier try has brought it back, or the push broke off before it moved
        if _touched(path, sent, there) and not way_back.unfinished:
            steps.append(UndoThereStep(action="leave", path=path, reason="changed there since the push"))
        else:
            steps.append(UndoThereStep(action="bring back", path=path, reason="replaced by the push"))
    for path in way_back.added:
        if path not in there:
            continue
        if _touched(path, sent, there):
            steps.append(UndoThereStep(action="leave", path=path, reason="changed there since the push"))
        else:
            steps.append(UndoThereStep(action="remove", path=path, reason="added by the push"))
    return sorted(steps, key=lambda one: one.path)


def _touched(path: RelPath, sent: Mapping[RelPath, PushedFile], there: Mapping[str, ThereFile]) -> bool:
    was, now = sent.get(path), there.get(path)
    return now is not None and (was is None or was_changed(was, now))


def _left(step: UndoThereStep) -> Finding:
    return Finding(
        code="undo-left",
        severity="warning",
        subject=step.path,
        what="it was changed there since the push; it stays as it is",
        remedy="See what is in it there. A push with --settings mine replaces it.",
    )
