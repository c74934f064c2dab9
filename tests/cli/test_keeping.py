"""A server that is kept: updated, set, undone, repaired, backed up and restored, by the built program."""

import json
import os
import re
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path
from typing import Any

from cyclonedx.schema import SchemaVersion
from cyclonedx.validation.json import JsonStrictValidator

from rhizon.adapters.backups import Repository
from rhizon.adapters.games import GAMES
from tests.support import CATALOG, NO_JAVA, PACK, PROGRAM, Case, java17

DEFINITION = GAMES / "tarnholt.game.toml"
NEWER = PACK.with_name("marsh-evening-1.3")
PASSING = (
    *("answer.json", "backups.json", "busy", "last-run.log", "last-run.times", "life.json", "good-runs.json"),
    *("keeper-job.json", "keeper.lock", "keeper.log"),
)


def tree(folder: Path, *, world: bool = True) -> dict[str, bytes]:
    """Every file of an instance but those that only tell of runs, and what is kept for going back."""
    return {
        name: path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_file()
        and (name := path.relative_to(folder).as_posix()) not in {f".rhizon/{one}" for one in PASSING}
        and not name.startswith((".rhizon/kept/", ".rhizon/measured/", ".rhizon/runs/"))
        and (world or not name.startswith("marshes/"))
    }


@unittest.skipUnless(java17(), NO_JAVA)
class Keeping(Case):
    shared: Path
    made = False

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory(prefix="rhizon-test-")
        cls.addClassCleanup(folder.cleanup)
        cls.shared = Path(folder.name)

    def setUp(self) -> None:
        """A server that has run once, made once for all tests: each gets it back at the same place."""
        self.folder = self.shared / "work"
        self.home = self.folder / "d"
        shutil.rmtree(self.folder, ignore_errors=True)
        if not Keeping.made:
            self.folder.mkdir()
            self.done("provision", PACK, "d", "--catalog", CATALOG, "--accept-licence", "--set", "address=127.0.0.1")
            self.done("run", "d", "--trial")
            subprocess.run(["cp", "-a", str(self.folder), str(self.shared / "base")], check=True)
            Keeping.made = True
        else:
            subprocess.run(["cp", "-a", str(self.shared / "base"), str(self.folder)], check=True)

    def done(self, *arguments: object, code: int = 0) -> Any:
        done = self.rhizon(*arguments, "--json")
        self.assertEqual(done.code, code, done.out + done.err)
        return done.error if done.result is None else done.result

    def actions(self, result: Any) -> dict[str, str]:
        return {one["path"]: one["action"] for one in result["steps"] if one["action"] != "keep"}

    def test_a_file_that_is_marked_read_only_stays(self) -> None:
        marsh = self.home / "marsh.properties"
        text = marsh.read_bytes()
        marsh.chmod(0o444)
        for words in (("set", "d", "pvp=yes"), ("ports", "d", "--move", "--port", "game=22222")):
            self.assertEqual(self.done(*words, code=1)["code"], "file-read-only")
        self.done("set", "d", "pvp=no")  # is so already
        made = self.done("update", "d", "--source", NEWER)
        self.assertNotIn("marsh.properties", self.actions(made))
        found = [one for one in made["findings"] if one["code"] == "settings-read-only"]
        self.assertEqual([one["subject"] for one in found], ["marsh.properties"])
        self.assertIn("harbour.berths", found[0]["what"])
        self.assertEqual((marsh.read_bytes(), marsh.stat().st_mode & 0o777), (text, 0o444))

    def test_an_update_and_back_to_the_byte(self) -> None:
        (self.home / "config/heronwatch.properties").write_text("# mine\nwatch.minutes = 6\n")
        (self.home / "crew/greeting.txt").write_text("Ahoy!\n" + (self.home / "crew/greeting.txt").read_text())
        (self.home / "crew/greeting.txt").chmod(0o664)
        (self.home / "mine.txt").write_text("not of Rhizon")
        before = tree(self.home)
        planned = self.done("update", "d", "--source", NEWER, "--dry-run")
        self.assertEqual(tree(self.home), before)
        expected = {
            "config/heronwatch.properties.shipped": "place",
            "crew/greeting.txt": "merge",
            "marsh.properties": "merge",
            "marshes": "back up",
            "mods/eelmarket-1.6.0.jar": "place",
            "mods/lanternfish-1.1.0.jar": "remove",
            "mods/tallybook-1.0.0.jar": "place",
            "start.cmd": "replace",
            "start.sh": "replace",
        }
        self.assertEqual(self.actions(planned), expected)
        self.assertIn("+harbour.berths = 20", next(one["lines"] for one in planned["diffs"] if "marsh" in one["path"]))
        made = self.done("update", "d", "--source", NEWER)
        self.assertEqual(self.actions(made), expected)
        self.assertEqual({one["code"] for one in made["findings"]}, {"setting-clash", "world-loses-things"})
        self.assertEqual(
            [(one["id"], one["before"], one["after"]) for one in made["changes"]["releases"]],
            [("eelmarket", None, "1.6.0"), ("lanternfish", "1.1.0", None), ("tallybook", None, "1.0.0")],
        )
        self.assertEqual(made["changes"]["memory"], {"name": "heap", "before": 384, "after": 416})
        self.assertEqual((self.home / "config/heronwatch.properties").read_text(), "# mine\nwatch.minutes = 6\n")
        self.assertEqual(
            (self.home / "crew/greeting.txt").read_text().splitlines(),
            ["Ahoy!", "Welcome to the marsh. Mind the reeds.", "The eel stall is open until nine."],
        )
        self.assertEqual((self.home / "crew/greeting.txt").stat().st_mode & 0o777, 0o664)
        self.assertEqual(tree(self.home / "marshes"), {k[8:]: v for k, v in before.items() if k.startswith("marshes/")})
        again = self.done("update", "d")
        self.assertEqual((self.actions(again), again["kept"], again["changes"]["releases"]), ({}, None, []))
        self.assertIn("up to date", self.rhizon("update", "d").out)
        trial = self.done("run", "d", "--trial")
        self.assertEqual(len(trial["content"]), 5)
        self.assertNotIn("lanternfish", (self.home / "marshes/oldfen/things.txt").read_text())
        self.assertEqual(
            [one["before"] for one in self.done("undo", "d", "--list")["states"]], ["update to marsh-evening-1.3"]
        )
        updated = tree(self.home, world=False)
        back = self.done("undo", "d", "--with-world")
        self.assertEqual(tree(self.home), before)
        self.assertIsNotNone(back["backup"])
        self.done("undo", "d")  # an undo can be undone
        self.assertEqual(tree(self.home, world=False), updated)
        self.assertEqual(tree(self.home / "marshes"), {k[8:]: v for k, v in before.items() if k.startswith("marshes/")})
        self.assertEqual(self.done("undo", "d", "--at", 99, code=2)["code"], "no-such-state")

    def test_settings_outlast_updates(self) -> None:
        secret = self.write("secret", "sesame\n")
        before = tree(self.home)
        wishes = ("set", "d", "max_players=30", "difficulty=hard", "--secret", f"password={secret}")
        shown = self.rhizon(*wishes, "--dry-run")
        self.assertEqual(tree(self.home), before)
        self.assertIn("+marsh.temper = stormy", shown.out)
        self.assertNotIn("sesame", shown.out + shown.err)
        for wrong, code in (("max_playrs=3", "bad-setting"), ("max_players=0", "bad-setting"), ("nonsense", "usage")):
            self.assertEqual(self.done("set", "d", wrong, code=2)["code"], code)
        self.done(*wishes)
        text = (self.home / "marsh.properties").read_text()
        self.assertIn("harbour.berths = 30", text)
        self.assertIn("harbour.password = sesame", text)
        self.assertEqual((self.home / "marsh.properties").stat().st_mode & 0o777, 0o600)
        self.done("update", "d", "--source", NEWER)
        self.assertIn("harbour.berths = 30", (self.home / "marsh.properties").read_text())
        self.done("undo", "d", "--at", 1)
        self.assertEqual(tree(self.home), before)
        for path in self.home.rglob(".rhizon/**/*"):
            if path.is_file() and b"sesame" in path.read_bytes():
                self.assertEqual(path.stat().st_mode & 0o077, 0, path)
        broken = (self.home / "marsh.properties").read_bytes() + b"x = \\u00zz\n"
        (self.home / "marsh.properties").write_bytes(broken)
        self.assertEqual(self.done("set", "d", "pvp=yes", code=1)["code"], "native-file-broken")
        self.assertEqual((self.home / "marsh.properties").read_bytes(), broken)
        back = self.done("undo", "d")  # needs no understanding, and shows nothing that may be a secret
        self.assertIn("sesame", (self.home / "marsh.properties").read_text())
        self.assertNotIn("sesame", json.dumps(back))
        self.assertIn("cannot be parsed", json.dumps(back, ensure_ascii=False))

    def test_settings_ports_and_the_host(self) -> None:
        house = 'format = "rhizon-preset/1"\n[settings]\nmax_players = 18\nanti_cheat = true\n'
        self.write("wrong.preset.toml", house + "[more]\npvp = ['Tove']\n")
        self.assertIn("not a list of names", self.done("set", "d", "--preset", "wrong.preset.toml", code=2)["message"])
        self.write("club.preset.toml", house + "[more]\noperators = ['Tove']\nsaints = ['Olav']\n")
        done = self.done("set", "d", "--preset", "club.preset.toml")
        self.assertEqual((done["unknown"], done["kept"]), (["anti_cheat", "saints"], 1))
        self.write("next.preset.toml", house + "[more]\noperators = ['Liv', 'Tove']\n[fewer]\noperators = ['Marit']\n")
        then = self.done("set", "d", "--preset", "next.preset.toml", "operators+=Aud", "--dry-run")
        self.assertEqual([done["settings"][1]["after"], then["settings"][1]["after"]], ["Tove", "Tove, Liv, Aud"])
        text = (self.home / "marsh.properties").read_text()
        (self.home / "marsh.properties").write_text(text.replace("temper = brisk", "temper = stormy"))
        lines = {one["name"]: one for one in self.done("settings", "d")["settings"]}
        names = ("name", "max_players", "difficulty", "pvp")
        self.assertEqual([lines[name]["set_by"] for name in names], ["pack", "you", "you", "game"])
        self.assertEqual((lines["difficulty"]["value"], lines["pvp"]["value"]), ("hard", False))
        self.assertIn("(none)", self.rhizon("settings", "d", "--verbose").out)
        ports = self.done("ports", "d")["ports"]
        shown = [(one["role"], one["protocol"], one["listening"]) for one in ports]
        self.assertEqual(shown, [("game", "tcp", False), ("game", "udp", False), ("query", "udp", False)])
        self.assertIn("# marsh-evening listens on this machine only", self.rhizon("ports", "--rules", "nftables").out)
        own = self.home / ".rhizon/instance.toml"
        whole = own.read_text()
        own.write_text("name = \n")
        unread = self.rhizon("ports", "--json").json
        self.assertEqual([one["code"] for one in unread["findings"]], ["ports-unread"])
        self.assertIn(f"game {ports[0]['first']}", unread["findings"][0]["what"])
        rules = self.rhizon("ports", "--rules", "table")
        self.assertIn("not listed", rules.err)
        self.assertNotIn(str(ports[0]["first"]), rules.out)
        own.write_text(whole)
        limits = 'format = "rhizon-host/1"\nmemory_mib = 700\nreserve_mib = 1\nports = ["24000"]\n'
        self.write("config/host.toml", limits.replace("24000", "x"))
        self.assertEqual(self.done("host", code=2)["code"], "bad-document")
        self.write("config/host.toml", limits)
        self.assertEqual(self.done("host")["free_mib"], 700 - 544)
        for more, code in (((), "ports-exhausted"), (("--memory", 4000), "ports-exhausted")):
            refused = self.done("provision", PACK, "e", "--catalog", CATALOG, *more, code=1)
            self.assertEqual(refused["code"], code)
            self.assertFalse((self.folder / "e").exists())
        self.memory()
        shutil.move(self.home, self.folder / "moved")
        told = self.rhizon("host", "--json").json
        self.assertEqual([one["code"] for one in told["findings"]], ["instance-absent"])
        self.assertEqual(told["result"]["free_mib"], 700 - 544)  # it keeps what it holds
        self.assertEqual([one["state"] for one in self.done("list")["instances"]], ["absent"])
        self.assertEqual([one["code"] for one in self.rhizon("ports", "--json").json["findings"]], ["instance-absent"])
        self.assertEqual(self.done("forget", "marsh", "--dry-run", code=2)["code"], "no-such-server")
        freed = self.done("forget", "marsh-evening")
        self.assertEqual((freed["memory_mib"], freed["absent"]), (544, True))
        self.assertEqual(self.done("host")["instances"], [])
        self.write("config/host.toml", limits.replace('"24000"', ""))
        self.done("ports", "moved", "--move")  # it comes back, and is known again
        self.assertEqual([one["folder"] for one in self.done("list")["instances"]], [str(self.folder / "moved")])
        self.done("forget", "moved")
        for words in (("check", "moved"), ("set", "moved", "pvp=no"), ("run", "moved")):
            self.assertEqual(self.done(*words, code=1)["code"], "forgotten")

    def test_a_definition_is_begun_and_tried_on_a_real_server(self) -> None:
        self.done("game", "new", "drift-mill")
        self.assertEqual(self.done("game", "new", "drift-mill", code=1)["code"], "file-in-the-way")
        self.assertEqual(self.done("game", "new", "No Id", code=2)["code"], "usage")
        checked = self.rhizon("game", "check", "drift-mill.game.toml", "--json").json["findings"]
        self.assertEqual({one["severity"] for one in checked}, {"warning"})
        self.assertEqual(len(self.done("game", "try", "drift-mill.game.toml", "--server", "d", code=1)["settings"]), 2)
        log = self.home / ".rhizon/last-run.log"
        archive = CATALOG / "archives/reedlight-2.1.0.jar"
        tried = self.done("game", "try", DEFINITION, "--server", "d", "--log", log, "--archive", archive)
        values = {one["name"]: (one["value"], one["trouble"]) for one in tried["settings"]}
        self.assertEqual((values["difficulty"], values["max_players"]), (("normal (brisk there)", ""), ("16", "")))
        matches = {one["name"]: one["matches"] for one in tried["patterns"]}
        self.assertEqual((matches["ready"], matches["content_done"], matches["failure: bad-setting"]), (1, 4, 0))
        self.assertIn(("reedlight", "keelson"), [(one["values"].get("id"), one["loader"]) for one in tried["taken"]])
        self.assertIn("keelson.Boot", tried["launch"]["keelson"])
        settings = self.home / "marsh.properties"
        settings.write_text(
            settings.read_text().replace("berths = 16", "berths = many").replace("net.query", "net.ask")
        )
        odd = self.done("game", "try", DEFINITION, "--server", "d", code=1)
        troubles = {one["name"] for one in (*odd["settings"], *odd["ports"]) if one["trouble"]}
        self.assertEqual(troubles, {"max_players", "query"})

    def memory(self) -> None:
        """The runs of this instance were measured by the runtime's own log."""
        shown = self.done("memory", "d", "--measured", "--output", "heap.png", "--players", 20)
        self.assertGreater(shown["measured"]["events"], 1)
        self.assertFalse(shown["enough"])
        self.assertEqual((shown["fit"], shown["recommended_mib"], shown["players"]), ("fits", 384, 20))
        self.assertTrue((self.folder / "heap.png").read_bytes().startswith(b"\x89PNG"))
        self.assertIn(["-Xmx384m", "largest heap"], shown["flags"])
        guessed = self.rhizon("memory", PACK, "--catalog", CATALOG, "--players", 4000)
        self.assertEqual(guessed.code, 1)
        self.assertIn("does not fit this machine", guessed.out)
        self.assertEqual(
            self.done("memory", PACK, "--catalog", CATALOG, "--measured", code=1)["code"], "nothing-measured"
        )

    def test_repair(self) -> None:
        before = tree(self.home)
        victims = ("mods/reedlight-2.1.0.jar", "loader/keelson.jar", "start.sh")
        (self.home / victims[0]).unlink()
        for name in victims[1:]:
            (self.home / name).chmod(0o644)
            (self.home / name).write_bytes(b"x" * (self.home / name).stat().st_size)
        (self.home / "config/heronwatch.properties").write_text("watch.minutes = 1\n")
        told = self.done("repair", "d", "--dry-run", code=1)
        self.assertEqual(sorted(one["path"] for one in told["steps"]), sorted(victims))
        shutil.rmtree(self.folder / "state/store")  # what the store has lost is fetched again
        repaired = self.done("repair", "d")
        self.assertGreater(repaired["fetched"], 0)
        after = tree(self.home)
        self.assertEqual(after.pop("config/heronwatch.properties"), b"watch.minutes = 1\n")
        before.pop("config/heronwatch.properties")
        self.assertEqual(after, before)
        self.assertTrue(os.access(self.home / "start.sh", os.X_OK))
        jar = self.home / "mods/reedlight-2.1.0.jar"
        facts = jar.stat()
        jar.chmod(0o644)
        with jar.open("r+b") as file:  # a byte that changes under the same time, in the store too: it is a link
            file.write(b"\0")
        os.utime(jar, ns=(facts.st_atime_ns, facts.st_mtime_ns))
        codes = [one["code"] for one in self.rhizon("check", "d", "--json").json["findings"]]
        self.assertIn("file-changed", codes)
        second = self.done(
            "provision", PACK, "e", "--catalog", CATALOG, "--accept-licence"
        )  # what the store lacks comes again
        self.assertEqual((second["fetched"], (self.folder / "e/mods/reedlight-2.1.0.jar").read_bytes()),
                         (1, before["mods/reedlight-2.1.0.jar"]))  # fmt: skip
        self.assertEqual(len(self.done("repair", "d")["steps"]), 1)
        self.assertEqual(self.done("repair", "d", "--full")["steps"], [])
        self.assertEqual(jar.read_bytes(), before["mods/reedlight-2.1.0.jar"])
        self.documents(before)

    def documents(self, before: dict[str, bytes]) -> None:
        """Records that were damaged come back from their copies."""
        own = self.home / ".rhizon"
        for name in ("instance.toml", "lock.json", "inventory.json"):
            whole = (own / name).read_bytes()
            for bad in (b"", whole[:100], b"\xff" * 40, b'{"format": "rhizon-lock/1"}'):
                with self.subTest(name, bad=bad[:9]):
                    (own / name).write_bytes(bad)
                    told = self.rhizon("check", "d", "--json")
                    self.assertEqual((told.code, told.json["findings"][0]["code"]), (1, "instance-damaged"))
                    self.assertEqual([one[0] for one in self.done("repair", "d")["documents"]], [name])
                    self.assertEqual((own / name).read_bytes(), whole)
        for name in ("instance.toml", "lock.json", "inventory.json"):
            (own / name).unlink()
        self.done("provision", PACK, "d", "--catalog", CATALOG)
        checked = self.rhizon("check", "d")
        self.assertEqual(checked.code, 0, checked.out)

    def test_backups_of_a_running_server_and_stopping_it_first(self) -> None:
        server = subprocess.Popen(
            [*PROGRAM, "run", "d"], cwd=self.folder, env=self.environment(), stdin=subprocess.PIPE,
            stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
        )  # fmt: skip
        self.addCleanup(server.communicate, timeout=60)
        self.addCleanup(server.terminate)
        assert server.stdout is not None
        self.assertTrue(any("gates open" in line for line in server.stdout))
        self.assertEqual((self.home / ".rhizon/running.json").stat().st_mode & 0o777, 0o600)
        self.assertEqual(self.done("update", "d", "--source", NEWER, code=1)["code"], "server-running")
        for _ in range(3):
            made = self.done("backup", "d")
            self.assertEqual((made["consistency"], made["findings"]), ("held", []))
        repository = Repository(self.folder / "state/backups")
        for when in repository.times(made["id"]):
            backup = repository.read(made["id"], when)
            tides = {repository.bytes_of(one)[56:60] for name, one in backup.world.items() if "league" in name}
            self.assertEqual(len(tides), 1, "leagues of two tides: the server did not hold still")
        self.done("set", "d", "pvp=yes", "--stop-first")
        said, _ = server.communicate(timeout=60)
        self.assertIn("gates closed", said)
        self.assertGreaterEqual(said.count("flowing again"), 3)

    def test_backup_restore_and_a_second_server_from_it(self) -> None:
        before = tree(self.home)
        first = self.done("backup", "d", "--backups", "attic")
        self.assertEqual(self.done("backup", "d", "--verify", "--backups", "attic")["damaged"], [])
        again = self.done("backup", "d", "--backups", "attic")
        self.assertEqual(again["added"], 0)
        self.assertGreater(again["when"], first["when"])
        (self.home / "marshes/oldfen/marsh.facts").write_text("ruined")
        (self.home / "marshes/other").mkdir()
        (self.home / "marshes/other/keep").write_text("another world stays")
        self.done("set", "d", "max_players=3")
        self.done("restore", "d", "--at", first["when"], "--only", "settings")
        self.assertIn("berths = 16", (self.home / "marsh.properties").read_text())
        self.assertEqual((self.home / "marshes/oldfen/marsh.facts").read_text(), "ruined")
        self.done("restore", "d", "--at", first["when"], "--only", "world")
        after = tree(self.home)
        self.assertEqual(after.pop("marshes/other/keep"), b"another world stays")
        self.assertEqual(after, before)
        self.assertEqual(len(self.done("backup", "d", "--list")["backups"]), 3)  # and the ruined world's own
        last = self.done("backup", "d", "--keep", "1d", "--backups", "attic")
        self.assertEqual(last["removed"], [first["when"], again["when"]])
        shutil.rmtree(self.home)
        self.done("forget", "d")
        made = self.done("restore", "d2", "--of", "marsh-evening", "--backups", "attic")
        self.assertEqual(made["to"], last["when"])
        ours = tree(self.folder / "d2")
        self.assertEqual(ours.pop("marshes/other/keep"), b"another world stays")
        self.assertEqual(ours, after)
        self.done("run", "d2", "--trial")
        chunk = next((self.folder / "attic/chunks").rglob("*.zst"))
        chunk.write_bytes(b"damaged")
        spoilt = self.done("restore", "d3", "--of", "marsh-evening", "--backups", "attic", code=4)
        self.assertEqual(spoilt["code"], "backup-damaged")
        self.assertFalse((self.folder / "d3").exists())
        self.assertEqual(self.rhizon("backup", "d2", "--verify", "--backups", "attic", "--json").code, 2)

    def test_what_is_damaged_by_hand_and_what_was_started_by_hand(self) -> None:
        self.done("set", "d", "pvp=yes")
        self.done("backup", "d")
        own = self.home / ".rhizon"
        lock = own / "lock.json"
        lock.write_text(lock.read_text().replace("0936d545fa7a480d", "0" * 16))
        self.assertEqual(self.actions(self.done("update", "d")), {"marshes": "back up"})
        (own / "kept/0001.json").write_text('{"format": "rh')
        states = self.rhizon("undo", "d", "--list", "--json")
        self.assertEqual((states.code, states.json["findings"][0]["code"]), (1, "kept-state-broken"))
        self.assertEqual([one["number"] for one in states.result["states"]], [2])
        when = next((self.folder / "state/backups").glob("marsh*/*.json"))
        when.write_text("{}")
        self.assertEqual(self.rhizon("backup", "--list", "--json").code, 1)
        (own / "journal.json").write_text("[{")
        told = self.done("repair", "d", code=1)
        self.assertEqual(told["code"], "journal-damaged")
        (own / "journal.json").unlink()
        world = self.home / "marshes/oldfen"
        world.rename(self.folder / "elsewhere")
        world.symlink_to(self.folder / "elsewhere")
        self.assertEqual(self.done("backup", "d", code=1)["code"], "linked-folder")  # a world is not left out
        self.write("config/host.toml", f'format = "rhizon-host/1"\nlinked = ["{self.folder / "elsewhere"}"]\n')
        linked = self.done("backup", "d")
        self.assertEqual((linked["findings"], linked["files"]), ([], 11))
        (self.folder / "elsewhere/mine.txt").symlink_to("/etc/hostname")
        left = self.done("backup", "d")
        self.assertEqual([one["code"] for one in left["findings"]], ["left-out-of-backup"])
        self.assertEqual(self.done("restore", "d", "--only", "world", code=1)["code"], "world-is-a-link")
        server = subprocess.Popen(
            ["sh", str(self.home / "start.sh")], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )
        assert server.stdout is not None
        self.assertTrue(any("gates open" in line for line in server.stdout))
        self.assertEqual(self.done("set", "d", "pvp=no", code=1)["code"], "server-running")
        (listed,) = self.done("list")["instances"]
        self.assertEqual((listed["state"], listed["process"]), ("unknown-outside", server.pid))
        self.assertFalse(any(one["taken"] for one in self.done("ports", "d")["ports"]))
        self.assertEqual(self.done("backup", "d")["consistency"], "unsure")
        self.done("set", "d", "pvp=no", "--stop-first")
        server.communicate(timeout=60)
        self.assertEqual(self.done("list")["instances"][0]["state"], "stopped")

    def test_the_same_server_again_offline(self) -> None:
        self.done("lock", "d", "--output", "d.lock.json")
        made = self.done("provision", "d.lock.json", "e", "--offline", "--accept-licence")
        self.assertEqual(made["fetched"], 0)
        trees = []
        for name in ("d", "e"):
            files = tree(self.folder / name, world=False)
            files = {path: data for path, data in files.items() if not path.startswith(".rhizon")}
            files["marsh.properties"] = re.sub(rb"net\.(game|query) = \d+", b"", files["marsh.properties"])
            trees.append(files)
        self.assertEqual(trees[0], trees[1])
        self.done("bom", "d", "--output", "d.cdx.json")
        self.done("bom", "e", "--output", "e.cdx.json")
        bills = [(self.folder / f"{name}.cdx.json").read_text() for name in ("d", "e")]
        self.assertEqual(bills[0], bills[1])
        self.assertIsNone(JsonStrictValidator(SchemaVersion.V1_6).validate_str(bills[0]))
        names = {one["name"] for one in json.loads(bills[0])["components"]}
        self.assertLessEqual({"tarnholt", "keelson", "reedlight", "Java"}, names)
