"""A folder is copied whole or not at all."""

import os
import tempfile
import unittest
from pathlib import Path

from rhizon.adapters.copy_folder import copy_folder, size_of
from rhizon.adapters.inside import Inside
from rhizon.core.errors import InputError, RhizonError


class Copying(unittest.TestCase):
    def setUp(self) -> None:
        scratch = tempfile.TemporaryDirectory()
        self.addCleanup(scratch.cleanup)
        self.folder = Path(scratch.name)
        self.inside = Inside(self.folder)
        self.addCleanup(self.inside.close)
        self.world = self.folder / "world"
        (self.world / "deep/empty").mkdir(parents=True)
        (self.world / "deep/ground.dat").write_bytes(b"g" * 3_000_000)
        (self.world / "deed.txt").write_text("moor 1.4\n")
        (self.world / "run").write_text("#!/bin/sh\n")
        (self.world / "run").chmod(0o700)

    def test_all_of_it(self) -> None:
        told: list[float] = []
        self.assertEqual(size_of(self.world), (3, 3_000_019))
        stale = self.folder / "coming/left/behind"
        stale.mkdir(parents=True)
        copy_folder(self.world, self.inside, "a/b", "coming", told.append)
        here = self.folder / "a/b"
        self.assertEqual(sorted(p.relative_to(here).as_posix() for p in here.rglob("*")), sorted(
            p.relative_to(self.world).as_posix() for p in self.world.rglob("*")
        ))  # fmt: skip
        self.assertEqual((here / "deep/ground.dat").read_bytes(), (self.world / "deep/ground.dat").read_bytes())
        self.assertEqual([os.access(here / name, os.X_OK) for name in ("run", "deed.txt")], [True, False])
        self.assertEqual(told[-1], 1)
        self.assertTrue(self.world.exists() and not (self.folder / "coming").exists())

    def test_what_is_no_file_is_refused_before_anything_is_made(self) -> None:
        rows = (
            ("link", lambda path: path.symlink_to("/etc/hostname")),
            ("folder link", lambda path: path.symlink_to("/etc")),
            ("pipe", os.mkfifo),
        )
        for name, make in rows:
            with self.subTest(name):
                odd = self.world / "deep/odd"
                make(odd)
                with self.assertRaises(InputError):
                    copy_folder(self.world, self.inside, "new", "coming")
                odd.unlink()
                self.assertFalse((self.folder / "new").exists() or (self.folder / "coming").exists())

    def test_a_place_that_is_taken_keeps_what_it_has(self) -> None:
        taken = self.folder / "taken"
        taken.mkdir()
        (taken / "mine").write_text("1")
        with self.assertRaises(RhizonError):
            copy_folder(self.world, self.inside, "taken", "coming")
        self.assertEqual([one.name for one in taken.iterdir()], ["mine"])
