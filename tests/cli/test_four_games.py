"""The other games of the club through the built program: native, .NET, worlds from elsewhere, names, ports."""

import json
import os
import shutil
import signal
import socket
import subprocess
import time
import unittest
from pathlib import Path
from typing import Any

from tests.support import CATALOG, PROGRAM, Case, java17, not_fast

WORLD = CATALOG.parent


@not_fast
class FourGames(Case):
    def provision(self, game: str, folder: str, *more: object, code: int = 0) -> Any:
        done = self.rhizon(
            "provision", WORLD / f"{game}.list.toml", folder, "--catalog", CATALOG, "--set", "address=127.0.0.1",
            *more, "--json",
        )  # fmt: skip
        self.assertEqual(done.code, code, done.out + done.err)
        return done.result if code == 0 else done.error

    @unittest.skipUnless(java17() and shutil.which("mono"), "there is no Java 17 or no Mono on this machine")
    def test_all_are_up_at_once(self) -> None:
        done = self.rhizon("demo", "--all", "--json")
        self.assertEqual(done.code, 0, done.out + done.err)
        servers = done.result["servers"]
        self.assertEqual(len(servers), 4)
        numbers = [number for one in servers for number in one["provisioned"]["ports"].values()]
        self.assertEqual(len(set(numbers)), len(numbers))
        self.assertTrue(all(one["seen"]["joined"] and one["ran"]["exit_code"] == 0 for one in servers))
        self.assertGreaterEqual(done.result["together_seconds"], 1)
        # a lamp of the loader before, enabled by hand, fails alone; what was taken out of the list by hand stays out
        home = self.folder / "harbour-all/gloamwick"
        shutil.copy(CATALOG / "archives/gloamwick/tallow-0.5.0.dll", home / "lamps")
        (home / "lamps/lit.json").write_text('{"lit": ["fireflies", "tallow", "mossmeter"]}')
        ran = self.rhizon("run", "--trial", home, "--json")
        self.assertEqual(ran.code, 0, ran.out + ran.err)
        told = [(one["code"], one["subject"], one["severity"]) for one in ran.json["findings"]]
        self.assertEqual(told[-1], ("content-dark", "tallow", "warning"))
        self.assertIn(("wrong-loader-build", "lamps/tallow-0.5.0.dll", "warning"), told)
        self.assertEqual(ran.result["content"], ["fireflies", "mossmeter"])
        self.assertEqual(self.rhizon("set", home, "max_players=7").code, 0)
        self.assertNotIn("echo-bell", (home / "lamps/lit.json").read_text())

    def test_a_native_server_with_its_files_as_a_tree(self) -> None:
        made = self.provision("emberline", "line", "--secret", "password=generate")
        self.assertEqual(made["port_words"], [f"line {made['ports']['line']}-{made['ports']['line'] + 3}"])
        xml = self.folder / "line/emberline.xml"
        self.assertEqual(xml.stat().st_mode & 0o777, 0o600)
        shown = self.rhizon("settings", "line", "--reveal", "--json").result["settings"]
        values = {one["name"]: one for one in shown}
        self.assertRegex(values["password"]["value"], r"^[A-Za-z2-9]{16}$")
        self.assertNotIn(values["password"]["value"], self.rhizon("settings", "line").out)
        self.assertEqual((values["operators"]["value"], values["seed"]["set_by"]), ("Marit", "rhizon"))
        done = self.rhizon("set", "line", "operators+=Tove", "operators-=Marit", "allowlist=Aud,Liv", "anti_cheat=no")
        self.assertEqual(done.code, 0, done.err)
        text = xml.read_text()
        for word in ('<hand name="Tove" rank="driver"/>', '<rider name="Liv" is="welcome"/>', '<guard watch="no"/>'):
            self.assertIn(word, text)
        self.assertNotIn("Marit", text)
        self.assertEqual(self.rhizon("check", "line").code, 0)  # the shipped file was edited, and that is no damage
        (self.folder / "line/rolling/mine").mkdir()
        found = self.rhizon("check", "line", "--json").result["findings"]
        self.assertEqual([(one["code"], one["subject"]) for one in found], [("unknown-content", "rolling/mine")])
        (self.folder / "line/rolling/mine").rmdir()
        # the trial branch: its files are other ones, what a person set stays, and what is not for it goes
        trial = (WORLD / "emberline.list.toml").read_text()
        trial = trial.replace('game_version = "*"', 'branch = "trial"').replace('snowplough = "*"', "")
        self.write("trial.list.toml", trial)
        done = self.rhizon("update", "line", "--source", "trial.list.toml", "--catalog", CATALOG, "--json")
        self.assertEqual(done.code, 0, done.out + done.err)
        self.assertIn('<hand name="Tove" rank="driver"/>', xml.read_text())
        self.assertEqual((self.folder / "line/line.txt").read_text(), "2.4\n")
        ran = self.rhizon("run", "--trial", "line", "--json").result
        self.assertEqual(ran["content"], ["couplings", "mailsorter", "signalbook", "galley"])
        # a country of 2.4 is not opened by 2.3
        other = self.rhizon("provision", WORLD / "emberline.list.toml", "line", "--catalog", CATALOG, "--json")
        self.assertEqual((other.code, other.json["error"]["code"]), (1, "world-is-newer"))
        survey = self.folder / "line/countries/lighthouse-line/survey.txt"
        survey.write_text(survey.read_text().replace("line 2.4", "line 3.0"))  # of a game that nobody here knows yet
        later = self.rhizon("update", "line", "--json")
        self.assertEqual((later.code, later.json["error"]["code"]), (1, "world-is-newer"))

    def test_a_first_start_that_is_cut_short(self) -> None:
        """The command is killed while the bare server makes the world; the server itself goes on for a while."""
        words = ("provision", WORLD / "emberline.list.toml", "line", "--catalog", CATALOG, "--set", "world_size=12")
        begun = subprocess.Popen(
            [*PROGRAM, *map(str, words)], cwd=self.folder, env=self.environment(), stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        world = self.folder / "line/countries/lighthouse-line"
        until = time.monotonic() + 30
        while not (world / "sheet-1.map").exists() and time.monotonic() < until:
            time.sleep(0.02)
        server = json.loads((self.folder / "line/.rhizon/running.json").read_bytes())["pid"]
        os.kill(server, signal.SIGSTOP)  # one that does not even hear that nobody listens any more
        begun.kill()
        begun.wait()
        again = self.rhizon(*words, "--json")
        self.assertEqual(again.code, 0, again.out + again.err)
        self.assertIn("interrupted first start", again.err)
        self.assertFalse(Path(f"/proc/{server}/cwd").exists())
        self.assertTrue((world / "survey.txt").exists())
        self.assertTrue(world.with_name("lighthouse-line-aside-1").is_dir())
        self.assertEqual(self.rhizon("run", "--trial", "line").code, 0)

    def test_stopping_from_elsewhere_and_a_command_that_was_killed(self) -> None:
        self.provision("drovemoor", "moor")
        for killed in (False, True):
            with self.subTest(killed=killed):
                run = subprocess.Popen(
                    [*PROGRAM, "run", "moor"], cwd=self.folder, env=self.environment(), stdin=subprocess.PIPE,
                    stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True,
                )  # fmt: skip
                assert run.stdout is not None
                self.assertTrue(any("the gate stands open" in line for line in run.stdout))
                again = self.rhizon("run", "moor", "--json").json["error"]
                self.assertEqual(again["hint"], f"Attach to it: rhizon console {self.folder / 'moor'}")
                if killed:
                    run.kill()
                    keeper = json.loads((self.folder / "moor/.rhizon/life.json").read_text())["keeper"]["pid"]
                    os.kill(keeper, signal.SIGKILL)
                    now = self.rhizon("status", "moor", "--json").result["now"]
                    self.assertEqual((now["state"], now["kept"]), ("ready", False))
                    self.assertEqual(self.rhizon("backup", "moor", "--json").result["consistency"], "held")
                done = self.rhizon("stop", "moor", "--json")
                self.assertEqual((done.code, done.result["was_running"]), (0, True), done.out)
                self.assertEqual(run.wait(20), -signal.SIGKILL if killed else 0)
                run.communicate()
        self.assertIn("was not running", self.rhizon("stop", "moor").out)

    def test_worlds_from_elsewhere_and_arguments(self) -> None:
        made = self.provision("drovemoor", "moor")
        self.assertIn("copied from template thornacre 1.2", made["world"])
        home = self.folder / "moor"
        self.assertIn("made thornacre 1.2", (home / "moors/fairfield/deed.txt").read_text())
        self.assertIn("greeting = the market closes at dusk", (home / "reeve/reevecraft.ini").read_text())
        self.assertTrue((home / "reeve/house.key").exists())
        folders = sorted(one.name for one in (home / "herds").iterdir())
        self.assertEqual(folders, ["010-reevecraft", "020-droverlib", "030-longhorns", "040-abbeyford"])
        args = home / "droving.args"
        args.write_text("# mine\n" + args.read_text())
        changes = ("view_distance=12", "no_fog=yes", "world_name=newfield", "reevecraft.idle_minutes=30")
        self.assertEqual(self.rhizon("set", "moor", *changes).code, 0)
        self.assertEqual(args.read_text(), "# mine\n--on-moor newfield\n--far-sight=12\n--no-fog\n")
        self.assertEqual(self.rhizon("check", "moor").code, 0)
        # a port that is taken between allocation and start: free ones are named, and taken where that is wanted
        gate = made["ports"]["gate"]
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as other:
            other.bind(("127.0.0.1", gate + 3))
            refused = self.rhizon("run", "--trial", "moor", "--json")
            self.assertEqual(refused.json["error"]["code"], "port-taken")
            self.assertIn("free ports: gate ", refused.json["error"]["details"][0])
            told = self.rhizon("ports", "moor", "--json").result["ports"]
            self.assertEqual([(one["role"], one["taken"]) for one in told if one["listening"]], [("beacon", True)])
            self.assertIn("another program", self.rhizon("ports").out)
            moved = self.rhizon("ports", "moor", "--move", "--json").result["ports"]
            self.assertEqual({one["name"] for one in moved}, {"gate", "tally", "beacon"})
            ran = self.rhizon("run", "--trial", "moor", "--json")
        # a number that is changed by hand stays, until it is asked for
        ini, gate = home / "drovemoor.ini", next(one["after"] for one in moved if one["name"] == "gate")
        ini.write_text(ini.read_text().replace(f"port = {gate}\n", "port = 29999\n"))
        self.assertEqual(self.rhizon("set", "moor", "max_players=9").code, 0)
        self.assertIn("port = 29999\n", ini.read_text())
        told = self.rhizon("check", "moor").out
        self.assertIn("--move --port gate=29999\n", told)
        self.assertIn("stored again", self.rhizon("ports", "moor", "--move", "--port", f"gate={gate}").out)
        self.assertIn(f"port = {gate}\n", ini.read_text())
        self.assertEqual(self.rhizon("check", "moor").code, 0)
        self.assertEqual(ran.code, 0, ran.out)
        self.assertEqual(ran.result["content"], ["reevecraft", "droverlib", "longhorns", "abbeyford"])
        self.assertIn("made thornacre", (home / "moors/newfield/deed.txt").read_text())
        # the folder is moved by hand: the next command finds it again, and a copy is told from it
        home.rename(self.folder / "moved")
        shutil.copytree(self.folder / "moved", self.folder / "copy")
        codes = [one["code"] for one in self.rhizon("check", "moved", "--json").result["findings"]]
        self.assertEqual(codes, ["moved-by-hand"])
        self.assertIn("was moved here", self.rhizon("set", "moved", "max_players=9").err)
        for name, code in (("copy", "not-in-ledger"), ("moved", "")):
            codes = {one["code"] for one in self.rhizon("check", name, "--json").result["findings"]}
            self.assertEqual(codes, {"port-clash", code} if code else set())
        self.assertEqual(self.rhizon("run", "copy", "--trial", "--json").error["code"], "port-clash")  # it is known now
        self.assertEqual(self.rhizon("run", "moved", "--trial", "--json").error["code"], "port-clash")
        self.rhizon("ports", "copy", "--move")
        self.assertEqual([self.rhizon("check", name).code for name in ("copy", "moved")], [0, 0])
        self.rhizon("forget", "copy")
        listed = [one["folder"] for one in self.rhizon("list", "--json").result["instances"]]
        self.assertEqual(listed, [str(self.folder / "moved")])

    def test_a_world_that_is_taken_over(self) -> None:
        deed = "moor {}\nmade elsewhere\nseed 7\ndrives 3\n"
        mine = self.write("mine/deed.txt", deed.format("1.4")).parent
        made = self.provision("drovemoor", "moor", "--world", mine, "--set", "world_name=hill")
        self.assertIn(f"copied from {mine}", made["world"])
        self.assertEqual((self.folder / "moor/moors/hill/deed.txt").read_text(), deed.format("1.4"))
        self.assertTrue((mine / "deed.txt").exists())
        self.write("old.list.toml", (WORLD / "drovemoor.list.toml").read_text() + '\n[target]\ngame_version = "1.3"\n')
        (self.folder / "empty").mkdir()
        linked = self.write("linked/deed.txt", "moor 1.3\n").parent
        (linked / "x").symlink_to("/etc/hostname")
        rows = (
            (("moor", "--world", self.write("other/deed.txt", deed.format("1.4")).parent), 1, "world-exists"),
            (("new", "--world", self.folder / "nowhere"), 2, "no-such-world"),
            (("new", "--world", self.folder / "empty"), 2, "no-such-world"),
            (("new", "--world", linked), 2, "not-ordinary"),
            (("new", "--set", "world_template=fenacre"), 2, "template-missing"),
        )
        for (folder, *more), code, word in rows:
            with self.subTest(word, folder=folder):
                self.assertEqual(self.provision("drovemoor", folder, *more, code=code)["code"], word)
                self.assertFalse((self.folder / "new").exists())
        for more in ((), ("--world", mine)):  # the same once more: it is here already
            again = self.provision("drovemoor", "moor", *more)
            self.assertEqual((again["world"], again["ports"]), ("moors/hill unchanged", made["ports"]))

    def test_secrets_that_cannot_be(self) -> None:
        rows = (
            (("--secret", "password"), 2, "nobody-to-ask"),
            (("--secret", "pasword=generate"), 2, "bad-setting"),
            (("--secret", "password=/nowhere/at/all"), 2, "no-such-file"),
        )
        for more, code, word in rows:
            with self.subTest(word):
                self.assertEqual(self.provision("drovemoor", "moor", *more, code=code)["code"], word)
        both = self.rhizon("set", "./moor", "--secret", "password=generate", "--secret", "password=x")
        self.assertIn("is given twice", both.err)
