"""Check, repair, settings, ports and going back, on servers that no process ever ran."""

import hashlib
from pathlib import Path

from rhizon.app.keep.backup import BackupWishes, back_up
from rhizon.app.keep.check import check
from rhizon.app.keep.export import instance_lock
from rhizon.app.keep.find_backup import Sought, list_backups, verify_backup
from rhizon.app.keep.repair import repair
from rhizon.app.keep.restore import RestoreWishes, restore
from rhizon.app.keep.undo import UndoWishes, list_kept_states, undo
from rhizon.app.run.noticed import BeforeStart
from rhizon.app.tune.list_settings import list_settings
from rhizon.app.tune.move_ports import move_ports
from rhizon.app.tune.set_settings import SetWishes, set_settings
from rhizon.core.errors import InputError, StateError
from rhizon.core.secret import Secret
from tests.app.fakes import JAR, SETTINGS, AppCase
from tests.support import jar as make_jar


class OneServer(AppCase):
    def setUp(self) -> None:
        super().setUp()
        self.home = self.folder / "marsh"
        self.server("marsh")

    def codes(self) -> set[str]:
        return {one.code for one in check(self.new_host(), self.home).findings}

    def test_each_thing_that_check_finds(self) -> None:
        jar, settings = self.home / "mods/reedlight.jar", self.home / "marsh.properties"
        settings.chmod(0o600)
        self.assertEqual(self.codes(), set())
        rows = (
            (lambda: jar.unlink(), "file-missing"),
            (lambda: self.write("marsh/mods/reedlight.jar", b"another"), "file-changed"),
            (lambda: self.write("marsh/mods/stray.jar", make_jar({"x": "1"})), "unknown-content"),
            (lambda: self.write("marsh/mods/text.jar", b"PK"), "a-text"),
            (lambda: settings.chmod(0o644), "secret-readable"),
            (lambda: self.write("marsh/marsh.properties", SETTINGS.replace(b"21640", b"22222")), "setting-differs"),
            (lambda: settings.unlink(), "settings-file-missing"),
            (lambda: self.write("marsh/.rhizon/lock.json", b"{"), "instance-damaged"),
        )
        for spoil, code in rows:
            with self.subTest(code):
                spoil()
                self.assertIn(code, self.codes())
        self.assertFalse(check(self.new_host(), self.home).sound)

    def test_what_a_server_changes_while_it_starts(self) -> None:
        server, settings = self.server("reed", "reed"), self.folder / "reed/marsh.properties"
        empty = SETTINGS + b"marsh.seed =\n"
        for change, told in (
            (lambda text: text, []),
            (lambda text: text.replace(b"= 12", b" =  12"), []),  # the same in other words
            (lambda text: text.replace(b"seed =", b"seed = 77"), []),  # chosen by the server
            (lambda text: text.replace(b"hush", b"other"), []),  # a secret is not shown
            (lambda text: text.replace(b"= 12", b"= 8"), ["max_players was 12, is 8"]),
            (lambda text: b"", ["max_players was 12, is (missing)", "the game port was 21640, is (missing)"]),
        ):
            settings.write_bytes(empty)
            before = BeforeStart(server.home, server.game, server.lock, server.instance)
            settings.write_bytes(change(empty))
            found = before.changed()
            self.assertEqual([one.code for one in found], ["settings-replaced"] * bool(told))
            for words in told:
                self.assertIn(words, found[0].what)

    def test_repair_puts_back_what_is_wrong_and_nothing_else(self) -> None:
        jar = self.home / "mods/reedlight.jar"
        jar.unlink()
        jar.write_bytes(b"another")
        planned = repair(self.host, self.home, self.reporter, dry_run=True)
        self.assertEqual(
            ([str(one.path) for one in planned.steps], jar.read_bytes()), (["mods/reedlight.jar"], b"another")
        )
        done = repair(self.new_host(), self.home, self.reporter)
        self.assertEqual((jar.read_bytes(), done.fetched, done.kept), (JAR, 0, 1))
        self.assertEqual(repair(self.new_host(), self.home, self.reporter, full=True).steps, ())

    def test_settings_are_written_in_place_and_a_secret_file_stays_secret(self) -> None:
        wishes = SetWishes(settings={"max_players": "30", "operators+": "Tove"}, secrets={"password": Secret("reeds")})
        before = (self.home / "marsh.properties").read_bytes()
        planned = set_settings(self.host, self.home, SetWishes(settings=wishes.settings, dry_run=True), self.reporter)
        self.assertEqual(((self.home / "marsh.properties").read_bytes(), planned.kept), (before, None))
        done = set_settings(self.new_host(), self.home, wishes, self.reporter)
        text = (self.home / "marsh.properties").read_text()
        self.assertEqual(text.splitlines()[:3], ["# the marsh", "harbour.berths = 30", "harbour.password = reeds"])
        self.assertEqual((self.home / "crew/wardens.txt").read_text(), "Marit\nTove\n")
        self.assertEqual((self.home / "marsh.properties").stat().st_mode & 0o777, 0o600)
        self.assertNotIn("reeds", str(done))
        shown = {one.name: one for one in list_settings(self.new_host(), self.home).settings}
        self.assertEqual((shown["max_players"].value, shown["max_players"].set_by), (30, "you"))
        self.assertIsNone(shown["password"].value)
        undo(self.new_host(), self.home, self.reporter, UndoWishes())
        self.assertEqual((self.home / "marsh.properties").read_bytes(), before)
        for settings, code in (
            ({"max_playrs": "3"}, "bad-setting"),
            ({"max_players": "0"}, "bad-setting"),
            ({}, "usage"),
        ):
            with self.subTest(settings), self.assertRaises(InputError) as refused:
                set_settings(self.new_host(), self.home, SetWishes(settings=settings), self.reporter)
            self.assertEqual(refused.exception.code, code)

    def test_a_port_that_another_server_has_is_refused(self) -> None:
        self.server("fen", "fen")
        taken = self.new_host().home(self.folder / "fen").instance().ports["game"]
        with self.assertRaises(StateError) as refused:
            move_ports(self.new_host(), self.home, {"game": taken}, self.reporter)
        self.assertEqual(refused.exception.code, "port-taken")
        moved = move_ports(self.new_host(), self.home, {"game": 23000}, self.reporter)
        self.assertEqual([(one.name, one.after) for one in moved.ports], [("game", 23000)])
        self.assertIn("net.game = 23000\n", (self.home / "marsh.properties").read_text())
        self.assertEqual(move_ports(self.new_host(), self.home, {}, self.reporter).ports, ())

    def test_backup_and_restore_of_world_and_settings(self) -> None:
        self.write("marsh/marshes/oldfen/ground", b"peat" * 1000)
        planned = back_up(self.host, self.home, self.reporter, BackupWishes(keep="1d", dry_run=True))
        self.assertEqual((planned.planned, planned.paths[0], planned.removed), (True, "marshes/oldfen", ()))
        self.assertEqual(list_backups(self.new_host(), self.home).backups, ())
        made = back_up(self.new_host(), self.home, self.reporter, BackupWishes())
        self.assertEqual((made.consistency, made.secrets, made.files), ("stopped", ("password",), planned.files))
        self.write("marsh/marshes/oldfen/ground", b"drained")
        self.write("marsh/marsh.properties", b"harbour.berths = 1\n")
        restore(self.new_host(), self.home, self.reporter, RestoreWishes(Sought(), part="world"))
        self.assertEqual((self.home / "marshes/oldfen/ground").read_bytes(), b"peat" * 1000)
        self.assertEqual((self.home / "marsh.properties").read_bytes(), b"harbour.berths = 1\n")
        copy = restore(self.new_host(), self.folder / "copy", self.reporter, RestoreWishes(Sought(of="marsh")))
        self.assertEqual(copy.name, "marsh-2")  # names and ports are its own
        other = self.new_host().home(self.folder / "copy").instance()
        self.assertNotEqual(other.ports["game"], 21640)
        self.assertEqual(verify_backup(self.new_host(), self.home, Sought(), self.reporter).damaged, ())

    def test_a_lock_that_is_written_and_one_that_is_not(self) -> None:
        file = self.folder / "out.lock.json"
        instance_lock(self.host, self.home, file, write=False)
        self.assertFalse(file.exists())
        self.assertEqual(instance_lock(self.host, self.home, file).file, str(file))
        self.assertTrue(file.is_file())

    def test_kept_states_that_are_broken_are_findings(self) -> None:
        set_settings(self.host, self.home, SetWishes(settings={"pvp": "yes"}), self.reporter)
        self.write("marsh/.rhizon/kept/0001.json", b"{")
        found = list_kept_states(self.new_host(), self.home)
        self.assertEqual((found.states, [one.code for one in found.findings]), ((), ["kept-state-broken"]))


class WhereThingsAre(AppCase):
    def test_what_an_earlier_version_kept_is_moved_once(self) -> None:
        from rhizon.adapters.places import Places, move_to_places

        old, data, cache = (self.folder / name for name in ("old", "data", "cache"))
        digest = hashlib.sha256(JAR).hexdigest()
        self.write(f"old/store/{digest[:2]}/{digest}", JAR)
        self.write("old/runtimes/java-17/bin/java", b"")
        self.write("old/archive-facts.sqlite3", b"")
        self.write("old/ledger.sqlite3", b"")
        places = Places(data, old, cache, self.folder / "config")
        self.assertEqual(places.store, old / "store")  # a command that may write nothing uses it where it is
        move_to_places(places)
        move_to_places(places)
        self.assertTrue((data / f"store/{digest[:2]}/{digest}").is_file())
        self.assertEqual((places.store, places.ledger), (data / "store", old / "ledger.sqlite3"))
        self.assertTrue((cache / "archive-facts.sqlite3").is_file())
        self.assertTrue((old / "runtimes/java-17/bin/java").is_file())  # servers name their program by that path
        self.assertEqual((old / "runtimes").readlink(), data / "runtimes")
        self.assertFalse(Path(old / "store").exists())
