"""A server's life through the program: in the background, its console and log, crashes, copies, its end."""

import contextlib
import json
import os
import re
import shutil
import signal
import socket
import subprocess
import sys
import time
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import urllib3

from rhizon.adapters.console import ConsoleClient
from rhizon.adapters.instances import InstanceFolder
from tests.support import CATALOG, PROGRAM, WORLD, Case, not_fast


@not_fast
class Life(Case):
    def setUp(self) -> None:
        super().setUp()
        self.done(
            *("provision", WORLD / "drovemoor.list.toml", "moor", "--name", "moor", "--catalog", CATALOG),
            *("--accept-licence", "--set", "address=127.0.0.1"),
        )
        self.home = self.folder / "moor"
        self.addCleanup(self.rhizon, "stop", "--all")

    def done(self, *words: object, code: int = 0) -> Any:
        ended = self.rhizon(*words, "--json")
        self.assertEqual(ended.code, code, ended.out + ended.err)
        return ended.json["result"] if code in (0, 1) and ended.json["result"] is not None else ended.json["error"]

    def now(self, name: str = "moor") -> Any:
        return self.rhizon("status", name, "--json").result["now"]

    def until(self, what: Callable[[], object]) -> None:
        end = time.monotonic() + 60
        while not what():
            self.assertLess(time.monotonic(), end, self.now())
            time.sleep(0.1)

    def test_in_the_background(self) -> None:
        self.assertEqual(self.done("wait", "moor", "ready", "--wait", "1", code=6)["code"], "start-ended")
        started = self.done("start", "moor")
        self.assertEqual((started["already"], len(started["content"])), (False, 4))
        self.assertEqual(self.done("start", "moor")["already"], True)
        self.assertEqual((self.now()["state"], self.now()["kept"]), ("ready", True))
        self.assertEqual(self.done("list")["instances"][0]["state"], "ready")
        self.done("wait", "moor", "ready")
        self.assertEqual(self.done("wait", "moor", "stopped", "--wait", "0.3", code=1)["code"], "wait-timeout")
        # its console, its log, its players
        self.assertEqual(self.done("players", "moor"), {**self.done("players", "moor"), "online": [], "most": 16})
        self.players()
        typed = self.done("console", "moor", "--do", "gallop", "--until", "knows the call (\\w+)")
        self.assertEqual(typed["lines"][-1], "drovemoor> nobody knows the call gallop")
        self.assertFalse(
            self.done("console", "moor", "--do", "who", "--until", "xyz", "--wait", "0.5", code=1)["found"]
        )
        self.assertEqual(self.done("console", "moor", "--do", "who", "--until", "(", code=2)["code"], "bad-pattern")
        piped = subprocess.run(
            [*PROGRAM, "console", "moor"], cwd=self.folder, env=self.environment(), input="who\n",
            capture_output=True, text=True, timeout=60, check=True,
        )  # fmt: skip
        self.assertIn("drovers: none", piped.stdout)
        content = self.done("log", "moor", "--content", "longhorns")["lines"]
        self.assertEqual([one["content"] for one in content], ["longhorns", "longhorns"])
        (shut,) = self.done("log", "moor", "--grep", "stands open", "--lines", "1")["lines"]
        self.assertIn("the gate stands open", shut["text"])
        self.assertEqual(self.done("log", "moor", "--run", "9", code=2)["code"], "no-such-run")
        boots = self.done("boots", "moor")["boots"]
        self.assertEqual([one["name"] for one in boots[0]["phases"]], started["content"])
        metrics = self.done("metrics")["text"]
        self.assertIn('rhizon_server_ready{game="drovemoor",server="moor"} 1.0', metrics)
        self.figures()
        # again, and away
        pid = self.now()["pid"]
        keeper = json.loads((self.home / ".rhizon/life.json").read_text())["keeper"]["pid"]
        os.kill(keeper, signal.SIGKILL)
        self.until(lambda: not self.now()["kept"])
        self.assertEqual((self.done("start", "moor")["already"], self.now()["kept"]), (True, True))
        keeper = json.loads((self.home / ".rhizon/life.json").read_text())["keeper"]["pid"]
        self.assertEqual(self.done("run", "moor", code=1)["code"], "server-running")
        os.kill(keeper, signal.SIGKILL)
        self.until(lambda: not self.now()["kept"])
        attached = subprocess.Popen(
            [*PROGRAM, "run", "moor"], cwd=self.folder, env=self.environment(), stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        self.until(lambda: self.now()["kept"])
        self.assertEqual(self.now()["pid"], pid)
        attached.send_signal(signal.SIGKILL)  # the server and its keeper stay
        attached.wait(60)
        self.assertFalse(self.done("restart", "moor")["already"])
        self.assertNotEqual(self.now()["pid"], pid)
        self.assertEqual(self.done("stop", "moor")["was_running"], True)
        self.assertEqual(self.now()["state"], "stopped")
        self.assertEqual(self.done("console", "moor", "--do", "who", code=1)["code"], "not-running")

    def players(self) -> None:
        """Orders about players by the game's own commands; many consoles at once."""
        port = str(self.done("list")["instances"][0]["ports"]["gate"])
        player = [sys.executable, "-m", "rhizon.world.harbour.player", "drovemoor", "127.0.0.1", port]

        def join(name: str, *content: str) -> Any:
            done = subprocess.run([*player, name, "-", *content], capture_output=True, text=True, timeout=60)
            return json.loads(done.stdout)

        carried = [f"{one['id']}={one['version']}" for one in join("Tove")["content"]]
        self.assertEqual([join(name, *carried)["joined"] for name in ("Tove", "Aud", "Odd")], [True] * 3)
        self.assertEqual(self.done("players", "moor")["online"], ["Tove", "Aud", "Odd"])
        self.assertIn("Aud was sent homeward", self.done("players", "moor", "--kick", "Aud")["lines"][0])
        self.done("players", "moor", "--ban", "Odd")
        self.assertEqual((self.done("players", "moor")["online"], join("Odd", *carried)["joined"]), (["Tove"], False))
        self.assertIn("the reeve calls: supper", self.done("players", "moor", "--say", "supper")["lines"][0])
        self.done("players", "moor", "--kick", "Tove")
        home = InstanceFolder(self.home)
        mark = home.running()
        assert mark is not None
        with contextlib.ExitStack() as stack:
            consoles = [stack.enter_context(ConsoleClient(home, mark)) for _ in range(100)]
            for one in consoles:
                one.send("drive")
        self.until(lambda: (self.home / ".rhizon/last-run.log").read_text().count("> driving") == 100)

    def figures(self) -> None:
        """A table of all servers, a file for an exporter, and a monitoring system that asks."""
        table = self.rhizon("status", "--live")
        self.assertEqual(table.code, 0, table.err)
        self.assertIn("ready", next(line for line in table.out.splitlines() if line.lstrip().startswith("moor")))
        self.done("metrics", "--textfile", self.folder / "rhizon.prom")
        text = (self.folder / "rhizon.prom").read_text()
        self.assertIn('rhizon_server_state{game="drovemoor",server="moor",state="ready"} 1.0', text)
        if shutil.which("promtool"):
            checked = subprocess.run(["promtool", "check", "metrics"], input=text, capture_output=True, text=True)
            self.assertEqual((checked.returncode, checked.stderr), (0, ""), checked.stdout)
        server = subprocess.Popen(
            [*PROGRAM, "metrics", "--listen", "127.0.0.1:0", "--events"], cwd=self.folder, env=self.environment(),
            stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True,
        )  # fmt: skip
        try:
            assert server.stderr is not None
            address = next(found[0] for line in server.stderr if (found := re.search(r"http://[^\s\"]+", line)))
            answer = urllib3.PoolManager(retries=False).request("GET", address, timeout=20)
            self.assertIn(b"rhizon_server_up", answer.data)
            self.scraped(address)
        finally:
            server.terminate()
            self.assertEqual(server.wait(30), 0)
            server.stderr.close()
        self.assertEqual(self.done("metrics", "--listen", "203.0.113.9:1", code=1)["code"], "port-taken")

    def scraped(self, address: str) -> None:
        """By a real Prometheus, where the machine has one; and our alert rules are ones that it takes."""
        if not shutil.which("prometheus"):
            return
        rules = Path(__file__).parents[2] / "docs/alerts.rules.yml"
        checked = subprocess.run(["promtool", "check", "rules", rules], capture_output=True, text=True, check=False)
        self.assertEqual(checked.returncode, 0, checked.stderr)
        target = address.removeprefix("http://").partition("/")[0]
        config = self.write(
            "prometheus.yml",
            "global: {scrape_interval: 1s}\n"
            f"scrape_configs: [{{job_name: r, static_configs: [{{targets: ['{target}']}}]}}]\n",
        )
        with socket.create_server(("127.0.0.1", 0)) as free:
            listen = f"127.0.0.1:{free.getsockname()[1]}"
        process = subprocess.Popen(
            ["prometheus", f"--config.file={config}", f"--storage.tsdb.path={self.folder / 'tsdb'}",
             f"--web.listen-address={listen}"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        pool = urllib3.PoolManager(retries=False)

        def seen() -> bool:
            with contextlib.suppress(urllib3.exceptions.HTTPError):
                found = pool.request("GET", f"http://{listen}/api/v1/query?query=rhizon_server_ready", timeout=5)
                return any(one["value"][1] == "1" for one in json.loads(found.data)["data"]["result"])
            return False

        try:
            self.until(seen)
        finally:
            process.terminate()
            process.wait(30)

    def test_from_a_list_to_players(self) -> None:
        self.done(
            *("provision", WORLD / "gloamwick.list.toml", "lamp", "--catalog", CATALOG, "--accept-licence"),
            *("--first-start", "content"),
        )
        self.assertIn("lampwright", (self.folder / "lamp/.rhizon/last-run.log").read_text().casefold())
        made = self.done(
            *("provision", WORLD / "emberline.list.toml", "line", "--catalog", CATALOG, "--accept-licence"),
            *("--set", "address=127.0.0.1", "--start"),
        )
        self.assertGreater(made["ready_seconds"], 0)
        self.assertEqual(self.now(made["name"])["state"], "ready")
        pid = self.now(made["name"])["pid"]
        for words in (("provision", WORLD / "emberline.list.toml", "line", "--start"), ("update", "line")):
            self.done(*words)  # nothing to change: the players stay
        self.assertEqual(self.now(made["name"])["pid"], pid)
        refused = self.done("provision", WORLD / "emberline.list.toml", "line", "--set", "max_players=3", code=1)
        self.assertEqual(refused["code"], "server-running")
        again = self.rhizon("start", "line", "--json").result
        self.assertEqual(again["addresses"], [f"127.0.0.1:{made['ports']['line']}"])

    def test_a_crash(self) -> None:
        told = self.folder / "told.json"
        record = self.home / ".rhizon/instance.toml"
        record.write_text(record.read_text() + f'\n[life]\npause_seconds = 1\ntell = "cat > {told}"\n')
        self.done("start", "moor")
        pid = self.now()["pid"]
        os.kill(pid, signal.SIGSEGV)
        self.until(lambda: self.now()["state"] == "ready" and self.now()["pid"] != pid)
        report = json.loads(told.read_text())
        self.assertEqual((report["code"], report["exit_code"], report["was_ready"]), ("start-crashed", 139, True))
        self.assertTrue(report["backup"])
        self.assertEqual(self.now()["restarts"], 1)
        life = json.loads((self.home / ".rhizon/life.json").read_text())
        for one in (life["keeper"]["pid"], life["pid"]):  # as when the machine goes down
            os.kill(one, signal.SIGKILL)
        self.until(lambda: self.now()["state"] == "crashed")
        self.done("start", "moor", "--restart", "never", "--adjust", "--tell", "")
        self.assertIn("adjust_memory = true", record.read_text())
        os.kill(self.now()["pid"], signal.SIGKILL)
        self.until(lambda: self.now()["state"] == "crashed")
        self.assertEqual(self.rhizon("status", "moor").code, 1)

    def test_a_start_that_nobody_waits_for(self) -> None:
        """The keeper has it written down what it showed, and why it failed."""
        worlds = self.home / ".rhizon/worlds.json"
        worlds.unlink()
        self.assertIsNone(self.done("start", "moor", "--no-wait", "--restart", "never")["ready_seconds"])
        self.until(worlds.exists)
        self.done("stop", "moor")
        settings = self.home / "drovemoor.ini"
        settings.write_text(settings.read_text().replace("weather = sleet", "weather = mild"))
        self.done("start", "moor", "--no-wait", "--anyway")
        self.until(lambda: (self.home / ".rhizon/crashes").is_dir() and self.now()["state"] == "crashed")
        self.assertIn("weather", self.rhizon("status", "moor", "--json").result["crash"])

    def test_copies_and_the_end(self) -> None:
        self.done("start", "moor")
        made = self.done("clone", "moor", "moor-trial")
        self.assertEqual((made["name"], made["world"]), ("moor-trial", True))
        self.assertFalse(set(made["ports"].values()) & set(self.done("list")["instances"][0]["ports"].values()))
        self.assertEqual(self.rhizon("run", "moor-trial", "--trial").code, 0)
        self.done("clone", "moor", self.folder / "bare", "--without-world")
        self.assertFalse((self.folder / "bare/moors/fairfield").exists())
        self.assertEqual(self.done("clone", "moor", "bare", code=2)["code"], "folder-exists")
        moved = self.done("move", "moor-trial", self.folder / "elsewhere")
        self.assertEqual(self.done("check", "moor-trial")["folder"], moved["folder"])
        self.assertEqual(self.done("delete", "moor", "--yes", code=1)["code"], "server-running")
        self.assertEqual(self.done("delete", "moor-trial", code=2)["code"], "nobody-to-ask")
        self.write("elsewhere/notes/mine.txt", "supper at eight")
        left = self.folder / ".old-removed-4194305"  # of a removal that was killed: no process has that number
        (left / ".rhizon").mkdir(parents=True)
        deed = (self.folder / "elsewhere/moors/fairfield/deed.txt").read_bytes()
        gone = self.done("delete", "moor-trial", "--yes")
        self.assertFalse(Path(moved["folder"]).exists() or left.exists())
        with zipfile.ZipFile(gone["archive"]) as archive:
            self.assertEqual(archive.read("notes/mine.txt"), b"supper at eight")
        self.assertNotIn("moor-trial", [one["name"] for one in self.done("list")["instances"]])
        self.done("restore", "back", "--of", gone["backup_id"], "--at", gone["backup"])
        self.assertEqual((self.folder / "back/moors/fairfield/deed.txt").read_bytes(), deed)

    def test_content_left_out_and_held(self) -> None:
        before = sorted(one.name for one in (self.home / "herds").iterdir())
        trial = self.done("update", "moor", "--on-copy", "--without", "abbeyford")
        self.assertEqual((trial["why"], trial["copy"]), ("", ""))
        self.assertEqual([one["id"] for one in trial["update"]["changes"]["releases"]], ["abbeyford"])
        self.assertEqual(sorted(one.name for one in (self.home / "herds").iterdir()), before)
        self.assertEqual([one["name"] for one in self.done("list")["instances"]], ["moor"])
        self.assertEqual(sorted(one.name for one in self.folder.glob("moor*")), ["moor"])
        self.done("start", "moor")
        pid = self.now()["pid"]
        self.assertEqual(self.done("update", "moor", "--careful")["outcome"], "nothing")
        self.assertEqual(self.now()["pid"], pid)
        careful = self.done("update", "moor", "--careful", "--without", "abbeyford")
        self.assertEqual((careful["outcome"], self.now()["state"], careful["trial"]["copy"]), ("updated", "ready", ""))
        self.done("stop", "moor")
        self.done("update", "moor", "--without", "abbeyford")
        self.assertFalse(any("abbeyford" in one.name for one in (self.home / "herds").iterdir()))
        kept = self.rhizon("update", "moor", "--json")
        self.assertIn("content-changed", [one["code"] for one in kept.json["findings"]])
        self.done("update", "moor", "--with", "abbeyford")
        self.assertTrue(any("abbeyford" in one.name for one in (self.home / "herds").iterdir()))
        self.assertEqual(self.done("update", "moor", "--without", "abbeyfort", code=2)["code"], "no-such-content")
        self.assertEqual(self.done("update", "moor", "--hold", "abbeyford=x y", code=2)["code"], "bad-range")

    def test_a_report_without_secrets(self) -> None:
        self.done("set", "moor", "--secret", f"password={self.write('word', 'hunters-moon')}")
        self.done("start", "moor")
        self.done("console", "moor", "--do", "join me at 203.0.113.9 with hunters-moon", "--until", "hunters")
        done = self.done("report", "moor", "-o", "moor.zip")
        with zipfile.ZipFile(self.folder / "moor.zip") as archive:
            parts = {name: archive.read(name).decode() for name in archive.namelist()}
        self.assertEqual(set(done["parts"]), set(parts))
        whole = "".join(parts.values())
        for secret in ("hunters-moon", "203.0.113.9", str(self.folder)):
            self.assertNotIn(secret, whole)
        self.assertIn("[secret]", parts["logs/last-run.log"])
        self.assertEqual(json.loads(parts["settings.json"])["password"], "[secret]")
        self.assertIn("the gate stands open", parts["report.html"])
        self.assertGreater(done["removed"]["secret values"], 0)

    def test_units(self) -> None:
        text = self.done("service", "show", "moor")["text"]
        self.assertIn(f"ExecStart={sys.executable} -P -m rhizon start {self.home} --foreground", text)
        self.assertIn(f"ReadWritePaths={self.home} ", text)
        self.done("move", "moor", self.folder / "a $b")
        text = self.done("service", "show", "moor")["text"]
        self.assertIn(f"WorkingDirectory={self.folder}/a $b\n", text)
        unit = self.write("rhizon-moor.service", text)
        if Path("/usr/bin/systemd-analyze").exists():
            checked = subprocess.run(["systemd-analyze", "verify", unit], capture_output=True, text=True, check=False)
            self.assertEqual((checked.returncode, checked.stderr), (0, ""))
        for manager in ("openrc", "launchd"):
            self.assertIn("ntested", self.done("service", "show", "moor", "--manager", manager)["text"])
        self.assertEqual(self.done("schedule", "moor", "backup", "daily", "25:00", code=2)["code"], "bad-time")
        planned = self.done("schedule", "moor", "backup", "daily", "04:30", "--dry-run")
        self.assertEqual((planned["planned"], planned["tasks"]), (True, []))
        record = self.folder / "a $b/.rhizon/instance.toml"
        record.write_text(record.read_text() + '\n[[schedule]]\nwhat = "restart"\nwhen = "daily 04:30"\n')
        scheduled = [sys.executable, "-m", "rhizon.cli.scheduled", "restart", str(self.folder / "a $b")]
        done = subprocess.run(scheduled, env=self.environment(), capture_output=True, text=True, timeout=60)
        self.assertEqual((done.returncode, done.stdout), (0, "the server does not run; nothing was done\n"))
        (line,) = self.rhizon("status", "moor", "--json").result["schedule"]
        self.assertEqual((line["task"]["when"], line["last"]["exit_code"]), ("daily 04:30", 0))
