"""Names of servers: how they are found, changed, kept unique."""

import os
from pathlib import Path

from rhizon.adapters.ledger import Entry
from rhizon.app.instance.reservations import server_name
from rhizon.app.keep.undo import UndoWishes, list_kept_states, undo
from rhizon.app.machine.find_server import find_server
from rhizon.app.machine.forget import forget
from rhizon.app.machine.list_instances import list_instances
from rhizon.app.machine.rename import rename
from rhizon.core.errors import InputError
from tests.app.fakes import AppCase


class Names(AppCase):
    def setUp(self) -> None:
        super().setUp()
        self.addCleanup(os.chdir, Path.cwd())
        os.chdir(self.folder)

    def test_what_a_word_means(self) -> None:
        self.server("here", "marsh")
        self.server("moor", "fen")
        (self.folder / "plain").mkdir()
        rows = (
            ("marsh", False, self.folder / "here"),  # a name
            ("here", False, Path("here")),  # a folder
            ("plain", False, Path("plain")),
            ("new", True, Path("new")),
        )
        for word, new, folder in rows:
            with self.subTest(word):
                self.assertEqual(find_server(self.host, word, new=new), folder)
        with self.assertRaises(InputError) as unknown:
            find_server(self.host, "mars")
        self.assertEqual(unknown.exception.code, "no-such-server")
        self.assertIn("Did you mean marsh?", unknown.exception.hint)

    def test_a_name_and_another_server_in_a_folder_of_that_name(self) -> None:
        self.server("one", "two")
        self.server("two", "three")
        with self.assertRaises(InputError) as both:
            find_server(self.host, "two", as_folder="rhizon check ./two")
        self.assertEqual((both.exception.code, both.exception.hint[-18:]), ("which-server", "rhizon check ./two"))
        rename(self.host, Path("one"), self.reporter, name="first")
        self.assertEqual(find_server(self.new_host(), "two"), Path("two"))

    def test_two_servers_of_one_name(self) -> None:
        self.server("one", "marsh")
        self.server("two", "marsh")  # from an earlier version, or copied
        with self.assertRaises(InputError) as several:
            find_server(self.host, "marsh")
        self.assertEqual(several.exception.code, "which-server")
        self.assertIn("rhizon rename", several.exception.hint)
        self.assertTrue(several.exception.hint.endswith("two marsh-2"), several.exception.hint)

    def test_renaming_is_a_change_that_can_be_undone(self) -> None:
        self.server("here", "marsh", note="")
        self.server("there", "fen")
        planned = rename(self.host, Path("here"), self.reporter, name="reeds", dry_run=True)
        self.assertEqual((planned.before, planned.name, planned.kept), ("marsh", "reeds", None))
        self.assertEqual(self.host.home(Path("here")).instance().name, "marsh")
        for name, code in (("fen", "name-taken"), ("No Name", "bad-name"), ("", "bad-name"), (None, "usage")):
            with self.subTest(name), self.assertRaises(InputError) as refused:
                rename(self.host, Path("here"), self.reporter, name=name)
            self.assertEqual(refused.exception.code, code)
        done = rename(self.host, Path("here"), self.reporter, name="reeds", note="Thursdays")
        self.assertEqual((done.name, done.note, done.kept), ("reeds", "Thursdays", 1))
        listed = {one.name: one.note for one in list_instances(self.new_host()).instances}
        self.assertEqual(listed, {"reeds": "Thursdays", "fen": ""})
        self.assertEqual(list_kept_states(self.new_host(), Path("here")).states[0].before, "rename to reeds")
        undo(self.new_host(), Path("here"), self.reporter, UndoWishes())
        self.assertEqual(find_server(self.new_host(), "marsh"), self.folder / "here")

    def test_the_name_of_a_new_server(self) -> None:
        others = [
            Entry(folder=f"/srv/{name}", name=name, game="tarnholt", memory_mib=1, ports={})
            for name in ("marsh", "marsh-2", "x" * 64)
        ]
        rows = (
            ((None, None, "fen"), "fen"),
            ((None, None, "marsh"), "marsh-3"),
            ((None, None, "x" * 64), "x" * 62 + "-2"),
            ((None, "marsh", "fen"), "marsh"),  # it keeps its name, even one that another has
            (("reeds", "marsh", "fen"), "reeds"),
            (("marsh", "marsh", "fen"), "marsh"),
        )
        for (wanted, before, usual), name in rows:
            with self.subTest(name=name, wanted=wanted):
                self.assertEqual(server_name(wanted, before, usual, others), name)

    def test_a_forgotten_server_has_no_name(self) -> None:
        self.server("here", "marsh")
        done = forget(self.host, Path("here"), self.reporter)
        self.assertEqual((done.name, done.source), ("marsh", str(self.folder / "marsh.list.toml")))
        with self.assertRaises(InputError):
            find_server(self.new_host(), "marsh")
        self.assertTrue((self.folder / "here/mods/reedlight.jar").is_file())
