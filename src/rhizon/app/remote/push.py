"""Sending a server to a rented one: differences only, and complete or marked as not.

What is sent is staged first (``.rhizon-push/incoming/``, by hash: a second push continues it) and checked there. Only
when all of it is there, the start file is moved away, what is replaced is moved aside (the way back), files change
places by renames, and the start file comes back last: what a host could start is the old server or the new one. A mark
in ``.rhizon-push/`` says that a push has begun and not ended.
"""

import contextlib
import hashlib
import time
from collections.abc import Iterable, Mapping
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.adapters.instances import INSTANCE, INVENTORY, LOCK
from rhizon.adapters.remotes.files import RemoteFiles, Upload
from rhizon.adapters.transact import RHIZON
from rhizon.adapters.verified import Verified
from rhizon.app.host import Host
from rhizon.app.instance.edited_files import settings_paths
from rhizon.app.instance.exclusive import exclusive
from rhizon.app.instance.state import InstanceState, require_instance_state
from rhizon.app.remote.control_there import require_stopped_there, rhizon_there
from rhizon.app.remote.records import (
    ASIDE,
    BEFORE,
    COMING_RECORD,
    INCOMING,
    LARGEST_DOCUMENT,
    MARK,
    RECORD,
    STAGED,
    UNDO,
    own_record,
    put,
    read_record,
    read_undo,
    take_mark,
)
from rhizon.app.remote.remotes import find_remote, with_tries
from rhizon.app.reporter import Reporter
from rhizon.app.run.command import command_of
from rhizon.core.errors import RemoteError, StateError
from rhizon.core.finding import Finding
from rhizon.core.model.decode import encode_json
from rhizon.core.model.remote import PushedFile, PushRecord, PushUndo, RemoteDefinition
from rhizon.core.names import RelPath
from rhizon.core.remote.push_plan import HereFile, PushPlan, PushStep, ThereFile, plan_push
from rhizon.core.remote.start_file import command_findings, start_file, start_names
from rhizon.core.settings.merge import merge_lines
from rhizon.core.units import counted, size_text

__all__ = ["OWN_DOCUMENTS", "PushResult", "PushWishes", "ServerThere", "push"]

MOST_NAMED = 20
OWN_DOCUMENTS = tuple(RelPath(f"{RHIZON}/{name}") for name in (INSTANCE, LOCK, INVENTORY))


class PushWishes(msgspec.Struct, frozen=True, kw_only=True):
    """What a person asks for. ``settings``: whose edits of settings files count; without ``delete`` nothing is removed
    there; ``verify`` reads everything back."""

    settings: Literal["merge", "mine", "theirs"] = "merge"
    delete: bool = True
    verify: bool = False
    dry_run: bool = False


class PushResult(msgspec.Struct, frozen=True, kw_only=True):
    """What was done, or would be. ``complete``: all that belongs there is there, and was looked at again. ``verified``:
    by sizes and times ("size"), with the hash of what was sent where the other side computes it ("sent"), or with the
    hash of every file ("hash")."""

    folder: str
    name: str
    remote: str
    planned: bool
    steps: tuple[PushStep, ...]
    size: int
    complete: bool
    verified: Literal["", "size", "sent", "hash"]
    findings: tuple[Finding, ...]


def push(host: Host, folder: Path, word: str, reporter: Reporter, wishes: PushWishes) -> PushResult:
    """Raises InputError, RemoteError (it broke: run it again), TrustError, :class:`StateError` (another push is at it,
    the host does not take something)."""
    home = host.home(folder).required()
    _, remote = find_remote(host, word)
    if not wishes.dry_run:
        require_stopped_there(host, folder, word, reporter)
    # nobody changes the server here meanwhile, and no second push of it begins on this machine
    with exclusive(host, home, reporter) if not wishes.dry_run else contextlib.nullcontext():
        server = ServerThere(require_instance_state(host, home), remote)
        with ThreadPoolExecutor(1) as pool:  # files are hashed here while the connection is made
            here = pool.submit(server.files, host.store.verified)
            done = with_tries(
                host, remote, reporter, lambda files: _Push(host, server, files, reporter).go(here.result(), wishes)
            )  # what an earlier connection has sent is continued
    if remote.reach.by == "rhizon" and done.complete and not done.planned:
        rhizon_there(host, remote, ("host", "--rebuild", remote.reach.folder))  # its ledger takes the server's ports
    return done


class ServerThere:
    """What belongs there: the placed files and settings of the server here, by the names that they have there."""

    def __init__(self, state: InstanceState, remote: RemoteDefinition) -> None:
        self.state, self.remote = state, remote
        renamed = start_names(remote)
        self._name_here = {name: path for path, name in renamed.items() if name is not None}
        self._settings = frozenset(settings_paths(state))
        self._names = {
            RelPath(name): RelPath(path)
            for path in sorted({*map(RelPath, state.inventory.files), *self._settings})
            if not state.game.world.covers(path) and (name := renamed.get(path, path)) is not None
        }
        if remote.reach.by == "rhizon":
            self._names |= {path: path for path in OWN_DOCUMENTS}
        self.exact = frozenset(name for name, path in self._names.items() if path in self._settings)
        self.leave = (*filter(None, (state.game.world.folder,)), *state.game.world.also, *STAGED)

    def files(self, verified: Verified | None = None) -> dict[RelPath, HereFile]:
        """All of them. Raises :class:`StateError` where some are missing here; of the start scripts only the one of the
        other side's system is sent."""
        home, inventory = self.state.home, self.state.inventory
        hashes = home.hashes(sorted(self._names.values()), verified)
        lacking = [path for path in self._names.values() if path not in hashes]
        if lacking:
            raise StateError(
                "push-incomplete-here",
                f"{counted(len(lacking), 'file')} of the server is missing here: {', '.join(lacking[:4])}",
                hint="Put it back first: rhizon repair --help",
            )
        found = {}
        for name, path in self._names.items():
            owned = inventory.files.get(path)
            found[name] = HereFile(
                sha256=hashes[path],
                size=(home.folder / path).stat().st_size,
                edited=path in self._settings,
                executable=owned is not None and owned.executable,
            )
        return found

    def path(self, name: RelPath) -> Path:
        """Where the file of a name there is here."""
        return self.state.home.folder / self._here(name)

    def data(self, name: RelPath) -> bytes:
        """Its bytes. Raises :class:`StateError` where it has gone."""
        data = self.state.home.read(self._here(name))
        if data is None:
            raise StateError("push-incomplete-here", f"{name} has gone meanwhile", hint="Run the same command again.")
        return data

    def _here(self, name: RelPath) -> RelPath:
        return RelPath(self._name_here.get(name, name))

    def findings(self, here: Iterable[RelPath]) -> tuple[Finding, ...]:
        """What the host's command line lacks."""
        words = command_of(self.state.home, self.state.game, self.state.lock, self.state.instance).words
        return command_findings(self.remote, words[1:], frozenset(here))

    def sent(
        self, files: RemoteFiles, there: Mapping[str, ThereFile], data: bytes | None = None
    ) -> dict[RelPath, PushedFile]:
        """What was sent before; of a push that broke while files changed places, those that have. ``data`` are the
        bytes of the record where they were read already."""
        if data is None and RECORD in there:
            data = files.read(RECORD, LARGEST_DOCUMENT)
        record = own_record(data, self.remote, self.state.instance.name)
        sent = dict(record.files) if record is not None else {}
        coming = read_record(files, COMING_RECORD) if {MARK, COMING_RECORD} <= there.keys() else None
        for path, file in coming.files.items() if coming is not None else ():
            now, was = there.get(path), sent.get(path)
            if now is not None and now.size == file.size and (was is None or now.mtime != was.mtime):
                sent[path] = msgspec.structs.replace(file, mtime=now.mtime)
        return sent


class _Push:
    """One push over one connection."""

    def __init__(self, host: Host, server: ServerThere, files: RemoteFiles, reporter: Reporter) -> None:
        self._host, self._server, self._files, self._reporter = host, server, files, reporter
        self._remote, self._state = server.remote, server.state
        self._merged: dict[RelPath, bytes] = {}
        self._start = start_file(server.remote)
        self._is_away = False
        self._hashed = False

    def go(self, here: Mapping[RelPath, HereFile], wishes: PushWishes) -> PushResult:
        self._reporter.step("listing what is there")
        there, data = self._files.list_and_read(self._server.leave, self._server.exact, RECORD, LARGEST_DOCUMENT)
        clean = MARK not in there
        if not clean and not wishes.dry_run:
            broken = take_mark(self._files, "push")
            if broken is not None and self._moved_back(there):
                there = self._files.listing(self._server.leave, self._server.exact)
        if ASIDE in there and self._start not in there:  # by a push that broke off; it comes back last
            there, self._is_away = {**there, self._start: there[ASIDE]}, True
        sent = self._server.sent(self._files, there, data)
        plan = self._planned(here, sent, there, wishes)
        if wishes.verify and not wishes.dry_run:
            rotten = self._rotten([one.path for one in plan.of("keep")], sent, there)
            if rotten:
                plan = self._planned(here, sent | rotten, there, wishes)
                sent = sent | rotten
        wrong = [one for one in plan.findings if one.severity == "error"]
        nothing = not plan.of("send") and not plan.of("merge") and not plan.of("remove")
        if wishes.dry_run or wrong or (nothing and clean and not wishes.verify):
            complete = nothing and clean and not wrong
            return self._result(plan, planned=wishes.dry_run, complete=complete, verified="size" if complete else "")
        if clean:
            self._files.remove_all([COMING_RECORD] if COMING_RECORD in there else [])  # of a push that has ended
            take_mark(self._files, "push")
        coming = self._send(plan, here, sent, wishes)
        if not nothing or self._is_away:
            self._switch(plan, coming, there, sent)
        verified = self._verified(here, sent, coming, plan, hashes=wishes.verify)
        self._keep_to_quota(there, coming)
        self._files.remove(MARK)
        self._files.remove(COMING_RECORD)  # counts only beside a mark
        self._reporter.done("complete, and checked")
        return self._result(plan, planned=False, complete=True, verified=verified)

    def _planned(
        self,
        here: Mapping[RelPath, HereFile],
        sent: Mapping[RelPath, PushedFile],
        there: Mapping[str, ThereFile],
        wishes: PushWishes,
    ) -> PushPlan:
        plan = plan_push(
            here,
            sent,
            there,
            self._remote.dictates,
            settings=wishes.settings,
            delete=wishes.delete,
            capitals=self._remote.probed is None or self._remote.probed.capitals,
        )
        return msgspec.structs.replace(plan, findings=(*plan.findings, *self._server.findings(here)))

    def _result(
        self,
        plan: PushPlan,
        *,
        planned: bool,
        complete: bool,
        verified: Literal["", "size", "sent", "hash"],
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

    def _moved_back(self, there: Mapping[str, ThereFile]) -> bool:
        """Puts back what a push that broke off has moved aside and not replaced yet: edits made there are in it. The
        start file stays away."""
        way_back = read_undo(self._files) if UNDO in there else None
        if way_back is None or not way_back.unfinished:
            return False
        aside = self._files.listing(below=BEFORE)
        back = [(path, path.removeprefix(f"{BEFORE}/")) for path in aside]
        back = [(before, after) for before, after in back if after not in there and after != self._start]
        self._files.rename_all(back)
        return bool(back)

    # ---- doing it

    def _send(
        self,
        plan: PushPlan,
        here: Mapping[RelPath, HereFile],
        sent: Mapping[RelPath, PushedFile],
        wishes: PushWishes,
    ) -> dict[RelPath, PushedFile]:
        """Stages what is lacking; what each file will be, by its path."""
        coming: dict[RelPath, PushedFile] = {}
        uploads: list[Upload] = []
        for step in (*plan.of("send"), *plan.of("merge")):
            mine = here[step.path]
            sha256, size = mine.sha256, mine.size
            source: Path | bytes = self._server.path(step.path)
            if step.action == "merge":
                source = self._merged[step.path] = self._merge(step.path, sent[step.path])
                sha256, size = hashlib.sha256(source).hexdigest(), len(source)
            if mine.edited and not self._host.store.has(mine.sha256, mine.size):  # the next merge begins with them
                self._host.store.add(self._server.data(step.path))
            coming[step.path] = PushedFile(sha256=sha256, size=size, mtime=0, here=mine.sha256)
            uploads.append(Upload("", source, size, mine.executable))
        staged = _staged(coming)
        uploads = [one._replace(path=staged[path]) for path, one in zip(coming, uploads, strict=True)]
        if uploads:
            hashes = self._upload(uploads)
            self._check_staged({staged[path]: file for path, file in coming.items()}, hashes, verify=wishes.verify)
        return coming

    def _upload(self, uploads: list[Upload]) -> dict[str, str]:
        whole, done = sum(one.size for one in uploads), 0
        self._reporter.step(f"sending {counted(len(uploads), 'file')} ({size_text(whole)})")

        def told(count: int) -> None:
            nonlocal done
            done += count
            self._reporter.progress(f"{size_text(done)} of {size_text(whole)}", done / max(whole, 1))

        hashes = self._files.upload(uploads, told)
        self._reporter.done(f"{counted(len(uploads), 'file')} sent ({size_text(whole)})")
        return hashes

    def _check_staged(self, staged: Mapping[str, PushedFile], hashes: dict[str, str], *, verify: bool) -> None:
        """Before anything changes places: what came has its size, and its hash where the other side computes it (or all
        is to be read back). What has not is removed there, so that the next push sends it anew."""
        self._reporter.step("checking what was sent")
        there = self._files.listing(below=INCOMING)
        short = {path for path, file in staged.items() if path not in there or there[path].size != file.size}
        if verify and not short:
            hashes = hashes | self._files.hashes([one for one in staged if one not in hashes], lambda _count: None)
        wrong = {path for path, sha256 in hashes.items() if sha256 != staged[path].sha256}
        self._hashed = staged.keys() <= hashes.keys()
        if not short and not wrong:
            return
        self._files.remove_all(sorted(short | wrong))
        path = min(short or wrong)
        size = there[path].size if path in there else 0
        what = f"kept {size} of {staged[path].size} bytes of a file" if short else "has other bytes than were sent"
        raise RemoteError(
            "push-cut-short",
            f"{self._remote.name} {what}",
            hint="Its disk may be full. Nothing was changed there; run the same command again.",
        )

    def _merge(self, path: RelPath, was: PushedFile) -> bytes:
        """A settings file that changed on both sides: theirs stays where the two clash."""
        theirs = self._files.read(path, LARGEST_DOCUMENT) or b""
        base = was.here or was.sha256
        if not self._host.store.has(base, was.size):
            return theirs
        merged = merge_lines(self._host.store.read(base, path), theirs, self._server.data(path))
        return merged.data if merged is not None else theirs

    def _switch(
        self,
        plan: PushPlan,
        coming: Mapping[RelPath, PushedFile],
        there: Mapping[str, ThereFile],
        sent: Mapping[RelPath, PushedFile],
    ) -> None:
        """Files change places; what the host starts is away meanwhile, and comes last."""
        self._reporter.step("putting it in place")
        start, files = self._start, self._files
        going = {one.path for one in plan.of("remove")}
        kept = self._way_back(coming, going, there, sent)  # before the next: both together say that it has begun
        record = PushRecord(format="rhizon-push/1", server=self._state.instance.name, files={**coming})
        files.write(COMING_RECORD, encode_json(record))
        if start in kept:
            put(files, ASIDE if self._is_away else start, f"{BEFORE}/{start}")
        elif start in there and not self._is_away:
            put(files, start, ASIDE)
        files.rename_all([(path, f"{BEFORE}/{path}") for path in sorted(kept - {start})])
        over = (set(coming) | going) & set(there) - kept - {start}
        if not files.replaces or going & over:
            files.remove_all(sorted(over))
        staged = _staged(coming)
        files.rename_all([(staged[path], str(path)) for path in coming if path != start])
        if start in coming:
            put(files, staged[start], start)
        elif start in there and start not in going:
            put(files, ASIDE, start)
        files.remove(ASIDE)
        self._reporter.done("in place")

    def _way_back(
        self,
        coming: Mapping[RelPath, PushedFile],
        going: set[RelPath],
        there: Mapping[str, ThereFile],
        sent: Mapping[RelPath, PushedFile],
    ) -> set[RelPath]:
        """Writes down how this push is undone; answers the files that are to be moved aside for that. A push that ends
        one that broke off keeps what that has moved."""
        old = read_undo(self._files) if COMING_RECORD in there or UNDO in there else None
        again = old is not None and old.unfinished and COMING_RECORD in there
        aside: set[str] = set()
        if again:
            aside = {path.removeprefix(f"{BEFORE}/") for path in self._files.listing(below=BEFORE)}
        else:
            self._files.remove_folder(BEFORE)
        moved = {path for path in (*coming, *going) if path in there and path not in aside}
        if again and old is not None:
            moved -= set(old.added)
        whole = PushUndo(
            format="rhizon-push-undo/1",
            server=self._state.instance.name,
            since=int(time.time()),
            files=old.files if again and old is not None else dict(sent),
            moved=tuple(sorted({*moved, *(old.moved if again and old is not None else ())})),
            added=tuple(sorted({*(path for path in coming if path not in there and path not in aside),
                                *(old.added if again and old is not None else ())})),
            unfinished=True,
        )  # fmt: skip
        self._files.write(UNDO, encode_json(whole))
        return moved

    def _verified(
        self,
        here: Mapping[RelPath, HereFile],
        sent: Mapping[RelPath, PushedFile],
        coming: Mapping[RelPath, PushedFile],
        plan: PushPlan,
        *,
        hashes: bool,
    ) -> Literal["size", "sent", "hash"]:
        """Looks at everything again and writes down what is there. Raises RemoteError where something is wrong."""
        self._reporter.step("checking it in place")
        there = self._files.listing(self._server.leave, self._server.exact)
        gone = {one.path for one in plan.of("remove")}
        left = {one.path for one in plan.of("leave")}
        now: dict[RelPath, PushedFile] = {}
        for path in {*here, *sent} - gone:
            file, lies = coming.get(path) or sent.get(path), there.get(path)
            if file is None or lies is None:
                if path in here and path not in left:
                    raise _wrong(path, "is missing there")
                continue
            if path in coming and lies.size != file.size:
                raise _wrong(path, f"has {lies.size} bytes there, not {file.size}")
            now[path] = msgspec.structs.replace(file, size=lies.size, mtime=lies.mtime) if path in coming else file
        way_back = read_undo(self._files) if UNDO in there else None
        if way_back is not None and way_back.unfinished:  # before the record: what is aside is not put back any more
            self._files.write(UNDO, encode_json(msgspec.structs.replace(way_back, unfinished=False)))
        record = PushRecord(format="rhizon-push/1", server=self._state.instance.name, files=dict(sorted(now.items())))
        self._files.write(RECORD, encode_json(record))
        return "hash" if hashes else "sent" if self._hashed else "size"

    def _keep_to_quota(self, there: Mapping[str, ThereFile], coming: Mapping[RelPath, PushedFile]) -> None:
        """Where what was replaced does not fit beside what is there now, there is no way back."""
        quota = self._remote.dictates.quota_mib
        after = {path: one.size for path, one in there.items()} | {path: one.size for path, one in coming.items()}
        old = sum(there[path].size for path in coming if path in there)
        if quota is not None and sum(after.values()) + old > quota << 20:
            self._files.remove_folder(BEFORE)
            self._files.remove(UNDO)
            self._reporter.warning(f"what was replaced does not fit into {quota} MiB: this push cannot be undone")

    def _rotten(
        self, kept: list[RelPath], sent: Mapping[RelPath, PushedFile], there: Mapping[str, ThereFile]
    ) -> dict[RelPath, PushedFile]:
        """Files that have other contents there though their size and time are as they were: as records by which they
        count as changed there, so that they are sent again."""
        whole, done = sum(there[path].size for path in kept), 0
        self._reporter.step(f"comparing {counted(len(kept), 'file')} there ({size_text(whole)})")

        def told(count: int) -> None:
            nonlocal done
            done += count
            self._reporter.progress(f"{size_text(done)} of {size_text(whole)}", done / max(whole, 1))

        hashes = self._files.hashes(list(kept), told)
        rotten = [path for path in kept if hashes.get(path) != sent[path].sha256]
        for path in rotten[:MOST_NAMED]:
            self._reporter.warning(f"{path} had other contents there; it is sent again")
        return {path: msgspec.structs.replace(sent[path], size=there[path].size + 1) for path in rotten}


def _staged(coming: Mapping[RelPath, PushedFile]) -> dict[RelPath, str]:
    """Where each file is staged: by its hash, with a number where several have the same."""
    count: dict[str, int] = {}
    found = {}
    for path in sorted(coming):
        sha256 = coming[path].sha256
        number = count[sha256] = count.get(sha256, 0) + 1
        found[path] = f"{INCOMING}/{sha256}" + (f".{number}" if number > 1 else "")
    return found


def _wrong(path: str, what: str) -> RemoteError:
    return RemoteError(
        "push-not-verified", f"{path} {what}", hint="Run the same command again; what is there is marked as incomplete."
    )
