"""Several machines through the program: a plan, files for engines, and real machines (OpenSSH servers on loopback, each
with a Rhizon of its own) through Ansible."""

import json
import os
import shutil
import subprocess
import sys
import tomllib
import unittest
from pathlib import Path
from typing import Any

import yaml

from tests.adapters.test_remotes import SSHD, Sshd
from tests.support import CATALOG, LIST, NO_JAVA, PACK, WORLD, Case, java17, not_fast

HEAD = 'format = "rhizon-machines/1"\nname = "club"\n'
CLUB = (
    HEAD
    + """
[placement]
apart = [["fen", "gate"]]  # both are busy on Fridays

[machines.alpha]
memory_mib = 16384
labels = ["ssd"]
[machines.beta]
memory_mib = 12288
ports = ["25100-25199"]
[machines.gamma]
memory_mib = 8192
emptied = true   # gets a new disk on Monday

[servers.marsh]
memory_mib = 4096
machine = "alpha"
[servers.fen]
memory_mib = 3072
machine = "gamma"
[servers.gate]
memory_mib = 6144
needs = ["ssd"]
machine = "alpha"
"""
)


class Plan(Case):
    def test_a_plan_and_what_it_writes(self) -> None:
        self.write("club.machines.toml", CLUB)
        done = self.rhizon("machines", "plan", "club.machines.toml", "--json", "-o", "loads.png")
        self.assertEqual((done.code, done.result["proved"]), (0, True), done.err)
        self.assertEqual(done.result["servers"], {"marsh": "alpha", "fen": "beta", "gate": "alpha"})
        self.assertEqual([done.result[one] for one in ("moved", "moved_bound", "load", "load_bound")], [1, 1, 63, 63])
        self.assertTrue((self.folder / "loads.png").read_bytes().startswith(b"\x89PNG"))
        dry = self.rhizon("machines", "plan", "club.machines.toml", "--write", "--dry-run")
        self.assertEqual((dry.code, (self.folder / "club.machines.toml").read_text()), (0, CLUB))
        text = self.rhizon("machines", "plan", "club.machines.toml", "--write").out
        self.assertIn("1 move, 2 machines in use, highest load 63 %, proved best", text)
        written = (self.folder / "club.machines.toml").read_text()
        self.assertEqual(written, CLUB.replace('machine = "gamma"', 'machine = "beta"'))
        self.assertIn("0 moves", self.rhizon("machines", "plan", "club.machines.toml").out)

    def test_what_cannot_be(self) -> None:
        self.write("club.machines.toml", CLUB.replace('labels = ["ssd"]', ""))
        done = self.rhizon("machines", "plan", "club.machines.toml", "--json")
        self.assertEqual((done.code, done.error["code"]), (3, "no-placement"))
        self.assertEqual(done.error["core"], ["gate needs ssd, which no machine has"])
        self.assertEqual([one["kind"] for one in done.error["repairs"]], ["needs", "leave-out"])
        for text, mistake in (
            (HEAD, "machines"),
            (HEAD + "[machines.a]\nmemory_mib = -1\n", "memory_mib"),
            (HEAD + '[machines.a]\nmemory_mib = 1\nports = ["9-1"]\n', "ports"),
            (HEAD + '[machines.a]\nmemory_mib = 1\naddress = "-oProxyCommand=x"\n', "address"),
            (HEAD + '[machines.a]\nmemory_mib = 1\nfolder = "/srv/../etc"\n', "folder"),
            (HEAD + '[machines.a]\nmemory_mib = 1\n[servers.x]\nmemory_mib = 1\nmachine = "b"\n', "'b'"),
            (CLUB.replace('"fen", "gate"', '"fen", "fen"'), "apart"),
            (CLUB.replace("memory_mib = 4096", 'memory_mib = "4G"'), "4G"),
            ("\0", "club"),
        ):  # fmt: skip
            with self.subTest(mistake=mistake):
                self.write("club.machines.toml", text)
                done = self.rhizon("machines", "plan", "club.machines.toml")
                self.assertEqual(done.code, 2, done.err)
                self.assertIn(mistake, done.err)


class Export(Case):
    def test_files_of_each_engine(self) -> None:
        """From a list, a pack and a native game; what is written is whole, and is replaced by another export."""
        for source, engine in (
            (LIST, "compose"), (PACK, "container"), (WORLD / "emberline.list.toml", "container"), (LIST, "kubernetes"),
        ):  # fmt: skip
            with self.subTest(source=source.name, engine=engine):
                more = ("--backup-at", "0 5 * * *", "--cluster", "1.29") if engine == "kubernetes" else ()
                done = self.rhizon("export", source, engine, "-o", "out", "--catalog", CATALOG, "--json", *more)
                self.assertEqual(done.code, 0, done.err)
                result, out = done.result, self.folder / "out"
                self.assertTrue(all((out / one).is_file() for one in result["files"]))
                self.assertIn(result["licence"], ("not accepted", "none"))
                if engine == "kubernetes":
                    self.assertFalse((out / "Containerfile").exists())
                    self.kustomized(out)
                    continue
                lock = json.loads((out / "server.lock.json").read_bytes())
                archives = {one.name.partition("-")[0] for one in (out / "server.archives").iterdir()} - {".keep"}
                wanted = {lock["server"]["sha256"][:12], *self.on_server(lock)}
                self.assertLessEqual(wanted if source != PACK else set(), archives)
                self.assertEqual(len(archives), result["archives"])
                if engine == "compose":
                    service = yaml.safe_load((out / "compose.yaml").read_text())["services"]["server"]
                    self.assertEqual(service["image"], result["image"])
                self.write("out/secrets/mine", "kept")
        self.assertEqual((self.folder / "out/secrets/mine").read_text(), "kept")
        mine = self.write("mine/notes.txt", "mine")
        done = self.rhizon("export", LIST, "compose", "-o", "mine", "--catalog", CATALOG, "--json")
        self.assertEqual((done.code, done.error["code"], mine.read_text()), (1, "folder-in-use", "mine"))
        for arguments, code in (
            (("compose", "--fetch"), "no-catalog-address"), (("container", "--wheels", "mine"), "no-wheel"),
            (("compose", "--secret", "seed"), "not-a-secret"),
        ):  # fmt: skip
            done = self.rhizon("export", LIST, *arguments, "-o", "new", "--catalog", CATALOG, "--json")
            self.assertEqual((done.code, done.error["code"]), (2, code))
            self.assertFalse((self.folder / "new").exists())
        self.assertEqual(self.rhizon("export", LIST, "kubernetes", "-o", "new", "--cluster", "1.5").code, 2)

    def on_server(self, lock: dict[str, Any]) -> list[str]:
        return [one["file"]["sha256"][:12] for one in lock["releases"] if one["on_server"]]

    def kustomized(self, folder: Path) -> None:
        """kubectl puts the base together without a cluster."""
        kinds = {one["kind"] for name in folder.glob("*.yaml") for one in yaml.safe_load_all(name.read_text())}
        self.assertLessEqual({"StatefulSet", "Service", "NetworkPolicy", "ConfigMap", "CronJob"}, kinds)
        if shutil.which("kubectl") is not None:
            done = subprocess.run(["kubectl", "kustomize", folder], capture_output=True, text=True, check=True)
            self.assertEqual({one["kind"] for one in yaml.safe_load_all(done.stdout)}, kinds - {"Kustomization"})


@not_fast
@unittest.skipUnless(java17(), NO_JAVA)
@unittest.skipUnless(SSHD.exists(), "there is no sshd on this machine")
class Apply(Case):
    """Two machines: one OpenSSH server for each, whose logins have a state of their own."""

    def setUp(self) -> None:
        super().setUp()
        self.machines: dict[str, Sshd] = {}
        for name in ("alpha", "beta"):
            room = self.folder / name
            room.mkdir()
            own = f"RHIZON_STATE={room}/state RHIZON_CONFIG={room}/config"
            self.machines[name] = Sshd(room, f"SetEnv {own}\n")
            self.addCleanup(self.machines[name].close)
        self.program = self.write("rhizon-there", f'#!/bin/sh\nexec {sys.executable} -m rhizon "$@"\n')
        self.program.chmod(0o755)
        self.write("lamps.list.toml", LIST.read_text())

    def environment(self) -> dict[str, str]:
        keys = self.folder / "alpha", self.folder / "beta"
        words = ["-o StrictHostKeyChecking=no -o UserKnownHostsFile=/dev/null", *(f"-i {one}/user" for one in keys)]
        path = f"{Path(sys.executable).parent}{os.pathsep}{os.environ.get('PATH', '')}"
        return super().environment() | {"ANSIBLE_SSH_COMMON_ARGS": " ".join(words), "PATH": path, "PYTHONWARNINGS": ""}

    def club(self, **on: str) -> None:
        text = HEAD + f'catalogs = ["{CATALOG}"]\n'
        for name, one in self.machines.items():
            text += f'[machines.{name}]\naddress = "127.0.0.1"\nport = {one.port}\nmemory_mib = 4096\n'
            text += 'ports = ["26100-26140"]\n'
            text += f'folder = "{self.folder}/{name}/servers"\nprogram = "{self.program}"\n'
        for name, machine in on.items():
            text += f'[servers.{name}]\nsource = "lamps.list.toml"\nmemory_mib = 512\naccept_licence = true\n'
            text += f'machine = "{machine}"\n'
        self.write("club.machines.toml", text)

    def applied(self, *more: str, code: int = 0) -> dict[str, str]:
        done = self.rhizon("machines", "apply", "club.machines.toml", "--json", *more, within=400)
        self.assertEqual(done.code, code, done.out + done.err)
        return {one["server"]: f"{one['state']} {one['why']}".strip() for one in done.result["servers"]}

    def test_made_moved_and_a_machine_that_is_down(self) -> None:
        self.club(lamps="alpha")
        self.assertEqual(self.applied(), {"lamps": "changed"})
        self.addCleanup(self.rhizon, "machines", "each", "club.machines.toml", "--", "stop", "lamps")
        world = self.folder / "alpha/servers/lamps/marshes"
        (world / "sign.txt").write_text("mind the tide")
        self.assertEqual(self.applied(), {"lamps": "unchanged"})
        answers = self.rhizon(
            "machines", "each", "club.machines.toml", "--on", "alpha", "--json", "--", "list", "--json"
        )
        listed = json.loads(answers.result["answers"][0]["out"])["result"]["instances"]
        self.assertEqual([(one["name"], one["state"]) for one in listed], [("lamps", "ready")])
        # the machine that it is to go to is down: it stays, and runs
        self.club(lamps="beta")
        self.machines["beta"].close()
        self.assertEqual(self.applied(code=1), {"lamps": "held beta was not reached"})
        status = self.rhizon("machines", "status", "club.machines.toml", "--json")
        self.assertEqual([one["reached"] for one in status.result["machines"]], [True, False])
        self.assertEqual([(one["found_on"], one["state"]) for one in status.result["servers"]], [("alpha", "ready")])
        self.machines["beta"].open()
        self.assertEqual(self.applied(), {"lamps": "moved from alpha"})
        self.assertFalse(world.exists())
        self.assertEqual((self.folder / "beta/servers/lamps/marshes/sign.txt").read_text(), "mind the tide")
        # where it was last is down: it is not made a second time
        self.club(lamps="alpha")
        self.machines["beta"].close()
        self.assertEqual(self.applied(code=1), {"lamps": "held it was last seen on beta, which was not reached"})
        self.machines["beta"].open()
        made = tomllib.loads((self.folder / "beta/servers/lamps/.rhizon/instance.toml").read_text())
        self.assertEqual((made["name"], all(26100 <= one <= 26140 for one in made["ports"].values())), ("lamps", True))
        self.assertEqual(self.rhizon("machines", "each", "club.machines.toml", "--on", "moon", "--", "list").code, 2)
