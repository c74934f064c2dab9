"""Rented servers through the program: described, pushed to over SFTP, killed in the middle, started there."""

import json
import random
import shlex
import shutil
import signal
import subprocess
import time
import unittest
from typing import Any

from tests.adapters.test_remotes import SSHD, Sshd
from tests.support import CATALOG, PROGRAM, WORLD, Case, not_fast


@not_fast
@unittest.skipUnless(SSHD.exists(), "there is no sshd on this machine")
class Rented(Case):
    def setUp(self) -> None:
        super().setUp()
        made = self.rhizon(
            *("provision", WORLD / "drovemoor.list.toml", "moor", "--name", "moor", "--catalog", CATALOG),
            *("--accept-licence", "--set", "address=127.0.0.1"),
        )
        self.assertEqual(made.code, 0, made.err)
        keys = self.folder / "keys"
        keys.mkdir()
        self.sshd = Sshd(keys)
        self.addCleanup(self.sshd.close)
        self.there = self.folder / "there"
        self.there.mkdir()
        reach = self.sshd.reach(self.there)
        done = self.rhizon(
            *("remote", "new", "lighthouse", "--sftp", f"{reach.user}@127.0.0.1:{reach.port}", "--folder", self.there),
            *("--key", reach.key, "--start-file", "run.sh", "--json"),
        )
        self.assertEqual(done.code, 0, done.out)

    def placed(self) -> dict[str, bytes]:
        return {
            one.relative_to(self.there).as_posix(): one.read_bytes()
            for one in self.there.rglob("*")
            if one.is_file() and ".rhizon-push" not in one.parts
        }

    def test_from_here_to_there(self) -> None:
        unknown = self.rhizon("push", "moor", "lighthouse", "--json")
        self.assertEqual((unknown.code, unknown.error["code"]), (4, "host-not-known"))
        self.assertEqual(self.rhizon("remote", "probe", "lighthouse", "--accept-key").code, 0)
        planned = self.rhizon("push", "moor", "lighthouse", "--dry-run", "--json").result
        self.assertEqual((planned["complete"], self.placed()), (False, {}))
        done = self.rhizon("push", "moor", "lighthouse", "--json").result
        self.assertEqual((done["complete"], done["verified"]), (True, "size"))
        again = self.rhizon("push", "moor", "lighthouse", "--verify", "--json").result
        self.assertEqual(({one["action"] for one in again["steps"]}, again["verified"]), ({"keep"}, "hash"))
        # what the host starts is a server
        server = subprocess.Popen(
            [self.there / "run.sh"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
        )
        assert server.stdout is not None and server.stdin is not None
        self.assertTrue(any("the gate stands open" in line for line in server.stdout))
        server.stdin.write("dusk\n")
        server.stdin.close()
        self.assertEqual(server.wait(30), 0)
        server.stdout.close()
        # its world is its own
        world = {name: data for name, data in self.placed().items() if name.startswith("moors/")}
        self.assertTrue(world)
        made = self.rhizon("pull", "moor", "lighthouse", "--json").result
        self.assertIn("moors/fairfield", made["paths"])
        self.assertEqual(self.rhizon("restore", "moor", "--at", made["when"], "--only", "world").code, 0)
        self.assertEqual({name: (self.folder / "moor" / name).read_bytes() for name in world}, world)
        self.rhizon("set", "moor", "max_players=9")
        changed = self.rhizon("push", "moor", "lighthouse", "--json").result
        self.assertIn("drovemoor.ini", [one["path"] for one in changed["steps"] if one["action"] in ("send", "merge")])
        self.assertLessEqual(world.items(), self.placed().items())
        found = self.rhizon("check", "moor", "--on", "lighthouse", "--json").result
        self.assertEqual((found["complete"], found["verified"]), (True, "hash"))
        (self.there / "moors/fairfield/kine.txt").write_text("gone wild")
        put_back = self.rhizon("restore", "moor", "--on", "lighthouse", "--only", "world", "--json").result
        self.assertEqual((put_back["to"], bool(put_back["backup"])), (made["when"], True))
        self.assertLessEqual(world.items(), self.placed().items())
        self.assertEqual(self.rhizon("undo", "moor", "--on", "lighthouse", "--json").code, 0)
        pending = self.rhizon("check", "moor", "--on", "lighthouse", "--json")
        self.assertIn("push-pending", [one["code"] for one in json.loads(pending.out)["findings"]])
        self.assertEqual(
            self.rhizon("start", "moor", "--on", "lighthouse", "--json").error["code"], "remote-no-command"
        )
        self.assertEqual(self.rhizon("log", "moor", "--on", "lighthouse", "--json").error["code"], "no-log-there")
        wrong = self.rhizon("push", "moor", "nowhere", "--json")
        self.assertEqual(wrong.error["code"], "no-such-remote")

    def test_a_machine_with_rhizon(self) -> None:
        """It starts what was sent, and says how it is."""
        program = self.folder / "rhizon-there"
        state = self.folder / "state-there"
        environment = self.environment() | {"RHIZON_STATE": str(state), "RHIZON_CONFIG": str(state)}
        exports = "".join(
            f"export {name}={shlex.quote(environment[name])}\n" for name in ("RHIZON_STATE", "RHIZON_CONFIG")
        )
        program.write_text(f'#!/bin/sh\n{exports}exec {shlex.join(map(str, PROGRAM))} "$@"\n')
        program.chmod(0o755)
        there, reach = self.folder / "there/moor", self.sshd.reach(self.there)
        new = self.rhizon(
            *("remote", "new", "quay", "--rhizon", f"{reach.user}@127.0.0.1:{reach.port}", "--folder", there),
            *("--key", reach.key, "--program", program, "--json"),
        )
        self.assertEqual(new.code, 0, new.out)
        self.assertEqual(self.rhizon("remote", "probe", "quay", "--accept-key").code, 0)
        self.assertTrue(self.rhizon("push", "moor", "quay", "--json").result["complete"])

        def on(*words: str) -> dict[str, Any]:
            done = self.rhizon(*words, "--on", "quay", "--json")
            self.assertEqual(done.code, 0, done.out)
            result: dict[str, Any] = done.result
            return result

        self.assertTrue(on("check", "moor")["complete"])
        self.assertEqual(on("status", "moor")["state"], "stopped")
        on("start", "moor")
        self.addCleanup(self.rhizon, "stop", "moor", "--on", "quay")
        self.assertEqual(on("status", "moor")["state"], "ready")
        self.assertTrue(on("log", "moor")["ready"])
        self.assertEqual(self.rhizon("push", "moor", "quay", "--json").error["code"], "remote-running")
        on("stop", "moor")
        self.assertTrue(self.rhizon("push", "moor", "quay", "--json").result["complete"])

    def test_killed_at_any_moment(self) -> None:
        self.rhizon("remote", "probe", "lighthouse", "--accept-key")
        self.assertEqual(self.rhizon("push", "moor", "lighthouse").code, 0)
        before = self.folder / "before"
        shutil.copytree(self.there, before)
        old = self.placed()
        self.rhizon("update", "moor", "--without", "abbeyford")
        self.rhizon("push", "moor", "lighthouse")
        new = self.placed()
        chance = random.Random(17)
        killed = 0
        for _ in range(12):
            shutil.rmtree(self.there)
            shutil.copytree(before, self.there)
            push = subprocess.Popen(
                [*PROGRAM, "push", "moor", "lighthouse", "-q"], cwd=self.folder, env=self.environment(),
                stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
            )  # fmt: skip
            time.sleep(chance.uniform(0.4, 1.3))
            killed += push.poll() is None
            push.send_signal(signal.SIGKILL)
            push.wait(20)
            if (self.there / "run.sh").exists():
                self.assertIn(self.placed(), (old, new))
            self.assertEqual(self.rhizon("push", "moor", "lighthouse").code, 0)
            self.assertEqual(self.placed(), new)
        self.assertGreater(killed, 2)
