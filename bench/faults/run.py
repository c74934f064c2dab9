"""Killing and failing every command that changes an instance: python bench/faults/run.py [--kills N] [--faults N]

``--kills`` times (300) a random command is killed (SIGKILL) at a random moment; ``--faults`` times each (0: at every
one) a write, sync, rename, link, unlink or mkdir of each command fails (strace -e inject). After each the next command
must leave the old state or the new one, byte for byte, with the world of that state. Exit code 1 when one did not.
Needs a Java 17; strace for the second half.
"""

import argparse
import json
import os
import random
import re
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).parents[2]
SHIPPED = ROOT / "src/rhizon/world/harbour"
PROGRAM = [sys.executable, "-m", "rhizon"]
PASSING = re.compile(r"\.rhizon/(busy|last-run\.log|run-before\.log|backups\.json|answer\.json|kept/.*)$")
COMMANDS = {
    "provision": (
        *("provision", str(SHIPPED / "packs/marsh-evening"), "e", "--accept-licence", "--catalog", "shelf"),
        *("--set", "seed=1907"),
    ),
    "update": ("update", "d", "--to", str(SHIPPED / "packs/marsh-evening-1.3")),
    "set": ("set", "d", "max_players=30", "pvp=yes", "name=Low Tide"),
    "undo": ("undo", "d", "--to", "1", "--with-world"),
    "restore": ("restore", "d"),
}
# what fails -> the error it gives
FAULTS = {
    "write,pwrite64": "ENOSPC",
    "fsync,fdatasync": "EIO",
    "rename,renameat,renameat2": "EACCES",
    "link,linkat": "EACCES",
    "unlink,unlinkat": "EACCES",
    "mkdir,mkdirat": "ENOSPC",
}


class Trial:
    """A folder ``work`` that is put back before each trial."""

    def __init__(self, scratch: Path) -> None:
        self.work = scratch / "work"
        self.base = scratch / "base"
        self.environment = {
            **os.environ,
            "RHIZON_STATE": str(self.work / "state"),
            "RHIZON_CONFIG": str(self.work / "config"),
        }
        self.environment.pop("PYTHONDONTWRITEBYTECODE", None)
        self._make_base()
        self.old = self.states()
        self.new: dict[str, dict[str, dict[str, bytes]]] = {}
        self.seconds: dict[str, float] = {}
        for name, words in COMMANDS.items():
            self.again()
            begun = time.perf_counter()
            self.must(*words)
            self.seconds[name] = time.perf_counter() - begun
            self.new[name] = self.states()

    def _make_base(self) -> None:
        self.work.mkdir()
        shutil.copytree(SHIPPED / "catalog", self.work / "shelf")
        pack = str(SHIPPED / "packs/marsh-evening")
        self.must("provision", pack, "d", "--catalog", "shelf", "--accept-licence", "--set", "address=127.0.0.1")
        self.must("run", "d", "--trial")
        self.must("update", "d", "--to", str(SHIPPED / "packs/marsh-evening-1.3"))
        self.must("run", "d", "--trial")
        self.must("update", "d", "--to", pack)
        self.must("backup", "d")
        self.must("set", "d", "max_players=11")
        (self.work / "d/marshes/oldfen/hut.txt").write_text("built by fifty people")
        (self.work / "d/config/heronwatch.properties").write_text("# mine\nwatch.minutes = 6\n")
        subprocess.run(["cp", "-a", str(self.work), str(self.base)], check=True)

    def again(self) -> None:
        shutil.rmtree(self.work)
        subprocess.run(["cp", "-a", str(self.base), str(self.work)], check=True)

    def run(self, *words: str, prefix: tuple[str, ...] = ()) -> "subprocess.CompletedProcess[str]":
        command = [*prefix, *PROGRAM, *words, "--json"]
        return subprocess.run(
            command, cwd=self.work, env=self.environment, capture_output=True, text=True, stdin=subprocess.DEVNULL
        )

    def must(self, *words: str) -> None:
        done = self.run(*words)
        if done.returncode:
            sys.exit(f"rhizon {' '.join(words)}: {done.stdout}{done.stderr}")

    def states(self) -> dict[str, dict[str, bytes]]:
        """Every file of both instances."""
        return {name: tree(self.work / name) for name in ("d", "e")}

    def wrong(self, name: str) -> str:
        """After a command was killed or failed: what the next one left that it should not, or nothing."""
        after = self.run("backup", "d")
        if after.returncode or "stumbled" in after.stdout:
            return f"the next command: {after.stdout}"
        if name == "provision":
            again = self.run(*COMMANDS[name])
            if again.returncode:
                return f"provision again: {again.stdout}"
            return differs(self.without_world(self.states()["e"]), self.without_world(self.new[name]["e"]))
        now = self.states()["d"]
        to_old, to_new = differs(now, self.old["d"]), differs(now, self.new[name]["d"])
        if to_old and to_new:
            return f"neither the old state ({to_old}) nor the new one ({to_new})"
        listed = json.loads(self.run("list").stdout)["result"]
        held = next(one["ports"] for one in listed if one["folder"].endswith("/d"))
        return "" if held else "the ledger has lost its ports"

    @staticmethod
    def without_world(files: dict[str, bytes]) -> dict[str, bytes]:
        """What a world holds is the server's own doing, and the licence was accepted at another time."""
        return {
            name: re.sub(rb"accepted_at = .*", b"", data)
            for name, data in files.items()
            if not name.startswith("marshes/")
        }


def tree(folder: Path) -> dict[str, bytes]:
    return {
        name: path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_file() and not PASSING.match(name := path.relative_to(folder).as_posix())
    }


def differs(one: dict[str, bytes], other: dict[str, bytes]) -> str:
    names = sorted(name for name in {*one, *other} if one.get(name) != other.get(name))
    return ", ".join(names[:6])


def kills(trial: Trial, count: int, chance: random.Random) -> int:
    wrong = 0
    ended: dict[str, int] = {}
    for number in range(count):
        name = chance.choice(list(COMMANDS))
        trial.again()
        process = subprocess.Popen(
            [*PROGRAM, *COMMANDS[name], "--json"],
            cwd=trial.work, env=trial.environment, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL,
        )  # fmt: skip
        time.sleep(chance.uniform(0.1, 1.0) * trial.seconds[name])
        process.send_signal(signal.SIGKILL)
        ended[name] = ended.get(name, 0) + (process.wait() == -signal.SIGKILL)
        time.sleep(0.6 if name == "provision" else 0)  # a server that was just starting sees that its console is gone
        bad = trial.wrong(name)
        if bad:
            wrong += 1
            print(f"WRONG: kill {number} of {name}: {bad}", flush=True)
    print(f"{count} kills ({', '.join(f'{name} {times}' for name, times in sorted(ended.items()))}): {wrong} wrong")
    return wrong


def faults(trial: Trial, most: int, chance: random.Random) -> int:
    if shutil.which("strace") is None:
        print("strace is not on this machine: no faults were injected")
        return 0
    wrong = tried = 0
    for name, words in COMMANDS.items():
        for calls, error in FAULTS.items():
            trial.again()
            log = trial.work.parent / "calls"
            trace = ("strace", "-f", "-qq", "-o", str(log), "-e", f"trace={calls}")
            trial.run(*words, prefix=trace)
            count = sum("resumed>" not in line for line in log.read_text(errors="replace").splitlines())
            moments = list(range(1, count + 1))
            if most and count > most:
                moments = sorted(chance.sample(moments, most))
            for moment in moments:
                trial.again()
                inject = (*trace, "-e", f"inject={calls}:error={error}:when={moment}")
                done = trial.run(*words, prefix=inject)
                tried += 1
                bad = "a traceback or a bug" if "stumbled" in done.stdout or "Traceback" in done.stderr else ""
                if name == "provision":
                    time.sleep(0.3)
                bad = bad or trial.wrong(name)
                if bad:
                    wrong += 1
                    print(
                        f"WRONG: {name}, {calls} {moment} of {count} gives {error}: {bad}\n  {done.stdout[:300]}",
                        flush=True,
                    )
    print(f"{tried} faults: {wrong} wrong")
    return wrong


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--kills", type=int, default=300)
    parser.add_argument("--faults", type=int, default=0)
    parser.add_argument("--seed", type=int, default=1907)
    parser.add_argument("--only", choices=list(COMMANDS), action="append", help="these commands alone")
    asked = parser.parse_args()
    for name in [one for one in COMMANDS if asked.only and one not in asked.only]:
        del COMMANDS[name]
    chance = random.Random(asked.seed)
    with tempfile.TemporaryDirectory(prefix="rhizon-faults-") as scratch:
        trial = Trial(Path(scratch))
        wrong = kills(trial, asked.kills, chance) if asked.kills else 0
        wrong += faults(trial, asked.faults, chance) if asked.faults >= 0 else 0
    return 1 if wrong else 0


sys.exit(main())
