"""Pushes to a rented server that is a folder: whole, broken at any moment, with edits on both sides."""

import contextlib
import os
import shutil
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from unittest import mock

import msgspec

from rhizon.adapters.remotes.files import Upload
from rhizon.adapters.remotes.folder import FolderFiles
from rhizon.app.instance.change import apply_change
from rhizon.app.instance.exclusive import exclusive
from rhizon.app.instance.state import require_instance_state
from rhizon.app.keep.backup import BackupResult
from rhizon.app.keep.find_backup import Sought, list_backups
from rhizon.app.keep.restore import RestoreWishes, restore
from rhizon.app.remote.check_there import check_there
from rhizon.app.remote.control_there import ControlThereResult, control_there
from rhizon.app.remote.log_there import LogThere, read_log_there
from rhizon.app.remote.probe import probe
from rhizon.app.remote.pull import pull
from rhizon.app.remote.push import PushResult, PushWishes, push
from rhizon.app.remote.records import MARK
from rhizon.app.remote.remotes import find_remote, new_remote, write_remote
from rhizon.app.remote.restore_there import RestoreThereResult, RestoreThereWishes, restore_there
from rhizon.app.remote.undo_there import UndoThereResult, undo_there
from rhizon.app.run.logs import LogWishes
from rhizon.core.errors import InputError, RemoteError, RhizonError
from rhizon.core.model.decode import encode_json
from rhizon.core.model.remote import Control, Dictates, PushMark, Reach
from rhizon.core.names import RelPath
from rhizon.core.plan import WantedFile, make_plan
from rhizon.core.remote.push_plan import ThereFile
from tests.app.fakes import SETTINGS, AppCase
from tests.support import not_fast

FIRST = {"mods/a.jar": b"a one", "mods/b.jar": b"b one", "mods/old.jar": b"old", "start.sh": b"#!/bin/sh\n# one\n"}
SECOND = {"mods/a.jar": b"a two", "mods/b.jar": b"b one", "mods/new.jar": b"b one", "start.sh": b"#!/bin/sh\n# two\n"}
THIRD = {name: data for name, data in SECOND.items() if name != "mods/b.jar"}


def content(upload: Upload) -> bytes:
    """What is sent."""
    with upload.open() as file:
        return file.read()


CALLS = (
    *("listing", "read", "write", "create", "rename", "rename_all", "remove", "remove_all", "remove_folder", "upload"),
    *("download", "hashes"),
)


class Breaking(FolderFiles):
    """A line that breaks after so many calls; an upload breaks in the middle of a file."""

    def __init__(self, root: Path, calls: int) -> None:
        super().__init__(root)
        self._calls = calls

    def __getattribute__(self, name: str) -> Any:
        found = super().__getattribute__(name)
        if name in CALLS:
            self._calls -= 1
            if self._calls < 0:
                raise RemoteError("remote-unreachable", "the line is cut", hint="Run it again.")
            if self._calls == 0 and name == "upload":
                return self._half
            if self._calls == 0 and name == "rename_all":
                return self._some
        return found

    def _some(self, pairs: Any) -> None:
        FolderFiles.rename_all(Breaking(self._root, 1000), pairs[: len(pairs) // 2])
        raise RemoteError("remote-unreachable", "the line is cut", hint="Run it again.")

    def _half(self, files: Any, told: Any) -> None:
        half = [one._replace(source=content(one)[: one.size // 2]) for one in files]
        FolderFiles.upload(self, half[: len(half) // 2 + 1], told)
        raise RemoteError("remote-unreachable", "the line is cut", hint="Run it again.")


class RentedCase(AppCase):
    """A server here and an empty folder there."""

    def setUp(self) -> None:
        super().setUp()
        patched = mock.patch("rhizon.app.remote.remotes.AGAIN_SECONDS", ())
        patched.start()
        self.addCleanup(patched.stop)
        self.server("marsh")
        self.place(FIRST)
        self.there = self.folder / "rented"
        self.there.mkdir()
        reach = Reach(by="folder", folder=str(self.there))
        new_remote(self.host, "share", reach, Dictates(start_file=RelPath("run.sh")), None)

    def place(self, files: dict[str, bytes]) -> None:
        """These are the server's files now."""
        home = self.host.home(self.folder / "marsh")
        before = require_instance_state(self.host, home)
        wanted = {
            RelPath(path): WantedFile(sha256=self.host.store.add(data), size=len(data), origin="shelf:x")
            for path, data in files.items()
        }
        present = home.hashes(sorted({*wanted, *map(RelPath, before.inventory.files)}))
        plan = make_plan(wanted, present, before.inventory, before.game.world)
        after = before.as_kept(mock.Mock(lock=before.lock, instance=before.instance, inventory=plan.inventory))
        with exclusive(self.host, home, self.reporter):
            apply_change(self.host.store, before, after, plan, "changed")
        self.host = self.new_host()

    def push(self, **wishes: Any) -> PushResult:
        return push(self.host, self.folder / "marsh", "share", self.reporter, PushWishes(**wishes))

    def refused(self, **wishes: Any) -> str:
        with self.assertRaises(RhizonError) as caught:
            self.push(**wishes)
        return caught.exception.code

    def lies(self) -> dict[str, bytes]:
        """What is there, without what a push keeps for itself."""
        return {
            path.relative_to(self.there).as_posix(): path.read_bytes()
            for path in sorted(self.there.rglob("*"))
            if path.is_file() and ".rhizon-push" not in path.parts
        }

    def expected(self, files: dict[str, bytes]) -> dict[str, bytes]:
        settings = {name: (self.folder / "marsh" / name).read_bytes() for name in self.settings()}
        return {("run.sh" if name == "start.sh" else name): data for name, data in files.items()} | settings

    def settings(self) -> list[str]:
        return [name for name in ("marsh.properties", "crew/wardens.txt", "licence/answer.txt")
                if (self.folder / "marsh" / name).is_file()]  # fmt: skip

    @contextlib.contextmanager
    def cut_after(self, calls: int) -> Iterator[None]:
        with mock.patch("rhizon.app.remote.remotes.connected", lambda *_: Breaking(self.there, calls)):
            yield


@not_fast
class Rented(RentedCase):
    def test_whole(self) -> None:
        planned = self.push(dry_run=True)
        self.assertEqual((planned.complete, list(self.there.iterdir())), (False, []))
        self.assertTrue(self.push().complete)
        self.assertEqual(self.lies(), self.expected(FIRST))
        self.assertEqual({one.action for one in self.push().steps}, {"keep"})
        self.assertEqual(self.push(verify=True).verified, "hash")
        self.place(SECOND)
        (self.there / "marshes").mkdir()
        (self.there / "marshes/fen.txt").write_text("a world")
        sent = [one.path for one in self.push().steps if one.action == "send"]
        self.assertEqual(sorted(sent), ["mods/a.jar", "mods/new.jar", "run.sh"])
        self.assertEqual(self.lies(), self.expected(SECOND) | {"marshes/fen.txt": b"a world"})
        (self.there / "mods/a.jar").write_bytes(b"cut")  # somebody's hand, or the host's
        self.push()
        self.assertEqual((self.there / "mods/a.jar").read_bytes(), SECOND["mods/a.jar"])

    def test_rot_is_found_by_reading_back(self) -> None:
        """A file of the same size and time with other contents: only --verify sees it, and sends it again."""
        self.push()
        rotten = self.there / "mods/a.jar"
        facts = rotten.stat()
        rotten.write_bytes(b"A ONE")
        os.utime(rotten, ns=(facts.st_atime_ns, facts.st_mtime_ns))
        self.assertTrue(self.push().complete)
        self.assertEqual([one.path for one in self.push(verify=True).steps if one.action == "send"], ["mods/a.jar"])
        self.assertEqual(rotten.read_bytes(), FIRST["mods/a.jar"])
        self.assertEqual({one.action for one in self.push(verify=True).steps}, {"keep"})

    def test_cut_at_every_moment(self) -> None:
        """What could be started is the old server or the new one, and the next push ends what was begun."""
        self.push()
        before = self.folder / "before"
        shutil.copytree(self.there, before)
        self.place(SECOND)
        whole = [self.expected(FIRST), self.expected(SECOND)]
        cuts = 0
        for calls in range(1, 80):
            shutil.rmtree(self.there)
            shutil.copytree(before, self.there)
            with self.cut_after(calls):
                try:
                    done = self.push()
                except RemoteError:
                    cuts += 1
                else:
                    self.assertTrue(done.complete)
                    break
            if (self.there / "run.sh").exists():
                self.assertIn(self.lies(), whole, calls)
            else:
                self.assertTrue((self.there / MARK).exists())
            with self.cut_after(calls + 3), contextlib.suppress(RemoteError):  # and again
                self.push()
            self.assertTrue(self.push().complete)
            self.assertEqual(self.lies(), whole[1], calls)
            self.assertFalse((self.there / MARK).exists())
        self.assertGreater(cuts, 15)

    def test_a_line_that_breaks_is_tried_again(self) -> None:
        lines = iter([Breaking(self.there, 5), Breaking(self.there, 9), FolderFiles(self.there)])
        with (
            mock.patch("rhizon.app.remote.remotes.AGAIN_SECONDS", (0.01, 0.01)),
            mock.patch("rhizon.app.remote.remotes.connected", lambda *_: next(lines)),
        ):
            self.assertTrue(self.push().complete)
        self.assertEqual(self.lies(), self.expected(FIRST))
        login = RemoteError("remote-login", "no", hint="Check.")
        with mock.patch("rhizon.app.remote.remotes.connected", side_effect=login) as tried:
            self.assertEqual(self.refused(), "remote-login")
        self.assertEqual(tried.call_count, 1)

    def test_settings_that_changed_there(self) -> None:
        self.push()
        theirs = self.there / "marsh.properties"
        theirs.write_bytes(SETTINGS.replace(b"harbour.berths = 12", b"harbour.berths = 30") + b"# by hand\n")
        self.assertEqual([one.path for one in self.push().steps if one.action == "keep theirs"], ["marsh.properties"])
        self.assertIn(b"berths = 30", theirs.read_bytes())
        mine = self.folder / "marsh/marsh.properties"
        mine.write_bytes(b"# mine\n" + mine.read_bytes())
        merged = self.push()
        self.assertEqual([one.path for one in merged.steps if one.action == "merge"], ["marsh.properties"])
        self.assertTrue(theirs.read_bytes().startswith(b"# mine\n"))
        self.assertIn(b"berths = 30", theirs.read_bytes())
        self.assertEqual({one.action for one in self.push().steps}, {"keep"})
        theirs.write_bytes(b"x = y, and longer\n")
        self.push(settings="mine")
        theirs.write_bytes(b"x = y, and longer still\n")
        mine.write_bytes(b"# all mine\n" + mine.read_bytes())
        self.push(settings="mine")
        self.assertEqual(theirs.read_bytes(), mine.read_bytes())

    def test_others_and_wrong_things(self) -> None:
        self.push()
        self.place(SECOND)
        mark = PushMark(format="rhizon-push-mark/1", who="tove", host="elsewhere", since=int(time.time()), push="x")
        (self.there / MARK).write_bytes(encode_json(mark))
        self.assertEqual(self.refused(), "push-busy")
        (self.there / MARK).write_bytes(b"{")  # cut short: of a push that broke long ago
        self.assertTrue(self.push().complete)
        record = self.there / ".rhizon-push/record.json"
        record.write_bytes(record.read_bytes().replace(b'"marsh"', b'"other"'))
        self.assertEqual(self.refused(), "push-other-server")
        record.write_bytes(b"{ cut")
        self.assertTrue(self.push().complete)
        (self.folder / "marsh/mods/a.jar").unlink()
        self.assertEqual(self.refused(), "push-incomplete-here")
        self.assertEqual(find_remote(self.host, "share")[1].name, "share")
        for word in ("shore", "nothing/at/all"):
            with self.assertRaises(InputError):
                find_remote(self.host, word)
        path, _ = find_remote(self.host, "share")
        path.write_text(
            f"# the club's share\n{path.read_text()}\n[probed] # old\nwhen = ''\nrename_over = true\ncapitals = true\n"
        )
        found = probe(self.host, "share", self.reporter)
        self.assertTrue(path.read_text().startswith("# the club's share\n"))
        self.assertEqual(find_remote(self.host, "share")[1].probed, found.probed)
        assert found.probed is not None
        self.assertTrue(found.probed.rename_over)
        self.assertEqual(list((self.there / ".rhizon-push").glob("probe*")), [])
        shutil.rmtree(self.there)
        self.assertEqual(self.refused(), "remote-unreachable")

    def undo(self, **wishes: Any) -> UndoThereResult:
        return undo_there(self.host, self.folder / "marsh", "share", self.reporter, **wishes)

    def test_a_push_is_taken_back(self) -> None:
        with self.assertRaises(InputError):
            self.undo()
        self.push()
        first = self.lies()
        self.undo()
        self.assertEqual(self.lies(), {})
        self.push()
        (self.there / "marsh.properties").write_bytes(SETTINGS + b"# by hand\n")
        self.place(SECOND)
        before = self.lies()
        self.push(settings="mine")
        planned = self.undo(dry_run=True)
        self.assertEqual(
            {one.path: one.action for one in planned.steps},
            {"mods/a.jar": "bring back", "mods/new.jar": "remove", "mods/old.jar": "bring back",
             "run.sh": "bring back", "marsh.properties": "bring back"},
        )  # fmt: skip
        self.assertNotEqual(self.lies(), before)
        self.assertEqual((self.undo().findings, self.lies()), ((), before))  # edits of there, too
        with self.assertRaises(InputError):
            self.undo()
        self.assertEqual([one.action for one in self.push(settings="mine").steps if one.path == "mods/b.jar"], ["keep"])
        (self.there / "mods/a.jar").write_bytes(b"somebody's")
        left = self.undo()
        self.assertEqual([one.subject for one in left.findings], ["mods/a.jar"])
        self.assertEqual(self.lies(), before | {"mods/a.jar": b"somebody's"})
        self.place(FIRST)
        self.push(settings="mine")
        self.assertEqual(self.lies(), first)

    def test_a_push_that_broke_off_is_taken_back(self) -> None:
        """At any moment, by an undo that may be cut, too."""
        self.push()
        (self.there / "marsh.properties").write_bytes(SETTINGS + b"# by hand\n")
        before = self.lies()
        copy = self.folder / "before"
        shutil.copytree(self.there, copy)
        self.place(SECOND)
        undone = 0
        for calls in range(8, 60):
            shutil.rmtree(self.there)
            shutil.copytree(copy, self.there)
            with self.cut_after(calls):
                try:
                    self.push(settings="mine")
                except RemoteError:
                    pass
                else:
                    break
            if not (self.there / MARK).exists():
                continue  # it broke before it began
            try:
                with self.cut_after(calls % 17 + 3):
                    self.undo()
            except RemoteError:
                if (self.there / "run.sh").exists():
                    self.assertIn(self.lies(), (before, self.expected(SECOND)), calls)
                self.undo()
            undone += 1
            self.assertFalse((self.there / MARK).exists(), calls)
            self.assertEqual(self.lies(), before, calls)
            self.assertTrue(self.push(settings="mine").complete)
            self.assertEqual(self.lies(), self.expected(SECOND), calls)
        self.assertGreater(undone, 10)

    def test_a_host_that_keeps_less_than_it_was_sent(self) -> None:
        def short(this: FolderFiles, files: Any, told: Any) -> dict[str, str]:
            for one in files:
                this.write(one.path, content(one)[:2])
            return {}

        with mock.patch.object(FolderFiles, "upload", short), self.assertRaises(RemoteError) as caught:
            self.push()
        self.assertEqual(caught.exception.code, "push-cut-short")
        self.assertEqual(self.lies(), {})
        self.assertTrue(self.push().complete)


class Pulled(RentedCase):
    def setUp(self) -> None:
        super().setUp()
        self.push()
        for number in range(4):
            (self.there / f"marshes/fen{number}").mkdir(parents=True)
            (self.there / f"marshes/fen{number}/tide.dat").write_bytes(bytes([number]) * 5000)
        self.theirs = SETTINGS + b"# of there\n"
        (self.there / "marsh.properties").write_bytes(self.theirs)

    def pull(self, **wishes: Any) -> BackupResult:
        return pull(self.host, self.folder / "marsh", "share", self.reporter, **wishes)

    def restored(self, when: str) -> dict[str, bytes]:
        """Worlds and the settings file that a restore of a backup brings into a new folder."""
        folder = self.folder / f"again-{when}"
        restore(self.host, folder, self.reporter, RestoreWishes(Sought(when, of="marsh")))
        files = [*sorted((folder / "marshes").rglob("*.dat")), folder / "marsh.properties"]
        return {one.relative_to(folder).as_posix(): one.read_bytes() for one in files}

    def backups(self) -> list[str]:
        return [one.why for one in list_backups(self.host, self.folder / "marsh", None).backups]

    def test_what_is_there_becomes_a_backup_here(self) -> None:
        before = self.lies()
        planned = self.pull(dry_run=True)
        self.assertEqual((planned.planned, planned.files, self.backups()), (True, 7, []))
        made = self.pull()
        self.assertEqual((made.files, self.backups()), (7, ["pulled from share"]))
        self.assertEqual(made.paths, planned.paths)
        self.assertIn("marshes/fen3", made.paths)
        self.assertEqual(made.findings, ())
        self.assertEqual(self.lies(), before)
        self.assertFalse((self.folder / "marsh/marshes/fen3").exists())  # it came into the backups alone
        found = self.restored(made.when)
        worlds = {name: data for name, data in before.items() if name.endswith(".dat")}
        self.assertEqual({name: found.get(name) for name in worlds}, worlds)
        self.assertIn(b"# of there", found["marsh.properties"])
        (self.there / "marshes/fen1/tide.dat").write_bytes(b"more")
        self.assertLess(self.pull().added, 1000)  # pieces that are known are not stored again
        self.assertEqual(len(self.backups()), 2)

    def test_cut_at_every_moment(self) -> None:
        """A backup is whole or there is none, and nothing that was fetched is left about."""
        for calls in range(1, 20):
            with self.cut_after(calls):
                try:
                    self.pull()
                except RemoteError:
                    self.assertEqual(self.backups(), [], calls)
                    left = [one for one in self.host.places.runtimes.parent.iterdir() if "rhizon" in one.name]
                    self.assertEqual(left, [])
                    continue
            break
        self.assertGreater(calls, 3)
        self.assertEqual(self.backups(), ["pulled from share"])

    def test_a_world_that_changes_meanwhile(self) -> None:
        """Over one connection it is told; after a break what changed is fetched again."""
        tide = self.there / "marshes/fen2/tide.dat"

        class Changing(FolderFiles):
            def download(this, files: Any, told: Any) -> None:  # noqa: N805
                FolderFiles.download(this, files, told)
                tide.write_bytes(b"another tide")

        with mock.patch("rhizon.app.remote.remotes.connected", lambda *_: Changing(self.there)):
            told = self.pull()
        self.assertEqual([one.code for one in told.findings], ["backup-unsure"])
        tide.write_bytes(b"b" * 5000)

        class Broken(FolderFiles):
            def download(this, files: Any, told: Any) -> None:  # noqa: N805
                FolderFiles.download(this, files, told)
                tide.write_bytes(b"c" * 5000)
                os.utime(tide, (1, 1))
                (self.there / "marshes/fen1/tide.dat").unlink()
                raise RemoteError("remote-unreachable", "the line is cut", hint="Run it again.")

        lines = iter([Broken(self.there), FolderFiles(self.there)])
        with (
            mock.patch("rhizon.app.remote.remotes.AGAIN_SECONDS", (0.01,)),
            mock.patch("rhizon.app.remote.remotes.connected", lambda *_: next(lines)),
        ):
            made = self.pull()
        found = self.restored(made.when)
        self.assertEqual(found["marshes/fen2/tide.dat"], b"c" * 5000)
        self.assertNotIn("marshes/fen1/tide.dat", found)

    def test_wrong_things(self) -> None:
        def code() -> str:
            with self.assertRaises(RhizonError) as caught:
                self.pull()
            return caught.exception.code

        def listing(*_: Any) -> dict[str, ThereFile]:
            names = ("marshes/../../../out", "marshes//x", "/marshes/y", "marshes/a\nb", "marshes/fen0/tide.dat")
            return dict.fromkeys(names, ThereFile(size=5000, mtime=0))

        with mock.patch.object(FolderFiles, "listing", listing):
            made = self.pull()
        self.assertEqual((made.paths, {one.code for one in made.findings}), (("marshes/fen0",), {"left-out-of-backup"}))
        self.assertEqual(len(made.findings), 3)
        with mock.patch.object(FolderFiles, "download", lambda *_: None):
            self.assertEqual(code(), "pull-cut-short")
        with mock.patch("os.scandir", side_effect=PermissionError("locked")), self.assertRaises(RemoteError):
            FolderFiles(self.there).listing()
        record = self.there / ".rhizon-push/record.json"
        whole = record.read_bytes()
        record.write_bytes(whole.replace(b'"marsh"', b'"other"'))
        self.assertEqual(code(), "push-other-server")
        record.unlink()  # whatever brought it there, it is a world of this game
        self.assertEqual(self.pull().files, 7)
        shutil.rmtree(self.there / "marshes")
        self.assertEqual(code(), "nothing-to-pull")
        self.assertEqual(len(self.backups()), 2)


@not_fast
class There(RentedCase):
    """What is looked at, started and put back on a rented server."""

    def setUp(self) -> None:
        super().setUp()
        self.push()
        (self.there / "marshes/fen").mkdir(parents=True)
        (self.there / "marshes/fen/tide.dat").write_bytes(b"of there")
        (self.there / "marshes/moor").mkdir()
        (self.there / "marshes/moor/m.dat").write_bytes(b"another world")

    def edit_remote(self, **fields: Any) -> None:
        """Another definition of the same remote."""
        path, remote = find_remote(self.host, "share")
        write_remote(path, msgspec.structs.replace(remote, **fields))

    def codes(self) -> dict[str, str]:
        found = check_there(self.host, self.folder / "marsh", "share", self.reporter)
        self.assertEqual(found.sound, all(one.severity != "error" for one in found.findings))
        whole = {"complete": ""} if found.complete else {}
        return {one.subject: one.code for one in reversed(found.findings)} | whole  # the worst of each

    def test_what_a_check_finds(self) -> None:
        self.assertEqual(self.codes(), {"complete": ""})
        facts = (self.there / "mods/b.jar").stat()
        (self.there / "mods/b.jar").write_bytes(b"B ONE")  # rot: the same size and time
        os.utime(self.there / "mods/b.jar", ns=(facts.st_atime_ns, facts.st_mtime_ns))
        (self.there / "mods/a.jar").write_bytes(b"cut")
        (self.there / "mods/old.jar").unlink()
        (self.there / "mods/stranger.jar").write_bytes(b"x")
        theirs = self.there / "marsh.properties"
        theirs.write_bytes(theirs.read_bytes().replace(b"21640", b"2222"))
        (self.there / MARK).write_bytes(b"{")
        self.assertEqual(
            self.codes(),
            {"mods/b.jar": "file-changed", "mods/a.jar": "file-changed", "mods/old.jar": "file-missing",
             "mods/stranger.jar": "unknown-content", "marsh.properties": "port-differs-there",
             "share": "remote-incomplete"},
        )  # fmt: skip
        (self.there / MARK).unlink()
        self.push(settings="mine", verify=True)
        (self.there / "mods/stranger.jar").unlink()
        self.place(SECOND)
        self.assertEqual(self.codes(), {"share": "push-pending"})
        self.edit_remote(dictates=Dictates(start_command="java -jar other.jar"))
        self.assertEqual(self.codes()["start_command"], "push-start-command")
        shutil.rmtree(self.there / ".rhizon-push")
        self.assertEqual(self.codes()["share"], "remote-incomplete")

    def log(self, **wishes: Any) -> LogThere:
        return read_log_there(self.host, self.folder / "marsh", "share", LogWishes(**wishes), self.reporter)

    def test_the_log_there(self) -> None:
        def code(**wishes: Any) -> str:
            with self.assertRaises(InputError) as caught:
                self.log(**wishes)
            return caught.exception.code

        self.assertEqual(code(), "no-log-there")
        self.edit_remote(dictates=Dictates(start_file=RelPath("run.sh"), log="logs/marsh-*.txt"))
        self.assertEqual(code(), "no-log-there")
        logs = self.there / "logs"
        (logs / "old").mkdir(parents=True)
        (logs / "old/marsh-0.txt").write_text("no\n")
        (logs / "marsh-1.txt").write_text("waking the marsh\nmarsh awake on port 21640 with 3 pieces\n")
        os.utime(logs / "marsh-1.txt", (1, 1))
        (logs / "marsh-2.txt").write_text(
            "waking the marsh\r\nraising reedlight 2.1.0\r\n"
            "java.lang.NoClassDefFoundError: net/tarnholt/client/Lantern\r\n\tat reed.Light.<init>(Light.java:3)\r\n"
        )
        found = self.log()
        self.assertEqual((found.file, found.runs, found.ready), ("logs/marsh-2.txt", 2, False))
        self.assertEqual(found.lines[0].text, "waking the marsh")
        self.assertTrue(found.findings)
        self.assertEqual(found.findings[0].severity, "error")
        self.assertEqual([one.text for one in self.log(grep="raising", lines=1).lines], ["raising reedlight 2.1.0"])
        self.assertEqual(self.log(run=2).file, "logs/marsh-1.txt")
        self.assertEqual(code(run=3), "no-such-run")

    def control(self, action: Any) -> ControlThereResult:
        return control_there(self.host, self.folder / "marsh", "share", action, self.reporter)

    def test_commands_of_the_host(self) -> None:
        def code(action: Any) -> str:
            with self.assertRaises(RhizonError) as caught:
                self.control(action)
            return caught.exception.code

        self.assertEqual(code("start"), "remote-no-command")
        flag = self.folder / "runs"
        self.edit_remote(
            control=Control(
                here=True, restart=("touch", str(flag)), stop=("sh", "-c", "echo no; exit 3"),
                status=("test", "-e", str(flag)),
            )
        )  # fmt: skip
        self.assertEqual(self.control("status").state, "not running")
        self.assertEqual(self.control("start").code, 0)
        self.assertEqual(self.control("status").state, "running")
        self.assertEqual(code("stop"), "remote-command")
        pull(self.host, self.folder / "marsh", "share", self.reporter)
        with self.assertRaises(RhizonError) as running:
            self.restore()
        self.assertEqual(running.exception.code, "remote-running")
        (self.there / MARK).write_bytes(b"{")
        self.assertEqual(code("start"), "remote-incomplete")
        for words, wrong in ((("no-such-program",), "remote-command"), (("sleep", "9"), "remote-command-time")):
            self.edit_remote(control=Control(here=True, stop=words, seconds=1))
            self.assertEqual(code("stop"), wrong)

    def restore(self, **wishes: Any) -> RestoreThereResult:
        whole = RestoreThereWishes(**wishes)
        return restore_there(self.host, self.folder / "marsh", "share", self.reporter, whole)

    def worlds(self) -> dict[str, bytes]:
        return {path: data for path, data in self.lies().items() if path.startswith("marshes/")}

    def test_a_world_is_put_there(self) -> None:
        """The newest backup of a person; what was there is in a backup, which is not taken for one of a person."""
        first, before = pull(self.host, self.folder / "marsh", "share", self.reporter), self.lies()
        (self.there / "marshes/fen/tide.dat").write_bytes(b"a later tide")
        (self.there / "marshes/fen/more.dat").write_bytes(b"more")
        (self.there / "marshes/heath").mkdir()
        (self.there / "marshes/heath/h.dat").write_bytes(b"made since")
        later = self.lies()
        planned = self.restore(dry_run=True)
        self.assertEqual((planned.to, planned.worlds), (first.when, ("marshes/fen", "marshes/moor")))
        self.assertEqual(self.lies(), later)
        done = self.restore()
        self.assertEqual(self.lies(), before | {"marshes/heath/h.dat": b"made since"})
        self.assertFalse((self.there / MARK).exists())
        self.assertEqual(self.restore(part="world").to, first.when)
        assert done.backup is not None
        self.restore(sought=Sought(done.backup))
        self.assertEqual(self.lies(), later)
        shutil.rmtree(self.there / "marshes")  # nothing is there that would be lost
        self.assertIsNone(self.restore().backup)
        self.assertEqual(self.lies(), before)

    def test_a_restore_that_is_cut(self) -> None:
        """Each world is there whole, the old one or the new one, or nothing can be started; the next run ends it."""
        made = pull(self.host, self.folder / "marsh", "share", self.reporter)
        wanted = self.worlds()
        (self.there / "marshes/fen/tide.dat").write_bytes(b"a later tide")
        (self.there / "marshes/moor/m.dat").write_bytes(b"a later world")
        copy = self.folder / "copy"
        shutil.copytree(self.there, copy)
        old = self.worlds()
        cuts = 0
        for calls in range(1, 80):
            shutil.rmtree(self.there)
            shutil.copytree(copy, self.there)
            with self.cut_after(calls):
                try:
                    self.restore(sought=Sought(made.when))
                except RemoteError:
                    cuts += 1
                else:
                    break
            if (self.there / "run.sh").exists():
                self.assertIn(self.worlds(), (old, wanted), calls)
            with self.cut_after(calls % 23 + 8), contextlib.suppress(RemoteError):
                self.restore(sought=Sought(made.when))
            if (self.there / MARK).exists():
                self.assertEqual(self.refused(verify=True), "remote-incomplete")
            self.restore(sought=Sought(made.when))
            self.assertEqual(self.worlds(), wanted, calls)
            self.assertTrue(self.push().complete)
        self.assertGreater(cuts, 15)
