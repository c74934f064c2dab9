"""Backup repositories: what goes in comes out, equal pieces are kept once, and damage is found."""

import os
from collections.abc import Mapping
from pathlib import Path
from unittest import mock

import msgspec
from hypothesis import given, settings
from hypothesis import strategies as st
from pyrage import x25519

from rhizon.adapters import backups
from rhizon.adapters.backups import Repository
from rhizon.adapters.inside import Inside
from rhizon.adapters.sealing import Key, Seal, passphrase_seal, read_recipients, recipient_seal
from rhizon.adapters.world_files import WorldFiles, tree_files
from rhizon.core.errors import InputError, StateError, TrustError
from rhizon.core.model.backup import Backup, SavedFile
from rhizon.core.model.decode import decode_json, encode_json
from rhizon.core.names import RelPath
from rhizon.core.secret import Secret
from tests import examples
from tests.core.wrong_documents import EXAMPLES
from tests.support import Case, not_fast

WORLDS = RelPath("worlds")


def quiet(_so_far: int, _total: int) -> None:
    pass


class Repositories(Case):
    def setUp(self) -> None:
        super().setUp()
        self.repository = Repository(self.folder / "backups")
        self.enterContext(self.repository.busy())

    def home(self) -> Inside:
        return Inside(self.folder / "home", self.linked)

    linked: tuple[Path, ...] = ()

    def seen(self) -> WorldFiles:
        with self.home() as inside:
            return tree_files(inside, WORLDS)

    def save(self, before: Mapping[str, SavedFile] | None = None) -> tuple[dict[str, SavedFile], set[str], list[str]]:
        return self.repository.save(self.home, self.seen().files, before or {}, lambda _so_far: None)

    def test_what_goes_in_comes_out(self) -> None:
        bodies = st.dictionaries(st.sampled_from(["a", "b/c", "b/d.dat", "e/f/g"]), st.binary(max_size=300), min_size=1)
        number = 0

        @settings(max_examples=examples(30), deadline=None)
        @given(bodies)
        def law(files: dict[str, bytes]) -> None:
            nonlocal number
            number += 1
            home = self.folder / f"home-{number}"
            for name, data in files.items():
                self.write(f"home-{number}/worlds/fen/{name}", data)
            with Inside(home) as inside:
                seen = tree_files(inside, WORLDS)
            self.repository = Repository(self.folder / "backups", *self.sealed(number % 3))
            with mock.patch.object(backups, "CHUNK", 64):
                saved, fresh, moved = self.repository.save(lambda: Inside(home), seen.files, {}, lambda _so_far: None)
                self.assertEqual((moved, self.repository.read_back(fresh)), ([], []))
                self.assertEqual(self.repository.verify(fresh, quiet), [])
                with Inside(self.folder) as there:
                    self.repository.lay_out(saved, seen.empty, RelPath("worlds/fen"), there, f"back-{number}")
            target = self.folder / f"back-{number}"
            back = {p.relative_to(target).as_posix(): p.read_bytes() for p in target.rglob("*") if p.is_file()}
            self.assertEqual(back, files)
            again, fresh, _ = self.repository.save(lambda: Inside(home), seen.files, saved, lambda _so_far: None)
            self.assertEqual((set(fresh), {name: one.chunks for name, one in again.items()}),
                             (set(), {name: one.chunks for name, one in saved.items()}))  # fmt: skip

        law()

    def test_equal_files_at_once_are_written_once(self) -> None:
        for number in range(8):
            self.write(f"home/worlds/fen/{number}", b"the same bytes")
        self.repository = Repository(self.folder / "backups", *self.sealed(1))
        _, fresh, _ = self.save()
        self.assertEqual((len(fresh), self.repository.read_back(fresh)), (1, []))

    def sealed(self, kind: int) -> tuple[Seal | None, Key | None]:
        """Plain, encrypted to a public key, or under a passphrase (which costs a second)."""
        root, state = self.folder / "backups", self.folder / "state"
        if kind == 0:
            return None, None
        if not hasattr(self, "identity"):
            self.identity = x25519.Identity.generate()
        self.write("key", f"# a comment\n{self.identity}\n")
        return recipient_seal(state, root, (str(self.identity.to_public()),)), Key.from_file(self.folder / "key")

    def test_encrypted_names_and_bytes_say_nothing_and_need_the_key(self) -> None:
        self.write("home/worlds/a", b"fifty people and a harbour")
        seal, key = self.sealed(1)
        assert seal is not None
        self.assertTrue(seal.fresh)
        self.assertFalse(self.sealed(1)[0].fresh)  # type: ignore[union-attr]
        self.repository = Repository(self.folder / "backups", seal)
        saved, fresh, _ = self.save()
        (chunk,) = fresh
        backup = decode_json(Backup, encode_json(EXAMPLES["backup"]), "x", "backup")
        backup = msgspec.structs.replace(backup, world=dict(saved), settings={}, automatic=True)
        self.repository.write(backup)
        for path in (self.folder / "backups").rglob("*"):
            if path.is_file() and path.name != "busy":
                self.assertEqual(path.stat().st_mode & 0o077, 0)
                self.assertNotIn(chunk, str(path))
                for clear in (b"harbour", b"fifty", b"worlds/", chunk.encode()):
                    self.assertNotIn(clear, path.read_bytes(), path.name)
        reader = Repository(self.folder / "backups")
        head = reader.head(backup.id, backup.when)
        assert head is not None
        self.assertEqual((head.automatic, len(head.pieces)), (True, 1))
        with self.assertRaises(InputError) as caught:
            reader.read(backup.id, backup.when)
        self.assertEqual(caught.exception.code, "backup-encrypted")
        self.write("other", f"{x25519.Identity.generate()}\n")
        for wrong in (Key.from_file(self.folder / "other"), Key(passphrase=Secret("x"))):
            with self.assertRaises(InputError) as caught:
                Repository(self.folder / "backups", key=wrong).read(backup.id, backup.when)
            self.assertEqual(caught.exception.code, "wrong-key")
        reader.key = key
        self.assertEqual(reader.read(backup.id, backup.when), backup)
        self.assertEqual(reader.bytes_of(saved[RelPath("worlds/a")]), b"fifty people and a harbour")
        self.assertEqual(reader.sweep(), 0)  # its piece is needed, as its head says
        (piece,) = (self.folder / "backups").glob("sealed/*/*/*.age")
        piece.write_bytes(piece.read_bytes()[:-1] + b"x")
        self.assertEqual((reader.verify([chunk], quiet), self.repository.read_back([chunk])), ([chunk], [chunk]))
        self.repository.forget(backup.id, [backup.when])
        self.assertGreater(reader.sweep(), 0)

    @not_fast
    def test_a_passphrase(self) -> None:
        root, state = self.folder / "backups", self.folder / "state"
        seal = passphrase_seal(state, root, Secret("sturgeon"))
        self.repository = Repository(root, seal, Key(passphrase=Secret("sturgeon")))
        self.write("home/worlds/a", b"ground")
        saved, _, _ = self.save()
        self.assertEqual(self.repository.bytes_of(saved[RelPath("worlds/a")]), b"ground")
        self.assertEqual(passphrase_seal(state, root, Secret("sturgeon")).lane, seal.lane)
        self.assertRaises(InputError, passphrase_seal, state, root, Secret("herring"))
        self.assertRaises(InputError, read_recipients, "age1nonsense")
        self.assertRaises(InputError, Key.from_file, self.write("empty", "nothing"))

    def test_a_file_that_did_not_change_is_not_read_again(self) -> None:
        path = self.write("home/worlds/fen/old", b"old")
        os.utime(path, ns=(10**18, 10**18))
        with mock.patch.object(backups, "SETTLED_NS", -1):
            first, _, _ = self.save()
        with mock.patch.object(Repository, "_cut", side_effect=AssertionError("it was read")):
            self.assertEqual(self.save(first)[0], first)
        young, _, _ = self.save()
        self.assertEqual(young[RelPath("worlds/fen/old")].ctime_ns, 0)  # it may change once more at the same time

    def test_links_and_bad_names(self) -> None:
        self.write("elsewhere/fen/deep/ground", b"fifty people")
        self.write("home/worlds/own/a", b"a")
        (self.folder / "home/worlds/own/empty/er").mkdir(parents=True)
        (self.folder / "home/worlds/linked").symlink_to(self.folder / "elsewhere/fen")
        (self.folder / "home/worlds/own/inner").symlink_to("/etc")
        self.write("home/worlds/own/con", b"a device name elsewhere")
        self.assertRaises(StateError, self.seen)  # a whole world is not left out
        (self.folder / "home/worlds/linked").rename(self.folder / "linked")
        seen = self.seen()
        self.assertEqual(seen.files, ("worlds/own/a",))
        self.assertEqual(seen.empty, ("worlds/own/empty/er",))
        self.assertEqual(seen.left_out, ("worlds/own/con", "worlds/own/inner"))
        (self.folder / "linked").rename(self.folder / "home/worlds/linked")
        self.linked = (self.folder / "elsewhere",)  # a person named it in host.toml
        seen = self.seen()
        self.assertEqual(seen.files, ("worlds/linked/deep/ground", "worlds/own/a"))
        self.assertEqual(seen.left_out, ("worlds/own/con", "worlds/own/inner"))
        self.assertEqual(
            self.repository.bytes_of(self.save()[0][RelPath("worlds/linked/deep/ground")]), b"fifty people"
        )

    def test_damage_and_what_nobody_needs(self) -> None:
        self.write("home/worlds/a", b"one")
        saved, fresh, _ = self.save()
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
        self.save()
        self.assertGreater(self.repository.sweep(), 0)
        self.assertEqual(self.repository.bytes_on_disk(), 0)

    def test_a_clock_that_jumps_back(self) -> None:
        (self.folder / "backups/marsh-1").mkdir(parents=True)
        (self.folder / "backups/marsh-1/2031-01-01T00-00-00Z.json").write_text("{}")
        self.assertEqual(self.repository.new_time("marsh-1"), "2031-01-01T00-00-01Z")
