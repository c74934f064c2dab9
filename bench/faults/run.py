"""Killing, interrupting and failing every command that changes a server: python bench/faults/run.py [--kills N] ...

Three ways, each at moments that strace counts (``-e inject``), since nothing in the program knows of them:

* ``--kills N``: SIGKILL on entry of a write, sync, rename, link, unlink or mkdir (the ledger's too);
* ``--interrupts N``: Ctrl-C at the same places, once and twice;
* ``--faults N``: the call fails (no room, an error of the disk, no permission).

N moments of each command are drawn (0: every one; a negative number: none). Afterwards must hold:

1. commands that read answer, change not one byte, and say the ports that the server's own files say;
2. the server's folder is the old one or the new one, byte for byte, with the world of that state; after an interrupt
   with exit code 7 it is the old one, with 0 the new one;
3. no port that a server has is given to another one;
4. the same command again reaches the goal, and then the ledger says what the folders say.

Exit code 1 when something did not. Needs a Java 17 and strace.
"""

import argparse
import json
import os
import random
import re
import shutil
import sqlite3
import subprocess
import sys
import tempfile
import tomllib
from collections.abc import Callable
from pathlib import Path
from typing import Any, NamedTuple

ROOT = Path(__file__).parents[2]
SHIPPED = ROOT / "src/rhizon/world/harbour"
PROGRAM = [sys.executable, "-m", "rhizon"]
PASSING = re.compile(
    r"\.rhizon/(busy|console|forgotten|last-run\.log|run-before\.log|backups\.json|answer\.json|(kept|measured)/.*)$"
)
CHANGES = "write,pwrite64,fsync,fdatasync,rename,renameat,renameat2,link,linkat,unlink,unlinkat,mkdir,mkdirat,ftruncate"
FAULTS = {
    "write,pwrite64": "ENOSPC",
    "fsync,fdatasync": "EIO",
    "rename,renameat,renameat2": "EACCES",
    "link,linkat": "EACCES",
    "unlink,unlinkat": "EACCES",
    "mkdir,mkdirat": "ENOSPC",
}


class Subject(NamedTuple):
    """A server to try: what it is made from and updated to, its name, world, settings, and the role of its port. Of a
    ``newer`` that is no path, the line with that word is left out of the list."""

    source: str
    newer: str
    name: str
    world: str
    edited: str
    settings: tuple[str, ...]
    role: str


SUBJECTS = {
    "tarnholt": Subject(
        str(SHIPPED / "packs/marsh-evening"), str(SHIPPED / "packs/marsh-evening-1.3"), "marsh-evening",
        "marshes/oldfen", "config/heronwatch.properties", ("max_players=30", "pvp=yes", "name=Low Tide"), "game",
    ),
    "drovemoor": Subject(
        "older.list.toml", "abbeyford", "harbour-drovemoor", "moors/fairfield", "",
        ("max_players=30", "view_distance=12", "operators+=Tove"), "gate",
    ),
    "emberline": Subject(
        "older.list.toml", "snowplough", "harbour-emberline", "countries/lighthouse-line", "",
        ("max_players=30", "operators+=Tove", "name=Low Tide"), "line",
    ),
    "gloamwick": Subject(
        "older.list.toml", "mossmeter", "harbour-gloamwick", "caverns/rope-loft", "",
        ("max_players=30", "operators+=Tove", "name=Low Tide"), "game",
    ),
}  # fmt: skip
# command -> its words, and the folder that it changes
COMMANDS: dict[str, tuple[tuple[str, ...], str]] = {
    "provision": (("provision", "SOURCE", "e", "--accept-licence", "--catalog", "shelf", "--set", "seed=1907"), "e"),
    "update": (("update", "d", "--source", "NEWER"), "d"),
    "set": (("set", "d", "SETTINGS"), "d"),
    "ports": (("ports", "d", "--move", "--port", "ROLE=25777"), "d"),
    "undo": (("undo", "d", "--at", "1", "--with-world"), "d"),
    "restore": (("restore", "d"), "d"),
    "restore-new": (("restore", "f", "--of", "NAME"), "f"),
    "repair": (("repair", "d"), "d"),
    "backup": (("backup", "d"), "d"),
    "forget": (("forget", "d"), "d"),
}
FOLDERS = ("d", "e", "f")


class Trial:
    """A folder ``work`` that is put back before each trial."""

    def __init__(self, scratch: Path, subject: Subject) -> None:
        self.subject = subject
        self.work = scratch / "work"
        self.base = scratch / "base"
        self.environment = {
            **os.environ,
            "RHIZON_STATE": str(self.work / "state"),
            "RHIZON_CONFIG": str(self.work / "config"),
        }
        self.environment.pop("PYTHONDONTWRITEBYTECODE", None)
        self._make_base()
        self.old: dict[str, dict[str, bytes]] = {}
        self.new: dict[str, dict[str, bytes]] = {}
        for name, (words, folder) in COMMANDS.items():
            self.again(name)
            self.old[name] = tree(self.work / folder)
            self.must(*words)
            self.new[name] = tree(self.work / folder)

    def _make_base(self) -> None:
        self.work.mkdir()
        shutil.copytree(SHIPPED / "catalog", self.work / "shelf")
        source, newer = self.subject.source, self.subject.newer
        if source.endswith(".toml"):
            text = (SHIPPED / f"{self.subject.name.removeprefix('harbour-')}.list.toml").read_text()
            (self.work / source).write_text(text)
            (self.work / "newer.list.toml").write_text(re.sub(rf"(?m)^{newer} = .*$", "", text))
        self.must("provision", source, "d", "--catalog", "shelf", "--accept-licence", "--set", "address=127.0.0.1")
        self.must("run", "d", "--trial")
        self.must("update", "d", "--source", newer_of(self.subject))
        self.must("run", "d", "--trial")
        self.must("update", "d", "--source", source)
        when = self.must("backup", "d")["when"]
        if "restore" in COMMANDS:  # the recovery below makes a newer backup
            COMMANDS["restore"] = (("restore", "d", when), "d")
        self.must("set", "d", "max_players=11")
        (self.work / "d" / self.subject.world / "hut.txt").write_text("built by fifty people")
        if self.subject.edited:
            (self.work / "d" / self.subject.edited).write_text("# mine\nwatch.minutes = 6\n")
        subprocess.run(["cp", "-a", str(self.work), str(self.base)], check=True)

    def again(self, name: str) -> None:
        shutil.rmtree(self.work)
        subprocess.run(["cp", "-a", str(self.base), str(self.work)], check=True)
        if name == "repair":
            owned = json.loads((self.work / "d/.rhizon/inventory.json").read_bytes())["files"]
            (self.work / "d" / min(name for name, one in owned.items() if not one.get("edited"))).unlink()
            (self.work / "d/.rhizon/lock.json").write_bytes(b"{")

    def run(self, *words: str, prefix: tuple[str, ...] = ()) -> "subprocess.CompletedProcess[str]":
        command = [*prefix, *PROGRAM, *words, "--json"]
        return subprocess.run(
            command, cwd=self.work, env=self.environment, capture_output=True, text=True, stdin=subprocess.DEVNULL
        )

    def must(self, *words: str) -> Any:
        done = self.run(*words)
        if done.returncode:
            sys.exit(f"rhizon {' '.join(words)}: {done.stdout}{done.stderr}")
        return json.loads(done.stdout)["result"]

    def ports(self) -> dict[str, int]:
        """Every port that the servers' own records give them."""
        found = {}
        for name in FOLDERS:
            record = self.work / name / ".rhizon/instance.toml"
            if record.is_file() and not (record.parent / "forgotten").exists():
                ports = tomllib.loads(record.read_text())["ports"]
                found |= {f"{name} {role}": number for role, number in ports.items()}
        return found

    def ledger(self) -> dict[str, int]:
        """The same as the ledger has it, reservations included, the first number of each block."""
        with sqlite3.connect(self.work / "state/ledger.sqlite3") as db:
            rows = [json.loads(row[0]) for row in db.execute("SELECT entry FROM servers")]
        return {
            f"{Path(row['folder']).name} {lead}{role}": number
            for row in rows
            for lead, ports in (("", row["ports"]), ("soon ", row.get("soon", {})))
            for role, number in ports.items()
            if "+" not in role
        }

    def everything(self) -> dict[str, bytes]:
        """Every byte but those of caches."""
        caches = re.compile(r"(verified|copies|facts)\.sqlite3|runtime-probes|\.pyc$")
        files = (path for path in sorted(self.work.rglob("*")) if path.is_file() and not path.is_symlink())
        return {str(path): path.read_bytes() for path in files if not caches.search(str(path))}

    def wrong(self, name: str, code: int | None) -> str:
        """What does not hold after a command was killed, interrupted (``code`` is how it ended) or failed."""
        words, folder = COMMANDS[name]
        return (
            self._readers(name)
            or self._state(name, folder, code)
            or self._ports_of_another()
            or self._goal(name, words, folder)
        )

    def _readers(self, name: str) -> str:
        before = self.everything()
        listed = self.run("list")
        if listed.returncode:
            return f"list: {listed.stdout}{listed.stderr}"
        for row in json.loads(listed.stdout)["result"]["instances"]:
            settings = self.work / Path(row["folder"]).name / "marsh.properties"
            unfinished = (settings.parent / ".rhizon/journal.json").exists()
            if row["state"] == "stopped" and settings.is_file() and not unfinished and name != "provision":
                written = int(re.search(r"net\.game = (\d+)", settings.read_text())[1])  # type: ignore[index]
                if written != row["ports"]["game"]:
                    return f"list says {row['ports']['game']}, the server's own file {written}"
        for command in (("check", "d"), ("ports",), ("host",)):
            done = self.run(*command)
            if "internal error" in done.stdout or "Traceback" in done.stderr:
                return f"{command}: {done.stdout}{done.stderr}"
        return differs(before, self.everything(), "a command that reads changed ")

    def _state(self, name: str, folder: str, code: int | None) -> str:
        done = self.run("backup", folder)  # a change elsewhere: recovers first
        if done.returncode and folder == "d" and name not in ("forget", "repair"):  # damaged as it was
            return f"the next command: {done.stdout}"
        if name in ("provision", "restore-new"):
            return ""  # the goal is what counts
        now = tree(self.work / folder)
        to_old = differs(now, self.old[name], "")
        to_new = differs(now, self.new[name], "")
        if to_old and to_new:
            return f"neither the old state ({to_old}) nor the new one ({to_new})"
        if (code == 7 and to_old) or (code == 0 and to_new):
            return f"exit code {code}, and not the state that it promises ({to_old or to_new})"
        return ""

    def _ports_of_another(self) -> str:
        kept = {number for key, number in self.ports().items() if key.startswith("d ")}
        probe = self.run("provision", self.subject.source, "probe", "--catalog", "shelf", "--dry-run")
        if probe.returncode:
            return f"another server: {probe.stdout}"
        given = set(json.loads(probe.stdout)["result"]["ports"].values())
        return f"another server would get {given & kept}" if given & kept else ""

    def _goal(self, name: str, words: tuple[str, ...], folder: str) -> str:
        again = self.run(*words)
        done_before = name == "forget" and "no-such-server" in again.stdout
        if again.returncode and not done_before:
            return f"the same command again: {again.stdout}{again.stderr}"
        now, wanted = tree(self.work / folder), self.new[name]
        if name == "provision":
            world = f"{self.subject.world}/"
            now, wanted = without_world(now, world), without_world(wanted, world)
        if name in ("repair", "restore-new", "forget"):  # a record that says when or where
            now = {key: data for key, data in now.items() if not key.startswith(".rhizon/")}
            wanted = {key: data for key, data in wanted.items() if not key.startswith(".rhizon/")}
        elif name == "backup":
            wanted = self.old[name]
        return differs(now, wanted, "not the goal: ") or differs(self.ledger(), self.ports(), "ledger and folders: ")


def newer_of(subject: Subject) -> str:
    return "newer.list.toml" if subject.source.endswith(".toml") else subject.newer


def told(subject: Subject) -> None:
    """Puts the subject's own words into the commands."""
    own = {
        "SOURCE": (subject.source,), "NEWER": (newer_of(subject),), "SETTINGS": subject.settings,
        "ROLE=25777": (f"{subject.role}=25777",), "NAME": (subject.name,),
    }  # fmt: skip
    for name, (words, folder) in COMMANDS.items():
        COMMANDS[name] = (tuple(said for word in words for said in own.get(word, (word,))), folder)


def without_world(files: dict[str, bytes], world: str) -> dict[str, bytes]:
    """The server itself makes a world and draws a key, and the licence was accepted at another time."""
    kept = {name: data for name, data in files.items() if not name.startswith(world) and not name.endswith(".key")}
    return {name: re.sub(rb"accepted_at = .*", b"", data) for name, data in kept.items()}


def tree(folder: Path) -> dict[str, bytes]:
    return {
        name: path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_file() and not PASSING.match(name := path.relative_to(folder).as_posix())
    }


def differs(one: dict[str, Any], other: dict[str, Any], lead: str) -> str:
    names = sorted(name for name in {*one, *other} if one.get(name) != other.get(name))
    return lead + ", ".join(names[:6]) if names else ""


def moments(trial: Trial, name: str, calls: str, most: int, chance: random.Random) -> list[int]:
    """At which of the calls something is to happen."""
    trial.again(name)
    log = trial.work.parent / "calls"
    trial.run(*COMMANDS[name][0], prefix=("strace", "-f", "-qq", "-o", str(log), "-e", f"trace={calls}"))
    lines = log.read_text(errors="replace").splitlines() or [""]
    process = lines[0].partition(" ")[0]  # injection counts for each process by itself
    count = sum(line.startswith(f"{process} ") and "resumed>" not in line for line in lines)
    every = list(range(1, count + 1))
    return sorted(chance.sample(every, most)) if most and count > most else every


def attempt(
    trial: Trial,
    kind: str,
    most: int,
    chance: random.Random,
    rows: list[tuple[str, str]],
    codes: Callable[[int], int | None],
) -> int:
    """Each command with each injection: the calls, and what strace is told to do at one of them."""
    wrong = tried = 0
    for name, (words, _) in COMMANDS.items():
        for calls, action in rows:
            for moment in moments(trial, name, calls, most, chance):
                trial.again(name)
                inject = f"inject={calls}:{action}:when={moment}"
                prefix = ("strace", "-f", "-qq", "-o", "/dev/null", "-e", f"trace={calls}", "-e", inject)
                done = trial.run(*words, prefix=prefix)
                tried += 1
                bad = "a traceback" if "Traceback" in done.stderr else ""
                bad = bad or ("an internal error" if "internal error" in done.stdout else "")
                bad = bad or trial.wrong(name, codes(done.returncode))
                if bad:
                    wrong += 1
                    print(
                        f"WRONG: {kind}: {name}, {action} at {moment} of {calls[:20]}: {bad}\n  {done.stdout[:300]}",
                        flush=True,
                    )
        print(f"  {kind}: {name} done, {tried} so far, {wrong} wrong", flush=True)
    print(f"{tried} {kind}: {wrong} wrong", flush=True)
    return wrong


def main() -> int:
    parser = argparse.ArgumentParser()
    parser.add_argument("--kills", type=int, default=12)
    parser.add_argument("--interrupts", type=int, default=6)
    parser.add_argument("--faults", type=int, default=2)
    parser.add_argument("--seed", type=int, default=1907)
    parser.add_argument("--only", choices=list(COMMANDS), action="append", help="these commands alone")
    parser.add_argument("--game", choices=list(SUBJECTS), default="tarnholt")
    asked = parser.parse_args()
    told(SUBJECTS[asked.game])
    for name in [one for one in COMMANDS if asked.only and one not in asked.only]:
        del COMMANDS[name]
    if shutil.which("strace") is None:
        print("strace is not on this machine: nothing was tried")
        return 0
    chance = random.Random(asked.seed)
    wrong = 0
    with tempfile.TemporaryDirectory(prefix="rhizon-faults-") as scratch:
        trial = Trial(Path(scratch), SUBJECTS[asked.game])
        if asked.kills >= 0:
            wrong += attempt(trial, "kills", asked.kills, chance, [(CHANGES, "signal=KILL")], lambda _code: None)
        if asked.interrupts >= 0:
            rows = [(CHANGES, "signal=INT")]
            wrong += attempt(trial, "interrupts", asked.interrupts, chance, rows, lambda code: code)
        if asked.faults >= 0:
            rows = [(calls, f"error={error}") for calls, error in FAULTS.items()]
            wrong += attempt(trial, "faults", asked.faults, chance, rows, lambda _code: None)
    return 1 if wrong else 0


sys.exit(main())
