"""Killed, failed or interrupted at every point of a transaction, a folder is the old one or the new one."""

import contextlib
import hashlib
import itertools
import os
import shutil
import signal
import subprocess
import unittest
import unittest.mock
from collections.abc import Callable
from pathlib import Path

from rhizon import interrupts
from rhizon.adapters.inside import Inside
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.store import Store
from rhizon.adapters.transact import JOURNAL, RHIZON, Extras, apply, recover, write_alone
from rhizon.core.errors import StateError
from rhizon.core.model.game_world import WorldRule
from rhizon.core.model.instance import Inventory
from rhizon.core.names import RelPath
from rhizon.core.plan import Plan, WantedFile, make_plan
from tests.support import Case, not_fast

DONE = ("committed", "ended")  # points after the commit point
OLD = {"mods/a.jar": b"old a", "mods/gone.jar": b"gone", "start.sh": b"old start"}
NEW = {"mods/a.jar": b"new a", "mods/b.jar": b"b", "deep/er/c.txt": b"c", "start.sh": b"old start"}
PERSONS = {"worlds/fen/ground.bin": b"fifty people", "notes.txt": b"mine"}


def tree(folder: Path) -> dict[str, bytes]:
    """Every file but Rhizon's own passing ones."""
    passing = {f"{RHIZON}/{name}" for name in ("busy",)}
    return {
        name: path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_file() and (name := path.relative_to(folder).as_posix()) not in passing
    }


class Killed(BaseException):
    """Stands for the end of the process at that point."""


class Transactions(Case):
    def setUp(self) -> None:
        super().setUp()
        self.store = Store(self.folder / "store")
        self.home = self.folder / "instance"
        apply(self.home, self.plan(OLD, None), {"lock.json": b"old lock"}, self.store)
        for name, data in PERSONS.items():
            (self.home / name).parent.mkdir(parents=True, exist_ok=True)
            (self.home / name).write_bytes(data)
        self.before = self.plan(OLD, None).inventory
        self.old = tree(self.home)
        self.new = {**NEW, **PERSONS, ".rhizon/lock.json": b"new lock", ".rhizon/instance.toml": b"fresh"}

    def plan(self, files: dict[str, bytes], before: Inventory | None) -> Plan:
        wanted = {
            RelPath(name): WantedFile(sha256=self.store.add(data), size=len(data), origin="o")
            for name, data in files.items()
        }
        names = set(wanted) | {RelPath(name) for name in (before.files if before else ())}
        present = InstanceFolder(self.home).hashes(sorted(names))
        return make_plan(wanted, present, before, WorldRule(folder=RelPath("worlds")))

    def change(self, reached: object = None) -> None:
        records = {"lock.json": b"new lock", "instance.toml": b"fresh"}
        apply(self.home, self.plan(NEW, self.before), records, self.store, reached=reached or (lambda _point: None))  # type: ignore[arg-type]

    def test_folders_that_it_emptied_go_and_others_stay(self) -> None:
        many = {"herds/010-a/x/one": b"1", "herds/010-a/two": b"2", "herds/020-b/three": b"3", "alone/four": b"4"}
        home = self.home = self.folder / "herding"
        apply(home, self.plan(many, None), {}, self.store)
        (home / "herds/020-b/mine").write_text("a person's")
        (home / "herds/030-empty").mkdir()
        kept = {"herds/020-b/three": b"3"}
        apply(home, self.plan(kept, self.plan(many, None).inventory), {}, self.store)
        left = sorted(path.relative_to(home).as_posix() for path in home.rglob("*") if RHIZON not in path.parts)
        # of the instance's own folders the server expects to find each
        self.assertEqual(
            left, ["alone", "herds", "herds/020-b", "herds/020-b/mine", "herds/020-b/three", "herds/030-empty"]
        )

    def points(self) -> list[str]:
        seen: list[str] = []
        self.change(seen.append)
        self.assertEqual(tree(self.home), self.new)
        return seen

    @not_fast
    def test_every_point(self) -> None:
        points = self.points()
        self.assertEqual(points[:2], ["staged", "journalled"])
        self.assertEqual(points[-1], "ended")
        self.assertGreater(len(points), 9)
        for number, point in enumerate(points):
            for error in (OSError(28, "No space left on device"), KeyboardInterrupt()):
                with self.subTest(point=point, error=type(error).__name__):
                    self.again()

                    def fail(at: str, wanted: str = point, wrong: BaseException = error) -> None:
                        if at == wanted:
                            raise wrong

                    with self.assertRaises((StateError, KeyboardInterrupt)):
                        self.change(fail)
                    if point in DONE:
                        recover(self.home)  # clears what that left behind
                    self.assertEqual(tree(self.home), self.new if point in DONE else self.old)
            with self.subTest(point=point, killed=number):
                self.again()
                self.killed_at(point)
                recover(self.home)
                self.assertEqual(tree(self.home), self.new if point in DONE else self.old)
                self.assertFalse(recover(self.home))
                if point not in DONE:
                    self.change()
                self.assertEqual(tree(self.home), self.new)

    def again(self) -> None:
        """The old folder once more."""
        subprocess.run(["rm", "-rf", str(self.home)], check=True)
        self.setUp()

    def killed_at(self, point: str) -> None:
        """As if the process had ended: nothing that follows the point runs."""

        def kill(at: str) -> None:
            if at == point:
                os.kill(os.getpid(), signal.SIGKILL)

        self.assertEqual(self.in_a_child(lambda: self.change(kill)), signal.SIGKILL)

    def in_a_child(self, work: Callable[[], object]) -> int:
        """The signal that ended a process which did that work; 0 when it came to its end."""
        child = os.fork()
        if child == 0:
            with contextlib.suppress(BaseException):
                work()
                os._exit(0)
            os._exit(99)
        _, status = os.waitpid(child, 0)
        self.assertFalse(os.WIFEXITED(status) and os.WEXITSTATUS(status), "the work went wrong")
        return os.WTERMSIG(status)

    @not_fast
    def test_a_file_that_was_half_written_goes(self) -> None:
        def killed_at_flush(number: int, work: Callable[[], object]) -> bool:
            left = itertools.count(1 - number)
            fsync = os.fsync

            def flush(handle: int) -> None:
                if next(left) == 0:
                    os.kill(os.getpid(), signal.SIGKILL)
                fsync(handle)

            with unittest.mock.patch("rhizon.adapters.files.os.fsync", flush):
                return self.in_a_child(work) == signal.SIGKILL

        def alone() -> None:
            write_alone(self.home, f"{RHIZON}/lock.json", b"new lock")
            write_alone(self.home, "notes.txt", b"theirs")

        for name, work, new, least in (
            ("a change", self.change, self.new, 8),
            ("two files alone", alone, {**self.old, ".rhizon/lock.json": b"new lock", "notes.txt": b"theirs"}, 4),
        ):
            for number in itertools.count(1):
                with self.subTest(name, flush=number):
                    self.again()
                    killed = killed_at_flush(number, work)
                    recover(self.home)
                    left = tree(self.home)
                    half = {**self.old, ".rhizon/lock.json": b"new lock"} if work is alone else self.old
                    self.assertIn(left, (self.old, half, new))
                    self.assertEqual(sorted(path.name for path in (self.home / RHIZON).iterdir() if path.is_dir()), [])
                if not killed:
                    self.assertGreaterEqual(number, least)
                    self.assertEqual(left, new)
                    break

    def test_at_no_moment_a_replaced_file_is_missing_and_readers_see_the_old_state(self) -> None:
        seen = []

        def look(at: str) -> None:
            if at == "committed":
                return
            home = InstanceFolder(self.home)
            self.assertTrue((self.home / "mods/a.jar").is_file() and (self.home / ".rhizon/lock.json").is_file(), at)
            self.assertEqual((home.read("mods/a.jar"), home.read(".rhizon/lock.json")), (b"old a", b"old lock"), at)
            self.assertIsNone(home.read("mods/b.jar"), at)
            seen.append(at)
            if at.startswith("in .rhizon/instance"):
                self.assertTrue(home.is_unfinished)

        with contextlib.suppress(AssertionError):
            self.change(lambda at: None if at in ("staged", "ended") else look(at))
        self.assertGreater(len(seen), 5)
        self.assertEqual(tree(self.home), self.new)
        self.assertEqual(InstanceFolder(self.home).read("mods/a.jar"), b"new a")

    def test_signals_before_and_after_the_commit_point(self) -> None:
        before = {one: signal.getsignal(one) for one in (signal.SIGINT, signal.SIGTERM)}
        self.addCleanup(lambda: [signal.signal(one, handler) for one, handler in before.items()])
        self.addCleanup(interrupts.install)  # runs first: what was noted here is no business of the next test
        for point in self.points():
            for times in (1, 2):
                with self.subTest(point=point, times=times):
                    self.again()
                    interrupts.install()

                    def send(at: str, wanted: str = point, times: int = times) -> None:
                        for _ in range(times if at == wanted else 0):
                            os.kill(os.getpid(), signal.SIGINT)

                    if point in DONE:
                        self.change(send)  # noted, and the command goes on
                        self.assertTrue(interrupts.asked() and interrupts.committed())
                    else:
                        self.assertRaises(KeyboardInterrupt, self.change, send)
                        self.assertFalse(interrupts.committed())
                    self.assertEqual(tree(self.home), self.new if point in DONE else self.old)

    def test_links_lead_nowhere(self) -> None:
        outside = self.folder / "outside"
        for name, link in (("content", "mods"), ("deep", "deep"), ("records", RHIZON)):
            with self.subTest(name):
                self.again()
                outside.mkdir(exist_ok=True)
                (outside / "a.jar").write_bytes(b"theirs")
                shutil.rmtree(self.home / link, ignore_errors=True)
                (self.home / link).symlink_to(outside)
                plan = make_plan(
                    {RelPath(path): WantedFile(sha256=self.store.add(data), size=len(data), origin="o")
                     for path, data in NEW.items()}, {}, None, WorldRule(folder=RelPath("worlds")),
                )  # fmt: skip
                with self.assertRaises(StateError) as caught:
                    apply(self.home, plan, {"lock.json": b"new"}, self.store)
                self.assertEqual(caught.exception.code, "linked-folder")
                self.assertEqual({one.name: one.read_bytes() for one in outside.iterdir()}, {"a.jar": b"theirs"})
                shutil.rmtree(outside)
                shutil.rmtree(self.home, ignore_errors=True)

    @unittest.skipUnless(hasattr(os, "geteuid") and os.geteuid() == 0, "giving files away needs root")
    def test_owner_group_and_mode_stay(self) -> None:
        for path in (self.home, *self.home.rglob("*")):
            os.chown(path, 4321, 4322)
        (self.home / "mods/a.jar").chmod(0o640)
        self.change()
        for path in (self.home, *self.home.rglob("*")):
            with self.subTest(path.name):
                self.assertEqual((path.stat().st_uid, path.stat().st_gid), (4321, 4322), path)
        self.assertEqual((self.home / "mods/a.jar").stat().st_mode & 0o777, 0o640)
        os.chown(self.home / "start.sh", 0, 0)

        def as_another() -> None:
            self.folder.chmod(0o755)
            os.chown(self.store._root, 4321, 4322)
            os.setgid(4322)
            os.setuid(4321)
            plan = make_plan(
                {RelPath("start.sh"): WantedFile(sha256=self.store.add(b"x"), size=1, origin="o")},
                {RelPath("start.sh"): hashlib.sha256(OLD["start.sh"]).hexdigest()},
                self.before, WorldRule(folder=RelPath("worlds")),
            )  # fmt: skip
            with self.assertRaises(StateError) as caught:
                apply(self.home, plan, {}, self.store)
            self.assertEqual(caught.exception.code, "owner-not-kept")

        self.in_a_child(as_another)

    def test_taking_back_may_be_killed_too(self) -> None:
        self.killed_at("in deep/er/c.txt")
        journal = (self.home / RHIZON / JOURNAL).read_bytes()
        self.assertTrue(recover(self.home))
        (self.home / RHIZON / JOURNAL).write_bytes(journal)
        self.assertTrue(recover(self.home))
        self.assertEqual(tree(self.home), self.old)
        self.assertFalse((self.home / "deep").exists())

    def test_a_damaged_journal_is_not_guessed_at(self) -> None:
        (self.home / RHIZON / JOURNAL).write_bytes(b'[{"action": "pl')
        with self.assertRaises(StateError) as caught:
            recover(self.home)
        self.assertEqual(caught.exception.code, "journal-damaged")

    def test_a_damaged_store_changes_nothing(self) -> None:
        plan = self.plan(NEW, self.before)
        victim = self.store.path(plan.changes[0].wanted.sha256)  # type: ignore[union-attr]
        victim.chmod(0o644)
        victim.write_bytes(b"x" * victim.stat().st_size)
        with self.assertRaises(Exception) as caught:
            apply(self.home, plan, {}, self.store)
        self.assertEqual(caught.exception.code, "store-damaged")  # type: ignore[attr-defined]
        self.assertEqual(tree(self.home), self.old)

    @unittest.skipUnless(hasattr(os, "geteuid") and os.geteuid() == 0, "mounting a small disk needs root")
    def test_a_full_disk_in_the_middle(self) -> None:
        mount = self.folder / "small"
        mount.mkdir()
        if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=64k", "tmpfs", str(mount)]).returncode:
            self.skipTest("this machine does not allow to mount")
        self.addCleanup(subprocess.run, ["umount", str(mount)], check=True)
        big = {"mods/big.jar": b"x" * 200_000, "mods/a.jar": b"a"}
        home, self.home = self.home, mount / "instance"
        with self.assertRaises(StateError) as caught:
            apply(self.home, self.plan(big, None), {}, self.store)
        self.assertEqual(caught.exception.code, "disk-full")
        self.assertEqual(list(mount.iterdir()), [])
        self.home = home

    @unittest.skipUnless(hasattr(os, "geteuid") and os.geteuid() == 0, "mounting a small disk needs root")
    def test_a_folder_on_another_file_system(self) -> None:
        files = {name: (self.home / name).read_bytes() for name in ("mods/a.jar", "mods/gone.jar")}
        if subprocess.run(["mount", "-t", "tmpfs", "-o", "size=1m", "tmpfs", str(self.home / "mods")]).returncode:
            self.skipTest("this machine does not allow to mount")
        self.addCleanup(subprocess.run, ["umount", str(self.home / "mods")], check=True)
        for name, data in files.items():
            (self.home / name).write_bytes(data)
        self.assertEqual(tree(self.home), self.old)
        for point in ("staged", "journalled", "in mods/b.jar", "away mods/gone.jar", "in .rhizon/lock.json"):
            with self.subTest(point):
                self.killed_at(point)
                recover(self.home)
                shutil.rmtree(self.home / "mods/.rhizon-passing", ignore_errors=True)  # of what was only staged
                self.assertEqual(tree(self.home), self.old)
        self.change()
        self.assertEqual(tree(self.home), self.new)
        self.assertFalse((self.home / "mods/.rhizon-passing").exists())

    def test_whole_folders_and_bytes_that_are_kept(self) -> None:
        def world(inside: Inside, target: RelPath) -> None:
            inside.write_new(f"{target}/deep/ground.bin", b"as it was")

        plan = Plan(steps=(), inventory=self.before)
        data = (self.home / "notes.txt").read_bytes()
        kept = hashlib.sha256(data).hexdigest()

        def change(reached: Callable[[str], None] = lambda _point: None) -> None:
            trees = {RelPath("worlds/fen"): world, RelPath("worlds/new"): world}
            extras = Extras(blobs={kept: RelPath("notes.txt")}, trees=trees)
            apply(self.home, plan, {}, self.store, extras, reached)

        def fail(at: str) -> None:
            if at == "in worlds/new":
                raise OSError(28, "No space left on device")

        with self.assertRaises(StateError):
            change(fail)
        self.assertEqual(tree(self.home), self.old)
        change()
        self.assertEqual((self.home / "worlds/fen/deep/ground.bin").read_bytes(), b"as it was")
        self.assertFalse((self.home / "worlds/fen/ground.bin").exists())
        self.assertEqual((self.home / RHIZON / "kept/blobs" / kept).read_bytes(), data)
