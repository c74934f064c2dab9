"""Stamps, hashes and trees of files; kept states on disk."""

import hashlib
import os
import shutil
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from rhizon.adapters.files import free_bytes, has_stamp, hash_present, remove_tree, stamp, write_atomic
from rhizon.adapters.kept import KeptStates, state_name
from rhizon.adapters.store import Store
from rhizon.core.errors import InputError, RhizonError, StateError, TrustError
from rhizon.core.model.decode import decode_json, encode_json
from rhizon.core.model.kept import KeptFile, KeptState
from rhizon.core.names import RelPath
from tests.core.wrong_documents import EXAMPLES
from tests.support import Case


def digest(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


class Stamps(Case):
    def test_whatever_writes_takes_the_stamp_away(self) -> None:
        path = self.write("f", b"as placed")
        stamp(path, digest(b"as placed"))
        self.assertTrue(has_stamp(path.stat(), digest(b"as placed")))
        self.assertFalse(has_stamp(path.stat(), digest(b"another")))
        for change in (
            lambda: path.write_bytes(b"as PLACED"),
            lambda: path.touch(),
            lambda: write_atomic(path, b"new"),
        ):
            stamp(path, digest(b"as placed"))
            change()
            self.assertFalse(has_stamp(path.stat(), digest(b"as placed")))

    def test_a_stamped_file_is_not_read_and_any_other_is(self) -> None:
        sound, changed = b"sound", b"changed"
        self.write("d/sound", sound)
        self.write("d/changed", b"CHANGED")
        self.write("d/longer", sound + b"!")
        for name, data in (("sound", sound), ("changed", changed)):
            stamp(self.folder / "d" / name, digest(data))
        os.utime(self.folder / "d/changed")
        stamp(self.folder / "d/longer", digest(sound))
        known = {RelPath(name): (digest(data), len(data)) for name, data in (("sound", sound), ("changed", changed))}
        known[RelPath("longer")] = (digest(sound), len(sound))
        names = [RelPath(name) for name in ("sound", "changed", "longer", "missing", "no/such/folder")]
        found = hash_present(self.folder / "d", names, known)
        self.assertEqual(found, {"sound": digest(sound), "changed": digest(b"CHANGED"), "longer": digest(sound + b"!")})
        (self.folder / "d/sound").write_bytes(b"SOUND")
        stamp(self.folder / "d/sound", digest(sound))  # a byte that changed by itself: only reading finds it
        self.assertEqual(hash_present(self.folder / "d", names[:1], known), {"sound": digest(sound)})
        self.assertEqual(hash_present(self.folder / "d", names[:1], {}), {"sound": digest(b"SOUND")})

    def test_links_and_folders_are_in_the_way(self) -> None:
        self.write("d/file", b"x")
        (self.folder / "d/link").symlink_to(self.folder / "d/file")
        (self.folder / "d/folder").mkdir()
        for name in ("link", "folder"):
            with self.subTest(name), self.assertRaises(StateError) as caught:
                hash_present(self.folder / "d", [RelPath(name)])
            self.assertEqual(caught.exception.code, "file-in-the-way")

    @given(st.binary(max_size=40))
    def test_any_hash_has_a_stamp_of_its_own(self, data: bytes) -> None:
        path = self.folder / "any"
        path.touch()
        stamp(path, digest(data))
        self.assertTrue(has_stamp(path.stat(), digest(data)))
        self.assertFalse(has_stamp(path.stat(), digest(data + b"!")))

    def test_trees_go_whatever_their_modes(self) -> None:
        self.write("t/a/b/c", b"x")
        (self.folder / "t/link").symlink_to(self.folder)
        (self.folder / "t/a/b").chmod(0o500)
        remove_tree(self.folder / "t")
        remove_tree(self.folder / "t")
        self.assertFalse((self.folder / "t").exists())
        self.assertTrue(self.folder.exists())
        self.assertGreater(free_bytes(self.folder / "not/there/yet"), 0)


class LayingOut(Case):
    def test_links_copies_and_damage(self) -> None:
        store = Store(self.folder / "store")
        sha256 = store.add(b"content")
        rows = ((True, False, 0o444, 2), (False, False, 0o644, 1), (False, True, 0o755, 1), (True, True, 0o755, 1))
        for number, (link, executable, mode, links) in enumerate(rows):
            with self.subTest(link=link, executable=executable):
                target = self.folder / f"f{number}"
                store.lay_out(sha256, str(target), link=link, executable=executable, what="a file")
                facts = target.stat()
                self.assertEqual((target.read_bytes(), facts.st_mode & 0o777), (b"content", mode))
                self.assertEqual(facts.st_nlink > 1, links > 1)
                self.assertTrue(has_stamp(facts, sha256))
        path = store.path(sha256)
        os.utime(path)  # somebody touched it: it is read before it is used, and stamped again
        store.lay_out(sha256, str(self.folder / "again"), link=False, executable=False, what="a file")
        self.assertTrue(has_stamp(path.stat(), sha256))
        path.chmod(0o644)
        path.write_bytes(b"CONTENT")
        for _ in range(2):  # the second time it is not there at all
            with self.assertRaises(TrustError) as caught:
                store.lay_out(sha256, str(self.folder / "bad"), link=False, executable=False, what="a file")
            self.assertEqual(caught.exception.code, "store-damaged")
            self.assertFalse((self.folder / "bad").exists())
        self.assertFalse(path.exists())


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
        self.assertEqual(kept.blob(digest(b"shared")).read_bytes(), b"shared")
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
