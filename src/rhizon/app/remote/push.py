"""Sending a server to a rented one: differences only, and complete or marked as not.

What is sent lies beside first (``.rhizon-push/incoming/``, by hash: a second push continues it). Only when all of it is
there, the start file is moved away, files change places by renames, and the start file comes back last: what a host
could start is the old server or the new one. A mark in ``.rhizon-push/`` says that a push has begun and not ended.
"""

import getpass
import hashlib
import platform
import time
import uuid
from collections.abc import Mapping
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.adapters.remotes.files import RemoteFiles, Upload
from rhizon.app.host import Host
from rhizon.app.instance.edited_files import settings_paths
from rhizon.app.instance.state import InstanceState, require_instance_state
from rhizon.app.remote.remotes import OWN_FOLDER, find_remote, with_tries
from rhizon.app.reporter import Reporter
from rhizon.core.errors import DocumentError, RemoteError, StateError, TrustError
from rhizon.core.finding import Finding
from rhizon.core.model.decode import encode_json
from rhizon.core.model.documents import decode
from rhizon.core.model.remote import PushedFile, PushMark, PushRecord, RemoteDefinition
from rhizon.core.names import RelPath, printable
from rhizon.core.remote.push_plan import HereFile, PushPlan, PushStep, ThereFile, plan_push
from rhizon.core.settings.merge import merge_lines
from rhizon.core.start_scripts import START_SCRIPTS
from rhizon.core.units import counted, size_text

__all__ = ["PushResult", "PushWishes", "own_record", "push"]

RECORD, COMING_RECORD, MARK = f"{OWN_FOLDER}/record.json", f"{OWN_FOLDER}/coming.json", f"{OWN_FOLDER}/incomplete"
INCOMING, ASIDE = f"{OWN_FOLDER}/incoming", f"{OWN_FOLDER}/start-before"
LARGEST_DOCUMENT = 64 << 20
NOT_ITS_TIME = 86_400  # added to a file's time in the record, so that it counts as changed there
STALE_SECONDS = 3600  # a mark of somebody else's that is older was left by a push that broke


class PushWishes(msgspec.Struct, frozen=True, kw_only=True):
    """What a person asks for. ``settings``: whose edits of settings files count; without ``delete`` nothing is removed
    there; ``verify`` reads everything back."""

    settings: Literal["merge", "mine", "theirs"] = "merge"
    delete: bool = True
    verify: bool = False
    dry_run: bool = False


class PushResult(msgspec.Struct, frozen=True, kw_only=True):
    """What was done, or would be. ``complete``: all that belongs there is there, and was looked at again; ``verified``
    how: "size", or "hash" where it was read back."""

    folder: str
    name: str
    remote: str
    planned: bool
    steps: tuple[PushStep, ...]
    size: int
    complete: bool
    verified: Literal["", "size", "hash"]
    findings: tuple[Finding, ...]


def push(host: Host, folder: Path, word: str, reporter: Reporter, wishes: PushWishes) -> PushResult:
    """Raises InputError, RemoteError (it broke: run it again), TrustError, :class:`StateError` (another push is at it,
    the host does not take something)."""
    home = host.home(folder).required()
    state = require_instance_state(host, home)
    _, remote = find_remote(host, word)
    return with_tries(
        host, remote, reporter, lambda files: _Push(host, state, remote, files, reporter).go(wishes)
    )  # what an earlier connection has sent is continued


class _Push:
    """One push."""

    def __init__(
        self, host: Host, state: InstanceState, remote: RemoteDefinition, files: RemoteFiles, reporter: Reporter
    ) -> None:
        self._host = host
        self._state = state
        self._remote = remote
        self._files = files
        self._reporter = reporter
        self._merged: dict[RelPath, bytes] = {}
        self._renamed = _start_names(remote)
        self._exact = frozenset(self._renamed.get(one, one) or one for one in settings_paths(state))
        self._leave = [state.game.world.folder, OWN_FOLDER]

    def go(self, wishes: PushWishes) -> PushResult:
        here = self._here()
        self._reporter.step("listing what is there")
        there = self._files.listing(self._leave, self._exact)
        sent = self._sent(there)
        plan = plan_push(
            here,
            sent,
            there,
            self._remote.dictates,
            settings=wishes.settings,
            delete=wishes.delete,
            capitals=self._remote.probed is None or self._remote.probed.capitals,
        )
        wrong = [one for one in plan.findings if one.severity == "error"]
        nothing = not plan.of("send") and not plan.of("merge") and not plan.of("remove")
        clean = self._mark() is None
        if wishes.dry_run or wrong or (nothing and clean and not wishes.verify):
            complete = nothing and clean and not wrong
            return self._result(plan, planned=wishes.dry_run, complete=complete, verified="size" if complete else "")
        self._take()
        coming = self._send(plan, here, sent)
        self._switch(plan, coming)
        verified = self._verified(here, sent, coming, plan, hashes=wishes.verify)
        self._files.remove(MARK)
        self._reporter.done("complete, and looked at again")
        return self._result(plan, planned=False, complete=True, verified=verified)

    def _result(
        self,
        plan: PushPlan,
        *,
        planned: bool,
        complete: bool,
        verified: Literal["", "size", "hash"],
    ) -> PushResult:
        return PushResult(
            folder=str(self._state.home.folder),
            name=self._state.instance.name,
            remote=self._remote.name,
            planned=planned,
            steps=plan.steps,
            size=plan.size,
            complete=complete,
            verified=verified,
            findings=plan.findings,
        )

    # ---- what belongs there

    def _here(self) -> dict[RelPath, HereFile]:
        """Placed files and settings, as they are here; of the start scripts that of the other side's system, by the
        name that the host starts."""
        home, inventory = self._state.home, self._state.inventory
        edited = set(settings_paths(self._state))
        paths = sorted({*map(RelPath, inventory.files), *edited})
        hashes = home.hashes(paths)
        lacking = [path for path in paths if path not in hashes]
        if lacking:
            raise StateError(
                "push-incomplete-here",
                f"{counted(len(lacking), 'file')} of the server is missing here: {', '.join(lacking[:4])}",
                hint="Put it back first: rhizon repair --help",
            )
        found = {}
        for path in paths:
            name = self._renamed.get(path, path)
            if name is None or path.startswith(f"{self._state.game.world.folder}/"):
                continue
            owned = inventory.files.get(path)
            size = (home.folder / path).stat().st_size
            found[RelPath(name)] = HereFile(
                sha256=hashes[path],
                size=size,
                edited=path in edited,
                executable=owned is not None and owned.executable,
            )
        return found

    def _own_name(self, path: RelPath) -> RelPath:
        """The name here of a file there."""
        before = {name: path for path, name in self._renamed.items() if name is not None}
        return RelPath(before.get(path, path))

    def _bytes(self, path: RelPath) -> bytes:
        """A file of here, by its name there."""
        data = self._state.home.read(self._own_name(path))
        if data is None:
            raise StateError("push-incomplete-here", f"{path} has gone meanwhile", hint="Run the same command again.")
        return data

    # ---- what is there

    def _sent(self, there: Mapping[str, ThereFile]) -> dict[RelPath, PushedFile]:
        """What was sent before; of a push that broke while files changed places, those that have."""
        record = own_record(self._files, self._remote, self._state.instance.name)
        sent = dict(record.files) if record is not None else {}
        coming = _record(self._files, COMING_RECORD)
        for path, file in coming.files.items() if coming is not None else ():
            now, was = there.get(path), sent.get(path)
            if now is not None and now.size == file.size and (was is None or now.mtime != was.mtime):
                sent[path] = msgspec.structs.replace(file, mtime=now.mtime)
        return sent

    def _mark(self) -> PushMark | None:
        data = self._files.read(MARK, 1 << 16)
        if data is None:
            return None
        try:
            return decode(PushMark, data, MARK)
        except DocumentError:
            return PushMark(format="rhizon-push-mark/1", who="somebody", host="", since=0, push="")

    def _take(self) -> None:
        """Says that a push has begun. Raises StateError while another one is at it."""
        mine = PushMark(
            format="rhizon-push-mark/1",
            who=printable(getpass.getuser(), 60),
            host=printable(platform.node(), 60) or "?",
            since=int(time.time()),
            push=uuid.uuid4().hex,
        )
        if self._files.create(MARK, encode_json(mine)):
            return
        other = self._mark()
        if other is not None:
            own = (other.who, other.host) == (mine.who, mine.host)
            if not own and time.time() - other.since < STALE_SECONDS:
                raise StateError(
                    "push-busy",
                    f"{other.who} on {other.host} began a push there {(time.time() - other.since) / 60:.0f} min ago",
                    hint="Wait until it has ended; a mark older than an hour is taken over.",
                )
        self._files.write(MARK, encode_json(mine))

    # ---- doing it

    def _send(
        self, plan: PushPlan, here: Mapping[RelPath, HereFile], sent: Mapping[RelPath, PushedFile]
    ) -> dict[RelPath, PushedFile]:
        """Sends what is lacking beside its place; what each file will be, by its path."""
        coming: dict[RelPath, PushedFile] = {}
        uploads: dict[str, Upload] = {}
        for step in (*plan.of("send"), *plan.of("merge")):
            mine = here[step.path]
            sha256, size = mine.sha256, mine.size
            source: Path | bytes = self._state.home.folder / self._own_name(step.path)
            if step.action == "merge":
                source = self._merged[step.path] = self._merge(step.path, self._bytes(step.path), sent[step.path])
                sha256, size = hashlib.sha256(source).hexdigest(), len(source)
            if mine.edited:  # the next merge begins with them
                self._host.store.add(self._bytes(step.path))
            coming[step.path] = PushedFile(sha256=sha256, size=size, mtime=0, here=mine.sha256)
            uploads[sha256] = Upload(f"{INCOMING}/{sha256}", source, size, mine.executable)
        whole, done = sum(one.size for one in uploads.values()), 0
        self._reporter.step(f"sending {counted(len(uploads), 'file')} ({size_text(whole)})")

        def told(count: int) -> None:
            nonlocal done
            done += count
            self._reporter.progress(f"{size_text(done)} of {size_text(whole)}", done / max(whole, 1))

        self._files.upload(list(uploads.values()), told)
        lie = self._files.listing([one for one in self._leave if one != OWN_FOLDER])
        for upload in uploads.values():
            got = lie.get(upload.path)
            if got is None or got.size != upload.size:
                self._files.remove(upload.path)
                raise RemoteError(
                    "push-cut-short",
                    f"{self._remote.name} kept {got.size if got else 0} of {upload.size} bytes of a file",
                    hint="Its disk may be full. Nothing was changed there; run the same command again.",
                )
        self._reporter.done(f"{counted(len(uploads), 'file')} sent ({size_text(whole)})")
        return coming

    def _merge(self, path: RelPath, mine: bytes, was: PushedFile) -> bytes:
        """A settings file that changed on both sides: theirs stays where the two clash."""
        theirs = self._files.read(path, LARGEST_DOCUMENT) or b""
        base = was.here or was.sha256
        if not self._host.store.has(base, was.size):
            return theirs
        merged = merge_lines(self._host.store.read(base, path), theirs, mine)
        return merged.data if merged is not None else theirs

    def _switch(self, plan: PushPlan, coming: Mapping[RelPath, PushedFile]) -> None:
        """Files change places; what the host starts is away meanwhile, and comes last."""
        self._reporter.step("putting it in place")
        name = self._state.instance.name
        record = PushRecord(format="rhizon-push/1", server=name, files={**coming})
        self._files.write(COMING_RECORD, encode_json(record))
        start = self._remote.dictates.start_file or RelPath(START_SCRIPTS[0])
        away = self._files.read(start, 1) is not None
        if away:
            self._put(start, ASIDE)
        pairs, copies = [], []
        taken: set[str] = set()
        for path, file in coming.items():
            if path == start:
                continue
            if file.sha256 in taken or (start in coming and coming[start].sha256 == file.sha256):
                copies.append(path)  # the same bytes in several places: they were sent once
            else:
                taken.add(file.sha256)
                pairs.append((f"{INCOMING}/{file.sha256}", str(path)))
        if not self._files.replaces:
            for _, after in pairs:
                self._files.remove(after)
        for path in copies:
            self._files.write(path, self._merged[path] if path in self._merged else self._bytes(path))
        self._files.rename_all(pairs)
        for step in plan.of("remove"):
            self._files.remove(step.path)
        if start in coming:
            self._put(f"{INCOMING}/{coming[start].sha256}", start)
            self._files.remove(ASIDE)
        elif away:
            self._put(ASIDE, start)
        self._reporter.done("in place")

    def _put(self, before: str, after: str) -> None:
        if not self._files.replaces:
            self._files.remove(after)
        self._files.rename(before, after)

    def _verified(
        self,
        here: Mapping[RelPath, HereFile],
        sent: Mapping[RelPath, PushedFile],
        coming: Mapping[RelPath, PushedFile],
        plan: PushPlan,
        *,
        hashes: bool,
    ) -> Literal["size", "hash"]:
        """Looks at everything again and writes down what lies there. Raises RemoteError where something is wrong."""
        self._reporter.step("looking at it again")
        there = self._files.listing(self._leave, self._exact)
        gone = {one.path for one in plan.of("remove")}
        left = {one.path for one in plan.of("leave")}
        kept = {one.path for one in plan.of("keep")}
        other: list[RelPath] = []
        now: dict[RelPath, PushedFile] = {}
        for path in {*here, *sent} - gone:
            file, lies = coming.get(path) or sent.get(path), there.get(path)
            if file is None or lies is None:
                if path in here and path not in left:
                    raise _wrong(path, "is missing there")
                continue
            if path in coming and lies.size != file.size:
                raise _wrong(path, f"has {lies.size} bytes there, not {file.size}")
            if hashes and (path in coming or path in kept):
                data = self._files.read(path, lies.size + 1) or b""
                if hashlib.sha256(data).hexdigest() != file.sha256:
                    other.append(path)
                    now[path] = msgspec.structs.replace(file, size=lies.size, mtime=lies.mtime + NOT_ITS_TIME)
                    continue
            now[path] = msgspec.structs.replace(file, size=lies.size, mtime=lies.mtime) if path in coming else file
        record = PushRecord(format="rhizon-push/1", server=self._state.instance.name, files=dict(sorted(now.items())))
        self._files.write(RECORD, encode_json(record))
        self._files.remove(COMING_RECORD)
        if other:
            what = f"{counted(len(other), 'file')} of other contents there: {', '.join(other[:4])}"
            raise TrustError("push-not-verified", what, hint="Push again: they count as changed there now.")
        return "hash" if hashes else "size"


def own_record(files: RemoteFiles, remote: RemoteDefinition, name: str) -> PushRecord | None:
    """What was sent there before. Raises RemoteError, StateError where it is another server's."""
    record = _record(files, RECORD)
    if record is not None and record.server != name:
        raise StateError(
            "push-other-server",
            f"{remote.name} has the server {record.server}, not {name}",
            hint=f"Use another remote, or remove {OWN_FOLDER} there if it is to be replaced.",
        )
    return record


def _record(files: RemoteFiles, path: str) -> PushRecord | None:
    data = files.read(path, LARGEST_DOCUMENT)
    if data is None:
        return None
    try:
        return decode(PushRecord, data, path)
    except DocumentError:
        return None  # cut short: what is there is looked at as if nothing had been sent


def _start_names(remote: RemoteDefinition) -> dict[str, RelPath | None]:
    """Names there of the start scripts: that of its system as the host wants it, the other one not at all."""
    unix, windows = START_SCRIPTS
    used, other = (windows, unix) if remote.dictates.system == "windows" else (unix, windows)
    return {used: remote.dictates.start_file or used, other: None}


def _wrong(path: str, what: str) -> RemoteError:
    return RemoteError(
        "push-not-verified", f"{path} {what}", hint="Run the same command again; what is there is marked as incomplete."
    )
