"""The whole job with the real program, a real JVM and the real stand-in server."""

import json
import shutil
import signal
import socket
import subprocess
import time
import unittest
import zipfile
from typing import Any

from rhizon.adapters.world import player_joins
from tests.support import CATALOG, LIST, NO_JAVA, PACK, PROGRAM, Case, java17


@unittest.skipUnless(java17(), NO_JAVA)
class WholeRun(Case):
    def provision(self, source: object, folder: str, *more: object) -> Any:
        done = self.rhizon(
            "provision", source, folder, "--catalog", CATALOG, "--accept-licence", "--set", "address=127.0.0.1",
            *more, "--json",
        )  # fmt: skip
        self.assertEqual(done.code, 0, done.out + done.err)
        return done.result

    def start(self, folder: str) -> "subprocess.Popen[str]":
        """``rhizon run`` in the background, ready; ended by the test's end at the latest."""
        server = subprocess.Popen(
            [*PROGRAM, "run", folder],
            cwd=self.folder,
            env=self.environment(),
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            text=True,
        )

        def end() -> None:
            if server.poll() is None:
                server.terminate()
            server.communicate(timeout=60)

        self.addCleanup(end)
        assert server.stdout is not None
        said = next((line for line in server.stdout if "gates open" in line), None)
        self.assertIsNotNone(said, "the server ended before it was ready")
        return server

    def test_demo_twice_and_then_the_server_by_hand(self) -> None:
        first = self.rhizon("demo", "d", "--json")
        self.assertEqual(first.code, 0, first.out + first.err)
        result = first.result
        self.assertTrue(result["seen"]["joined"] and result["seen"]["udp"])
        self.assertEqual(len(result["seen"]["content"]), 11)
        self.assertNotIn("fogbank-shaders", json.dumps(result["seen"]["content"]))
        self.assertEqual([one["id"] for one in result["provisioned"]["left_out"]], ["fogbank-shaders"])
        second = self.rhizon("demo", "d")
        self.assertEqual(second.code, 0, second.err)
        self.assertRegex(second.out, r"files +\d+ kept")
        self.assertIn("marshes/lightfen unchanged", second.out)
        text = (self.folder / "d/marsh.properties").read_text()
        self.assertRegex(text, r"harbour\.sign = Harbour Lights\n")
        self.assertRegex(text, r"# how far players see, 2 to 24\nmarsh\.sight = 8|marsh\.sight = 10")
        self.assertEqual((self.folder / "d/crew/wardens.txt").read_text(), "# one warden a line\nMarit\nOddvar\n")
        self.assertEqual(self.rhizon("check", "d").code, 0)
        self.by_script()
        self.by_console(result["provisioned"]["ports"]["game"])

    def by_script(self) -> None:
        """start.sh needs no Rhizon."""
        done = subprocess.run(
            ["sh", str(self.folder / "d/start.sh")], input="stop\n", capture_output=True, text=True, timeout=60
        )
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
        self.assertIn("gates closed", done.stdout)

    def by_console(self, port: int) -> None:
        server = self.start("d")
        assert server.stdin is not None
        self.assertEqual(self.rhizon("run", "d", "--json").error["code"], "server-running")
        self.assertEqual(
            self.rhizon("provision", LIST, "d", "--memory", "300", "--catalog", CATALOG, "--json").error["code"],
            "server-running",
        )
        self.assertEqual(self.rhizon("list", "--json").result["instances"][0]["state"], "ready")
        with self.assertRaisesRegex(Exception, "reedlight 2.1.0 is wanted, none is there"):
            player_joins("tarnholt", port, "Late", ["marshlib=2.4.1"])
        server.stdin.write("say good evening\noperator add Torunn\nstop\n")
        server.stdin.flush()
        said, _ = server.communicate(timeout=60)
        self.assertEqual(server.returncode, 0, said)
        self.assertIn("console | said: good evening", said)
        self.assertIn("Torunn", (self.folder / "d/crew/wardens.txt").read_text())

    def test_a_signal_stops_it_cleanly(self) -> None:
        self.provision(PACK, "d")
        for number in (signal.SIGINT, signal.SIGTERM):
            server = self.start("d")
            server.send_signal(number)
            said, _ = server.communicate(timeout=60)
            self.assertEqual(server.returncode, 0, said)
            self.assertIn("gates closed", said)
            self.assertFalse((self.folder / "d/.rhizon/running.json").exists())

    def test_bad_starts_are_told_with_the_content_at_fault(self) -> None:
        made = self.provision(PACK, "d", "--memory", "128")
        rows = (
            ("mistpanel-0.2.0.jar", "client-only", "mistpanel"),
            ("otterden-3.0.0.jar", "class-too-new", "otterden"),
        )
        for name, code, words in rows:
            with self.subTest(name):
                shutil.copy(CATALOG / "archives" / name, self.folder / "d/mods")
                done = self.rhizon("run", "d", "--trial", "--anyway", "--json")
                self.assertEqual((done.code, done.error["code"]), (6, code), done.out)
                self.assertIn(words, done.error["message"])
                checked = self.rhizon("check", "d", "--json").json["findings"]
                told = {one["code"] for one in checked if one["subject"] == f"mods/{name}"}
                self.assertTrue(told & {"unknown-content", code}, checked)
                (self.folder / "d/mods" / name).unlink()
        settings = self.folder / "d/marsh.properties"
        small = settings.read_text()
        settings.write_text(small.replace("marsh.span = 4", "marsh.span = 40"))
        done = self.rhizon("run", "d", "--trial", "--json")
        self.assertEqual((done.code, done.error["code"]), (6, "out-of-memory"), done.out)
        settings.write_text(small.replace("marsh.span = 4", "marsh.span = 400"))
        refused = self.rhizon("run", "d", "--trial", "--json")
        self.assertEqual((refused.code, refused.error["code"]), (1, "start-refused"), refused.out)
        settings.write_text(small)
        with socket.socket() as held:
            held.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            held.bind(("127.0.0.1", made["ports"]["game"]))
            held.listen()
            done = self.rhizon("run", "d", "--trial", "--json")
            self.assertEqual((done.code, done.error["code"]), (1, "port-taken"))
            self.assertEqual(self.rhizon("check", "d", "--json").json["findings"][0]["code"], "port-taken")
            moved = self.provision(PACK, "d")
            self.assertNotEqual(moved["ports"]["game"], made["ports"]["game"])

    def test_edits_secrets_and_a_change_of_loader(self) -> None:
        self.write("secret", "sesame\n")
        lines = 'format = "rhizon-list/1"\nname = "marsh"\ngame = "tarnholt"\n[content]\nferrybell = "*"\n'
        self.write("marsh.list.toml", lines + '[settings]\nmax_players = 9\n[target]\nloader = "keelson"\n')
        self.provision("marsh.list.toml", "d", "--secret", "password=secret")
        settings = self.folder / "d/marsh.properties"
        self.assertEqual(settings.stat().st_mode & 0o777, 0o600)
        self.assertIn("harbour.password = sesame", settings.read_text())
        own = "".join(path.read_text() for path in (self.folder / "d/.rhizon").glob("*.*"))
        self.assertNotIn("sesame", own + "".join(path.name for path in self.folder.rglob("*")))
        settings.write_text("# mine\n" + settings.read_text().replace("berths = 9", "berths = 11"))
        world = {path: path.read_bytes() for path in (self.folder / "d/marshes").rglob("*") if path.is_file()}
        self.write("marsh.list.toml", lines + '[settings]\nmax_players = 9\n[target]\nloader_build = "6.0.0"\n')
        done = self.provision("marsh.list.toml", "d", "--allow-installer")
        actions = {one["path"]: one["action"] for one in done["steps"]}
        self.assertEqual((actions["loader/keelson.jar"], actions["loader/gunwale.jar"]), ("remove", "place"))
        self.assertEqual([one["code"] for one in done["findings"]], ["setting-edited"])
        text = settings.read_text()
        self.assertTrue(text.startswith("# mine\n") and "berths = 11" in text and "password = sesame" in text)
        self.assertEqual({path: path.read_bytes() for path in world}, world)
        trial = self.rhizon("run", "d", "--trial", "--json")
        self.assertEqual((trial.code, trial.result["content"]), (0, ["ferrybell"]))
        self.provision("marsh.list.toml", "d", "--allow-installer", "--set", "max_players=30")
        self.assertIn("berths = 30", settings.read_text())
        good = settings.read_bytes()
        settings.write_bytes(good + b"broken = \\u00zz\n")
        stopped = self.rhizon("provision", "marsh.list.toml", "d", "--allow-installer", "--catalog", CATALOG, "--json",
                              "--set", "view_distance=20")  # fmt: skip
        self.assertEqual((stopped.code, stopped.error["code"]), (1, "native-file-broken"))
        settings.write_bytes(good)
        (self.folder / "d/.rhizon/lock.json").unlink()
        told = self.rhizon("check", "d", "--json")
        self.assertEqual((told.code, told.json["findings"][0]["code"]), (1, "instance-damaged"))
        self.assertEqual(self.rhizon("set", "d", "pvp=yes", "--json").error["code"], "instance-damaged")
        again = self.provision("marsh.list.toml", "d", "--allow-installer", "--set", "view_distance=20")
        self.assertEqual(again["findings"], [])  # what could not be written is no edit of somebody's
        self.assertIn("sight = 20", settings.read_text())
        self.assertEqual(self.rhizon("demo", "d", "--json").error["code"], "not-the-demos")

    def test_packs_and_locks_give_the_same_server(self) -> None:
        packed = self.folder / "evening.rhz"
        with zipfile.ZipFile(packed, "w") as made:
            for path in sorted(PACK.rglob("*")):
                made.write(path, path.relative_to(PACK))
        self.provision(PACK, "a")
        self.provision(packed, "b")
        self.provision(self.folder / "a/.rhizon/lock.json", "c")
        trees = []
        for name in ("a", "b", "c"):
            root = self.folder / name
            trees.append({one.relative_to(root).as_posix(): one.read_bytes() for one in (root / "mods").iterdir()})
            self.assertFalse((root / "fogbank.txt").exists())
        links = {name: (self.folder / "a" / name).stat().st_nlink for name in ("mods/reedlight-2.1.0.jar", "start.cmd")}
        self.assertGreater(links["mods/reedlight-2.1.0.jar"], 1)  # one copy for all instances of the host
        self.assertEqual(links["start.cmd"], 1)  # what a person may edit is never the store's own file
        self.assertEqual(trees[0], trees[1])
        self.assertEqual(trees[0], trees[2])
        self.assertEqual((self.folder / "b/config/heronwatch.properties").read_text().count("watch.minutes = 5"), 1)
        ports = [one["ports"]["game"] for one in self.rhizon("list", "--json").result["instances"]]
        self.assertEqual(len(set(ports)), 3)

    def test_an_interrupted_provision_leaves_nothing(self) -> None:
        server = subprocess.Popen(
            [*PROGRAM, "provision", PACK, "d", "--catalog", CATALOG, "--accept-licence", "--json"],
            cwd=self.folder, env=self.environment(), stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
        )  # fmt: skip
        deadline = time.monotonic() + 30
        while not (self.folder / "state").exists() and time.monotonic() < deadline:
            time.sleep(0.01)
        server.send_signal(signal.SIGINT)
        out, err = server.communicate(timeout=60)
        self.assertNotIn("Traceback", err)
        if server.returncode == 7:  # else it was quicker than the signal
            self.assertEqual(json.loads(out)["error"]["code"], "interrupted")
        self.provision(PACK, "d")
        self.assertEqual(self.rhizon("check", "d").code, 0)
