"""Checking what is on a rented server: complete, as it was sent, with the ports and settings that were set."""

import time
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.adapters.remotes.files import RemoteFiles
from rhizon.app.host import Host
from rhizon.app.instance.edited_files import native_edits
from rhizon.app.instance.state import require_instance_state
from rhizon.app.remote.control_there import rhizon_there
from rhizon.app.remote.push import OWN_DOCUMENTS, ServerThere
from rhizon.app.remote.records import LARGEST_DOCUMENT, MARK, RECORD, read_mark
from rhizon.app.remote.remotes import find_remote, with_tries
from rhizon.app.reporter import Reporter
from rhizon.core.allocate.port_roles import port_places
from rhizon.core.errors import RhizonError
from rhizon.core.finding import Finding, Severity, worst_first
from rhizon.core.model.remote import PushedFile
from rhizon.core.names import RelPath, printable
from rhizon.core.remote.push_plan import HereFile, PushPlan, PushStep, ThereFile, plan_push
from rhizon.core.settings.apply import holds, name_in
from rhizon.core.settings.dialects import DIALECTS
from rhizon.core.words import command_line

__all__ = ["CheckThereResult", "check_there"]

LITTLE_FREE_MIB = 200
MUCH_AHEAD = 300  # seconds
MOST_NAMED = 20


class CheckThereResult(msgspec.Struct, frozen=True, kw_only=True):
    """What is there: ``files`` is how many were checked, ``verified`` by what ("size" and time, or "hash" where the
    other side computes it); ``complete`` that no push is unfinished and no placed file differs."""

    folder: str
    name: str
    remote: str
    files: int
    complete: bool
    verified: Literal["size", "hash"]
    findings: tuple[Finding, ...]

    @property
    def sound(self) -> bool:
        """Nothing of severity error was found."""
        return not any(one.severity == "error" for one in self.findings)


def check_there(host: Host, folder: Path, word: str, reporter: Reporter) -> CheckThereResult:
    """Nothing is changed there. Raises InputError, RemoteError, TrustError, :class:`StateError` (it is another
    server's)."""
    state = require_instance_state(host, host.home(folder).required())
    _, remote = find_remote(host, word)
    server = ServerThere(state, remote)
    found = with_tries(host, remote, reporter, lambda files: _Check(server, files, reporter).found())
    if remote.reach.by == "rhizon":
        found = msgspec.structs.replace(found, findings=(*found.findings, *_found_there(host, server)))
    return msgspec.structs.replace(found, findings=tuple(worst_first(list(found.findings))))


class _Check:
    """One check over one connection."""

    def __init__(self, server: ServerThere, files: RemoteFiles, reporter: Reporter) -> None:
        self._server, self._files, self._reporter = server, files, reporter
        self._remote, self._state = server.remote, server.state
        self._push = command_line("rhizon", "push", str(self._state.home.folder), self._remote.name)

    def found(self) -> CheckThereResult:
        self._reporter.step("listing what is there")
        here = self._server.files()
        there = self._files.listing(self._server.leave, self._server.exact)
        sent = self._server.sent(self._files, there)
        plan = plan_push(
            here,
            sent,
            there,
            self._remote.dictates,
            capitals=self._remote.probed is None or self._remote.probed.capitals,
        )
        rotten: list[RelPath] = []
        by_hash = bool(self._files.hashes_there)
        if by_hash:
            self._reporter.step("comparing contents")
            kept = [one.path for one in plan.of("keep")]
            hashes = self._files.hashes(list(kept), lambda _count: None)
            rotten = [path for path in kept if hashes.get(path) != sent[path].sha256]
        findings = [*self._of_push(there), *plan.findings, *self._server.findings(here), *self._of_host()]
        if RECORD in there:
            findings += [*self._of_plan(plan, here), *(self._changed(path, " --verify") for path in rotten)]
        findings += [*self._strangers(there, here, sent), *self._settings(there)]
        lacking = [one for one in plan.of("send") if one.path not in OWN_DOCUMENTS]
        complete = MARK not in there and RECORD in there and not rotten and not lacking
        return CheckThereResult(
            folder=str(self._state.home.folder),
            name=self._state.instance.name,
            remote=self._remote.name,
            files=len(here),
            complete=complete,
            verified="hash" if by_hash else "size",
            findings=tuple(findings),
        )

    def _finding(self, code: str, severity: Severity, subject: str, what: str, remedy: str) -> Finding:
        return Finding(code=code, severity=severity, subject=printable(subject, 200), what=what, remedy=remedy)

    def _of_push(self, there: Mapping[str, ThereFile]) -> Iterator[Finding]:
        """Whether it is whole."""
        mark = read_mark(self._files) if MARK in there else None
        if mark is not None:
            ago = f" {(time.time() - mark.since) / 60:.0f} min ago" if mark.since else ""
            what = f"incomplete: a {mark.what} begun by {mark.who} on {mark.host or '?'}{ago} has not ended"
            again = self._push if mark.what != "restore" else "run that restore again"
            yield self._finding("remote-incomplete", "error", self._remote.name, what, f"End it: {again}")
        elif RECORD not in there:
            what = "nothing was sent there yet, or its record is missing"
            yield self._finding("remote-incomplete", "error", self._remote.name, what, f"Send it: {self._push}")

    def _of_plan(self, plan: PushPlan, here: Mapping[RelPath, HereFile]) -> Iterator[Finding]:
        """Placed files that are not as they were sent, settings that were edited there, and changes of here that were
        not sent."""
        pending: list[PushStep] = []
        for step in plan.steps:
            if step.path in OWN_DOCUMENTS:  # a machine with Rhizon writes them, too
                continue
            if step.action in ("send", "merge") and step.reason in ("new", "changed here"):
                pending.append(step)
            elif step.action == "send" and step.reason == "lost there":
                severity: Severity = "warning" if here[step.path].edited else "error"
                yield self._finding("file-missing", severity, step.path, "missing there", f"Send it: {self._push}")
            elif step.action == "send":
                yield self._changed(step.path)
            elif step.action in ("keep theirs", "merge"):
                what = "edited there since it was sent"
                yield self._finding("edited-there", "note", step.path, what, "A push merges it, or keeps theirs.")
        if pending:
            named = ", ".join(one.path for one in pending[:4])
            what = f"not sent yet since they changed here: {named}" + (", ..." if len(pending) > 4 else "")
            yield self._finding("push-pending", "warning", self._remote.name, what, f"Send them: {self._push}")

    def _changed(self, path: str, more: str = "") -> Finding:
        what = "changed there since it was sent"
        return self._finding("file-changed", "error", path, what, f"Send it: {self._push}{more}")

    def _strangers(
        self, there: Mapping[str, ThereFile], here: Mapping[RelPath, HereFile], sent: Mapping[RelPath, PushedFile]
    ) -> Iterator[Finding]:
        """Content in content folders that nobody sent."""
        endings = {f".{one.file.path.rpartition('.')[2]}" for one in self._state.lock.releases if "." in one.file.path}
        folders = set(self._state.game.folders.values())
        strange = [
            path
            for path in sorted(set(there) - set(sent))
            if path not in here and path.rpartition("/")[0] in folders and path.endswith(tuple(endings))
        ]
        for path in strange[:MOST_NAMED]:
            what = "it is in a content folder there, and no push has sent it; players would need it too"
            yield self._finding("unknown-content", "warning", path, what, "Add it to the list, or remove it there.")

    def _of_host(self) -> Iterator[Finding]:
        """Its space and its clock."""
        free = self._files.free_mib()
        if free is not None and free < LITTLE_FREE_MIB:
            yield self._finding(
                "disk-short", "warning", self._remote.name, f"{free} MiB are free there", "Free some space there."
            )
        probed = self._remote.probed
        if probed is not None and abs(probed.ahead_seconds) > MUCH_AHEAD:
            way = "ahead" if probed.ahead_seconds > 0 else "behind"
            what = f"its clock was {abs(probed.ahead_seconds)} s {way} when it was probed"
            yield self._finding("clock-off", "note", self._remote.name, what, "Files are compared by its own times.")

    def _settings(self, there: Mapping[str, ThereFile]) -> Iterator[Finding]:
        """Values there that are not those that were set; a port that players cannot reach is worse."""
        state = self._state
        enabled = state.game.loaders[state.lock.target.loader].enabled
        ports = {
            (place.file, place.key): role
            for role, port in port_places(state.game, state.lock).items()
            for place in port.store
        }
        for name, (dialect, values) in native_edits(state).items():
            data = self._files.read(name, LARGEST_DOCUMENT) if name in there else None
            if data is None:
                continue
            try:
                native = DIALECTS[dialect].read(data)
            except ValueError as broken:
                what = f"it cannot be parsed: {printable(str(broken), 200)}"
                yield self._finding("native-file-broken", "error", name, what, "Correct it there, or send yours.")
                continue
            for key, wanted in values.items():
                if enabled is not None and name == enabled.file and name_in(enabled, key) is not None:
                    continue
                if holds(dialect, DIALECTS[dialect], native, key, wanted):
                    continue
                role = ports.get((RelPath(name), key))
                what = f"{key} is {native.get(key, '(missing)')!r} there, {DIALECTS[dialect].spell(wanted)!r} here"
                if role is not None:
                    remedy = f"Players use the {role} port. See which ports the host gives; then push --settings mine."
                    yield self._finding("port-differs-there", "error", name, what, remedy)
                else:
                    yield self._finding("setting-differs", "note", name, what, "If it was changed there, it stays.")


def _found_there(host: Host, server: ServerThere) -> Iterator[Finding]:
    """What the Rhizon of that machine finds."""
    answer = rhizon_there(host, server.remote, ("check", server.remote.reach.folder))
    for one in answer.get("findings", ()) if answer is not None else ():  # type: ignore[attr-defined]
        try:
            yield msgspec.convert(one, Finding)
        except (msgspec.ValidationError, RhizonError):
            continue
