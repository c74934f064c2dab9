"""Backup repositories: what goes in comes out, equal pieces are kept once, and damage is found."""

import contextlib
import os
import time
import unittest
from unittest import mock

from hypothesis import given, settings
from hypothesis import strategies as st

from rhizon.adapters import backups
from rhizon.adapters.backups import Repository, tree_files
from rhizon.adapters.console import ConsoleClient, ConsolePort
from rhizon.core.errors import StateError, TrustError
from rhizon.core.model.game import HoldRule
from rhizon.core.names import RelPath
from tests.support import Case

WORLDS = RelPath("worlds")


def quiet(_so_far: int, _total: int) -> None:
    pass


class Repositories(Case):
    def setUp(self) -> None:
        super().setUp()
        self.repository = Repository(self.folder / "backups")
        self.enterContext(self.repository.busy())

    def test_what_goes_in_comes_out(self) -> None:
        bodies = st.dictionaries(st.sampled_from(["a", "b/c", "b/d.dat", "e/f/g"]), st.binary(max_size=300), min_size=1)
        number = 0

        @settings(max_examples=30, deadline=None)
        @given(bodies)
        def law(files: dict[str, bytes]) -> None:
            nonlocal number
            number += 1
            home = self.folder / f"home-{number}"
            for name, data in files.items():
                self.write(f"home-{number}/worlds/fen/{name}", data)
            seen = tree_files(home, WORLDS)
            with mock.patch.object(backups, "CHUNK", 64):
                saved, fresh, moved = self.repository.save(seen.files, {}, quiet)
                self.assertEqual(moved, [])
                self.assertEqual(self.repository.verify(fresh, quiet), [])
                target = self.folder / f"back-{number}"
                self.repository.lay_out(saved, seen.empty, RelPath("worlds/fen"), target)
            back = {p.relative_to(target).as_posix(): p.read_bytes() for p in target.rglob("*") if p.is_file()}
            self.assertEqual(back, files)
            again, fresh, _ = self.repository.save(seen.files, saved, quiet)
            self.assertEqual((set(fresh), {name: one.chunks for name, one in again.items()}),
                             (set(), {name: one.chunks for name, one in saved.items()}))  # fmt: skip

        law()

    def test_a_file_that_did_not_change_is_not_read_again(self) -> None:
        path = self.write("home/worlds/fen/old", b"old")
        os.utime(path, ns=(10**18, 10**18))
        files = tree_files(self.folder / "home", WORLDS).files
        with mock.patch.object(backups, "SETTLED_NS", -1):
            first, _, _ = self.repository.save(files, {}, quiet)
        with mock.patch.object(Repository, "_cut", side_effect=AssertionError("it was read")):
            self.assertEqual(self.repository.save(files, first, quiet)[0], first)
        young, _, _ = self.repository.save(files, {}, quiet)
        self.assertEqual(young[RelPath("worlds/fen/old")].ctime_ns, 0)  # it may change once more at the same time

    def test_links_and_bad_names(self) -> None:
        self.write("elsewhere/fen/deep/ground", b"fifty people")
        self.write("home/worlds/own/a", b"a")
        (self.folder / "home/worlds/own/empty/er").mkdir(parents=True)
        (self.folder / "home/worlds/linked").symlink_to(self.folder / "elsewhere/fen")
        (self.folder / "home/worlds/own/inner").symlink_to("/etc")
        self.write("home/worlds/own/con", b"a device name elsewhere")
        seen = tree_files(self.folder / "home", WORLDS)
        self.assertEqual(sorted(seen.files), ["worlds/linked/deep/ground", "worlds/own/a"])
        self.assertEqual(seen.empty, ("worlds/own/empty/er",))
        self.assertEqual(sorted(seen.left_out), ["worlds/own/con", "worlds/own/inner"])

    def test_damage_and_what_nobody_needs(self) -> None:
        self.write("home/worlds/a", b"one")
        saved, fresh, _ = self.repository.save(tree_files(self.folder / "home", WORLDS).files, {}, quiet)
        (chunk,) = fresh
        path = self.folder / f"backups/chunks/{chunk[:2]}/{chunk}.zst"
        self.assertEqual(path.stat().st_mode & 0o077, 0)
        whole = path.read_bytes()
        for bad in (whole[:-1], b"", whole[:9] + b"x" + whole[10:], whole + b"more"):
            path.write_bytes(bad)
            if self.repository.verify([chunk], quiet) != [chunk]:
                self.assertEqual(self.repository.chunk(chunk), b"one")  # what stands behind a frame is not read
        path.unlink()
        self.assertRaises(TrustError, self.repository.bytes_of, saved[RelPath("worlds/a")])
        self.repository.save(tree_files(self.folder / "home", WORLDS).files, {}, quiet)
        self.assertGreater(self.repository.sweep(), 0)
        self.assertEqual(self.repository.bytes_on_disk(), 0)

    def test_a_clock_that_jumps_back(self) -> None:
        (self.folder / "backups/marsh-1").mkdir(parents=True)
        (self.folder / "backups/marsh-1/2031-01-01T00-00-00Z.json").write_text("{}")
        self.assertEqual(self.repository.new_time("marsh-1"), "2031-01-01T00-00-01Z")


class Consoles(unittest.TestCase):
    def test_a_hold_ends_with_its_client_and_strangers_are_not_heard(self) -> None:
        said: list[str] = []
        port = ConsolePort(said.append, HoldRule(command="still", done="is saved", release="flow", seconds=1))
        self.addCleanup(port.close)

        def waits(word: str, times: int) -> None:
            for _ in range(200):
                if said.count(word) == times:
                    return
                time.sleep(0.01)
            self.fail(f"{word} was said {said.count(word)} times, not {times}")

        with ConsoleClient(port.port, "another token") as stranger:
            with contextlib.suppress(StateError):  # it may be hung up on already
                stranger.send("stop")
            self.assertRaises(StateError, stranger.hold, 0.3)
        self.assertEqual(said, [])
        with ConsoleClient(port.port, port.token) as first, ConsoleClient(port.port, port.token) as second:
            self.assertRaises(StateError, first.hold, 0.1)  # the server does not answer in time
            port.heard("fen is saved")

            def answered(line: str) -> None:
                said.append(line)
                port.heard("is saved")

            with mock.patch.object(port, "_send", side_effect=answered):
                second.hold(1)
            second.send("say hello\nstop")
            waits("say hello stop", 1)
            self.assertNotIn("flow", said)
        waits("flow", 1)

    def test_a_server_that_is_gone(self) -> None:
        port = ConsolePort(print, None)
        with ConsoleClient(port.port, port.token) as client, self.assertRaises(StateError) as caught:
            client.hold(1)
        self.assertIn("no console.hold", caught.exception.message)
        port.close()
        with self.assertRaises(StateError) as caught:
            ConsoleClient(port.port, port.token)
        self.assertEqual(caught.exception.code, "server-unheard")
