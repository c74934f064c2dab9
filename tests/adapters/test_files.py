"""Files known without reading, handles that follow no links, the store, kept states on disk."""

import contextlib
import hashlib
import os
import shutil
import time
from pathlib import Path
from unittest import mock

from rhizon.adapters.files import free_bytes, remove_tree, write_atomic
from rhizon.adapters.inside import MOST_HANDLES, Inside
from rhizon.adapters.store import Store
from rhizon.adapters.undo_history import KeptStates, state_name
from rhizon.adapters.verified import TRUSTED_SECONDS, Verified
from rhizon.core.errors import InputError, RhizonError, StateError, TrustError
from rhizon.core.model.decode import decode_json, encode_json
from rhizon.core.model.kept import KeptFile, KeptState
from rhizon.core.plan import WantedFile
from tests.core.wrong_documents import EXAMPLES
from tests.support import Case


def digest(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


class Known(Case):
    """A file that was read and found right is not read again, until anything can have changed it."""

    def setUp(self) -> None:
        super().setUp()
        (self.folder / "d").mkdir()
        self.verified = Verified(self.folder / "verified.sqlite3")
        self.addCleanup(self.verified.close)

    def hashes(self, *names: str) -> dict[str, str]:
        with Inside(self.folder / "d") as inside:
            return inside.hashes(names, self.verified)

    def was_read(self, name: str) -> bool:
        with mock.patch("rhizon.adapters.inside.hashlib.file_digest", wraps=hashlib.file_digest) as read:
            self.hashes(name)
        return read.called

    def test_what_is_read_again(self) -> None:
        path = self.write("d/f", b"as placed")
        self.assertEqual(self.hashes("f", "missing", "no/such/folder"), {"f": digest(b"as placed")})
        self.assertFalse(self.was_read("f"))
        facts = path.stat()

        def flip() -> None:
            path.write_bytes(b"as PLACED")
            os.utime(path, ns=(facts.st_atime_ns, facts.st_mtime_ns))  # the time is put back

        for change in (flip, path.touch, lambda: path.chmod(0o600), lambda: write_atomic(path, b"another")):
            change()
            self.assertTrue(self.was_read("f"))
            self.assertEqual(self.hashes("f"), {"f": digest(path.read_bytes())})
            self.assertFalse(self.was_read("f"))
        with mock.patch("rhizon.adapters.verified.time.time", return_value=time.time() + TRUSTED_SECONDS + 1):
            self.assertTrue(self.was_read("f"))
        with mock.patch.object(self.verified, "_boot", "another start of the machine"):
            self.assertTrue(self.was_read("f"))

    def test_a_cache_that_cannot_be_used_is_done_without(self) -> None:
        self.write("d/f", b"x")
        for broken in (self.write("broken", b"no data base" * 99), self.folder / "not/there", Path("/dev/null/x")):
            verified = Verified(broken)
            with Inside(self.folder / "d") as inside:
                self.assertEqual(inside.hashes(["f"], verified), {"f": digest(b"x")})
            verified.close()


class Handles(Case):
    """Nothing is read or changed over a link."""

    def setUp(self) -> None:
        super().setUp()
        self.write("d/a/b/file", b"x")
        self.write("outside/file", b"theirs")
        self.inside = Inside(self.folder / "d")
        self.addCleanup(self.inside.close)

    def test_links_anywhere_on_the_way(self) -> None:
        rows = {
            "folder": "link/file", "folder in a folder": "a/link/file", "file": "filelink", "chain": "a/chain/x/file",
            "up": "a/up/a/b/file",
        }  # fmt: skip
        (self.folder / "d/link").symlink_to(self.folder / "outside")
        (self.folder / "d/a/link").symlink_to("../../outside")
        (self.folder / "d/filelink").symlink_to(self.folder / "outside/file")
        (self.folder / "d/a/chain").symlink_to("link")
        (self.folder / "d/a/up").symlink_to("..")
        actions = (
            self.inside.read, self.inside.unlink, self.inside.remove, lambda path: self.inside.write_new(path, b"y"),
            lambda path: self.inside.replace(path, b"y", 0o644, "a"), lambda path: self.inside.rename("a/b/file", path),
            lambda path: self.inside.hashes([path]), lambda path: self.inside.open_write(path), self.inside.lock,
        )  # fmt: skip
        for name, path in rows.items():
            for action in actions:
                with self.subTest(name):
                    if name == "file" and action in (self.inside.unlink, self.inside.remove):
                        continue  # that removes the link
                    with contextlib.suppress(StateError, OSError):
                        action(path)
                    self.assertEqual((self.folder / "outside/file").read_bytes(), b"theirs")
                    self.assertEqual([one.name for one in (self.folder / "outside").iterdir()], ["file"])

    def test_a_link_that_was_named_is_followed_and_no_further(self) -> None:
        self.write("worlds/fen/ground", b"g")
        (self.folder / "worlds/fen/out").symlink_to(self.folder / "outside")
        (self.folder / "d/worlds").symlink_to(self.folder / "worlds")
        (self.folder / "d/other").symlink_to(self.folder / "outside")
        with Inside(self.folder / "d", (self.folder / "worlds",)) as inside:
            self.assertEqual(inside.read("worlds/fen/ground"), b"g")
            inside.write_new("worlds/fen/new", b"n")
            for path in ("worlds/fen/out/file", "other/file"):
                with self.assertRaises(StateError) as caught:
                    inside.read(path)
                self.assertEqual(caught.exception.code, "linked-folder")
        self.assertEqual((self.folder / "worlds/fen/new").read_bytes(), b"n")

    def test_a_folder_that_becomes_a_link_meanwhile(self) -> None:
        self.assertEqual(self.inside.read("a/b/file"), b"x")  # the handle of a/b is open now
        (self.folder / "d/a").rename(self.folder / "d/was")
        (self.folder / "d/a").symlink_to(self.folder / "outside")
        self.inside.write_new("a/b/new", b"n")  # goes where the folder is, not where its name leads
        self.assertEqual((self.folder / "d/was/b/new").read_bytes(), b"n")
        self.assertEqual([one.name for one in (self.folder / "outside").iterdir()], ["file"])

    def test_what_is_no_file_is_in_the_way_and_trees_go_whole(self) -> None:
        (self.folder / "d/link").symlink_to(self.folder / "outside/file")
        os.mkfifo(self.folder / "d/pipe")
        for name in ("link", "a", "pipe"):
            with self.subTest(name), self.assertRaises(StateError) as caught:
                self.inside.hashes([name])
            self.assertEqual(caught.exception.code, "file-in-the-way")
        (self.folder / "d/a/out").symlink_to(self.folder / "outside")
        (self.folder / "d/a/b").chmod(0o500)
        for _ in range(2):
            self.inside.remove("a")
        self.assertEqual(self.inside.names(""), ["link", "pipe"])
        self.assertEqual((self.folder / "outside/file").read_bytes(), b"theirs")
        self.write("t/a/b", b"x")
        remove_tree(self.folder / "t")
        self.assertFalse((self.folder / "t").exists())
        self.assertGreater(free_bytes(self.folder / "not/there/yet"), 0)

    def test_many_folders_with_few_handles(self) -> None:
        paths = [f"many/{n % 13}/{n}/{'d/' * (n % 5)}file" for n in range(300)]
        for path in paths:
            self.inside.write_new(path, path.encode())
        self.assertTrue(all(self.inside.read(path) == path.encode() for path in paths))
        self.assertLessEqual(len(self.inside._handles), MOST_HANDLES + 8)


class LayingOut(Case):
    def test_links_copies_and_damage(self) -> None:
        store = Store(self.folder / "store")
        sha256 = store.add(b"content")
        (self.folder / "d").mkdir()
        inside = Inside(self.folder / "d")
        self.addCleanup(inside.close)

        def lay(name: str, *, linked: bool = False, executable: bool = False) -> Path:
            wanted = WantedFile(sha256=sha256, size=7, origin="a file", linked=linked, executable=executable)
            store.lay_out(wanted, inside, name)
            return self.folder / "d" / name

        rows = ((True, False, 0o444, 2), (False, False, 0o644, 1), (False, True, 0o755, 1), (True, True, 0o755, 1))
        for number, (linked, executable, mode, links) in enumerate(rows):
            with self.subTest(linked=linked, executable=executable):
                facts = lay(f"f{number}", linked=linked, executable=executable).stat()
                self.assertEqual((facts.st_mode & 0o777, facts.st_nlink > 1), (mode, links > 1))
                self.assertEqual(store.verified.sha256_of(facts), sha256)
        path = store.path(sha256)
        for linked in (False, True):
            self.assertTrue(store.has(sha256, 7))
            before = path.stat()
            path.chmod(0o644)
            path.write_bytes(b"CONTENT")
            os.utime(path, ns=(before.st_atime_ns, before.st_mtime_ns))  # a byte that changed and a time that did not
            self.assertFalse(store.has(sha256, 7))
            for _ in range(2):  # the second time it is not there at all
                with self.assertRaises(TrustError) as caught:
                    lay("bad", linked=linked)
                self.assertEqual(caught.exception.code, "store-damaged")
                self.assertFalse((self.folder / "d/bad").exists())
            self.assertFalse(path.exists())
            store.add(b"content")


class Kept(Case):
    def keep(self, number: int, *blobs: bytes) -> None:
        state = decode_json(KeptState, encode_json(EXAMPLES["kept"]), "kept", "kept state")
        files = {f"f{n}": KeptFile(sha256=digest(data), size=len(data)) for n, data in enumerate(blobs)}
        made = KeptState(
            **{name: getattr(state, name) for name in state.__struct_fields__ if name not in ("number", "files")},
            number=number,
            files=files,
        )
        self.write(f"d/.rhizon/{state_name(number)}", encode_json(made))
        for data in blobs:
            self.write(f"d/.rhizon/kept/blobs/{digest(data)}", data)

    def blobs(self) -> set[bytes]:
        return {path.read_bytes() for path in (self.folder / "d/.rhizon/kept/blobs").iterdir()}

    def test_old_ones_go_with_what_only_they_need(self) -> None:
        for number in range(1, 6):
            self.keep(number, b"shared", f"own {number}".encode())
        kept = KeptStates(self.folder / "d")
        self.assertEqual(kept.numbers(), [1, 2, 3, 4, 5])
        kept.trim(2)
        self.assertEqual(kept.numbers(), [4, 5])
        self.assertEqual(self.blobs(), {b"shared", b"own 4", b"own 5"})
        self.assertRaises(InputError, kept.read, 1)

    def test_what_a_broken_one_needs_is_not_known_and_stays(self) -> None:
        for number in range(1, 4):
            self.keep(number, f"own {number}".encode())
        broken = self.folder / "d/.rhizon" / state_name(2)
        for data in (b"", b"{}", broken.read_bytes()[:-9], b'{"format": "rhizon-kept/2"}'):
            with self.subTest(data=data[:20]):
                broken.write_bytes(data)
                kept = KeptStates(self.folder / "d")
                self.assertRaises(RhizonError, kept.read, 2)
                self.assertEqual([one.number for one in kept.readable()], [1, 3])
                kept.trim(2)
                self.assertIn(b"own 2", self.blobs())
                self.assertIn(b"own 3", self.blobs())
                self.keep(1, b"own 1")

    def test_nothing_kept(self) -> None:
        kept = KeptStates(Path(self.folder / "nowhere"))
        self.assertEqual((kept.numbers(), kept.readable()), ([], []))
        kept.trim()
        shutil.rmtree(self.folder / "nowhere", ignore_errors=True)
