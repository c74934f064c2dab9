"""Rules by tables: what a server and its machine look like, and what is foretold; and what a settings file's bytes show."""

import json
import platform
import shutil
import sys
import unittest
from pathlib import Path
from typing import Any

import msgspec

from rhizon.core.archives.entries import Archive
from rhizon.core.archives.scan import Scanned, scan
from rhizon.core.check.native_libraries import needed_libraries
from rhizon.core.check.native_text import encoding_of, repeated_keys
from rhizon.core.check.observation import (
    ContentFile,
    LastRun,
    Machine,
    NativeFile,
    Observation,
    PortInUse,
    RuntimeSeen,
    WorldHolder,
    WorldSeen,
)
from rhizon.core.check.program_head import HEAD, made_for, own_name
from rhizon.core.check.registry import EVERYTHING, RULES, foreseen
from rhizon.core.finding import Finding
from rhizon.core.model.game import GameDefinition, SettingsTogether, SettingTest, WorldInUse
from rhizon.core.model.instance import Instance
from rhizon.core.model.lock import Lock
from rhizon.core.model.setting import SettingDefinition, SettingPlace, Stored
from rhizon.core.names import RelPath
from tests.app.fakes import read
from tests.core.wrong_documents import EXAMPLES
from tests.support import TARNHOLT, jar

FILE = "marsh.properties"
VALUES = {
    "harbour.berths": "12",
    "net.game": "21640",
    "net.query": "21655",
    "net.bind": "0.0.0.0",
    "marsh.temper": "calm",
}
INSTALLED = EXAMPLES["instance"]["runtime"]
with_ = msgspec.structs.replace


def healthy() -> Observation:
    record = {**EXAMPLES["instance"], "first_start_done": True, "heap_mib": 512}
    record["licence"] = {"accepted_at": "2026-11-25T00:00:00Z", "text_sha256": "0" * 64}
    return Observation(
        folder="/srv/marsh",
        game=TARNHOLT,
        instance=read(Instance, record),
        lock=read(Lock, EXAMPLES["lock"]),
        machine=Machine(
            memory_mib=8000,
            free_bytes=50 << 30,
            open_files=4096,
            addresses=("192.0.2.7",),
            now="2026-11-28T00:00:00Z",
        ),
        native=(
            NativeFile(path=FILE, dialect="properties", values=VALUES),
            NativeFile(path="licence/answer.txt", dialect="properties", values={"answer": "accepted"}),
        ),
        runtime=RuntimeSeen(state="answers", major=INSTALLED["major"], version=INSTALLED["version"]),
        world=WorldSeen(name="oldfen", exists=True, known=True, size=1000),
    )


def settings(**changes: Any) -> dict[str, Any]:
    """A changed settings file beside the licence's answer."""
    file, answer = healthy().native
    values = {**file.values, **changes.pop("values", {})}
    return {"native": (with_(file, values={k: v for k, v in values.items() if v is not None}, **changes), answer)}


CROWD = {"marsh.sight": "20", "harbour.berths": "60"}
HUNGRY = with_(
    TARNHOLT,
    settings_together=(
        SettingsTogether(
            when={"difficulty": SettingTest(one_of=("easy",))},
            least_heap_mib=900,
            what="calm is dear",
            severity="error",
        ),
    ),
)


MARKED = with_(TARNHOLT, world=with_(TARNHOLT.world, in_use=WorldInUse(file=RelPath("open.by"))))
KEELSON, LOCK = TARNHOLT.loaders["keelson"], healthy().lock


def keelson(**changes: Any) -> GameDefinition:
    return with_(TARNHOLT, loaders={**TARNHOLT.loaders, "keelson": with_(KEELSON, **changes)})


SPREAD = with_(
    TARNHOLT,
    settings={
        **TARNHOLT.settings,
        "crowd": SettingDefinition(
            type="integer", meaning="", default=1, store=SettingPlace(file=FILE, key="crowd"),
            also=(SettingPlace(file=FILE, key="crowd.tens", factor=10),),
        ),
    },
)  # fmt: skip
LISTED = keelson(enabled=Stored(file=FILE, key="on.{name}"))
TOLD = keelson(command=("server", "{content}"))
NEEDED = with_(LOCK.releases[0], id="lib", because=("reedlight",))
HOLDER = WorldHolder(file="open.by", state="unknown")


def mod(path: str = "mods/own.jar", placed: bool = False, sha256: str = "1", **about: Any) -> ContentFile:
    facts = {"id": "own", "version": "1.0", "form": 2, "keelson": "*"} | about
    found: Scanned = scan(Archive(jar({"keel/about.json": json.dumps(facts)}), "own.jar"), [TARNHOLT])
    folder = path.rpartition("/")[0]
    return ContentFile(path=path, folder=folder, placed=placed, archive=found, sha256=sha256, findings=found.findings)


def newer_java() -> ContentFile:
    one = mod(placed=True)
    assert one.archive is not None
    return with_(one, archive=with_(one.archive, code=with_(one.archive.code, java_major=21)))


BROKEN = Finding(
    code="empty-file", severity="error", subject="own.jar", what="it is empty", remedy="Download it again."
)
MACHINE = healthy().machine
WORLD = healthy().world
assert WORLD is not None
INSTANCE = healthy().instance
# what differs from a healthy server -> the severities and codes that are foretold
ROWS: tuple[tuple[str, dict[str, Any], str], ...] = (
    ("healthy", {}, ""),
    ("file missing", {"native": (NativeFile(path=FILE, dialect="properties", exists=False),)}, "error settings-file-missing"),
    ("file broken", settings(broken="line 3"), "error native-file-broken"),
    ("UTF-16", settings(encoding="UTF-16"), "error settings-encoding"),
    ("Latin-1", settings(encoding="not UTF-8"), "error settings-encoding"),
    ("mark in properties", settings(encoding="UTF-8 with a byte order mark"), "warning settings-encoding"),
    ("key twice", settings(repeated={"marsh.sight": (3, 9)}), "warning setting-repeated"),
    ("read-only", settings(writable=False), "warning settings-read-only"),
    ("foreign owner", settings(foreign="root"), "warning settings-owner"),
    ("no number", settings(values={"harbour.berths": "many"}), "error setting-refused"),
    ("beyond its range", settings(values={"harbour.berths": "0"}), "error setting-refused"),
    ("no choice", settings(values={"marsh.temper": "wild"}), "error setting-refused"),
    ("a slip", settings(values={"harbour.berths": None, "harbour.bertsh": "9"}), "warning setting-unknown"),
    ("a key of one's own", settings(values={"club.evening": "9"}), ""),
    ("too much at once", settings(values={"marsh.span": "20"} | CROWD), "note settings-together"),
    ("just enough", settings(values={"marsh.span": "16"} | CROWD), ""),
    ("too little for it", {"game": HUNGRY}, "error settings-together"),
    ("licence", {"native": (healthy().native[0], with_(healthy().native[1], values={"answer": "no"}))}, "error licence-reset"),
    ("port word", settings(values={"net.game": "gate"}), "error port-invalid"),
    ("port beyond", settings(values={"net.game": "70000"}), "error port-invalid"),
    ("port privileged", settings(values={"net.game": "80"}), "error port-privileged"),
    ("port privileged, by root", settings(values={"net.game": "80"}) | {"machine": with_(MACHINE, privileged=True)}, ""),
    ("one number for two", settings(values={"net.query": "21640"}), "error port-twice"),
    ("in use", {"ports_in_use": (PortInUse(role="game", number=21640, protocol="tcp", holder="nginx"),)}, "error port-taken"),
    ("in use by itself", {"ports_in_use": (PortInUse(role="game", number=21640, protocol="tcp", holder="x"),), "running": 7}, ""),
    ("foreign address", settings(values={"net.bind": "203.0.113.4"}), "error address-absent"),
    ("own address", settings(values={"net.bind": "192.0.2.7"}), ""),
    ("least heap", {"instance": with_(INSTANCE, heap_mib=64, memory_mib=64)}, "error memory-below-least"),
    ("too much heap", {"machine": with_(MACHINE, memory_mib=600)}, "error memory-short"),
    ("all together", {"machine": with_(MACHINE, granted_mib=9000, servers=4)}, "warning memory-overcommitted"),
    ("a large world", settings(values={"marsh.span": "50"}) | {"instance": with_(INSTANCE, memory_mib=None)}, "warning memory-tight"),
    ("disk full", {"machine": with_(MACHINE, free_bytes=1 << 20)}, "error disk-full"),
    ("disk short", {"machine": with_(MACHINE, free_bytes=100 << 20), "world": with_(WORLD, size=90 << 20)}, "warning disk-short"),
    ("not writable", {"unwritable": ("marshes",)}, "error not-writable"),
    ("open files", {"machine": with_(MACHINE, open_files=256)}, "warning open-files"),
    ("long path", {"folder": "/srv/" + "x" * 250}, "warning long-path"),
    ("clock", {"machine": with_(MACHINE, now="1970-01-01T00:00:09Z")}, "warning clock-off"),
    ("a world from the future", {"world": with_(WORLD, newest="2026-12-24T00:00:00Z")}, "warning clock-off"),
    ("a world of tonight", {"world": with_(WORLD, newest="2026-11-28T23:00:00Z")}, ""),
    ("a program for others", {"programs": {"./host": "ARM64"}, "machine": with_(MACHINE, processor="x86-64")}, "error program-foreign"),
    ("an older program", {"programs": {"./host": "x86", "./x": ""}, "machine": with_(MACHINE, processor="x86-64")}, ""),
    ("a library too few", {"missing_libraries": {"host": ("libtide.so.2",)}}, "error library-missing"),
    ("any program", {"programs": {"./host": "Windows"}}, ""),
    ("runtime gone", {"runtime": RuntimeSeen(state="missing")}, "error runtime-gone"),
    ("runtime silent", {"runtime": RuntimeSeen(state="silent")}, "error runtime-gone"),
    ("runtime no program", {"runtime": RuntimeSeen(state="not executable")}, "error runtime-gone"),
    ("runtime other", {"runtime": RuntimeSeen(state="answers", major=11, version="11")}, "error runtime-other-major"),
    ("runtime newer", {"runtime": RuntimeSeen(state="answers", major=17, version="17.0.99")}, "note runtime-updated"),
    ("variable", {"runtime": with_(healthy().runtime, environment={"JAVA_TOOL_OPTIONS": "-Xmx9g"})}, "warning runtime-environment"),
    ("newer class", {"content": (newer_java(),)}, "error class-too-new"),
    ("fits", {"content": (mod(),)}, ""),
    ("loader build", {"content": (mod(keelson=">=9"),)}, "error wrong-loader-build"),
    ("game version", {"content": (mod(tarnholt="3.0"),)}, "error wrong-game-version"),
    ("game version, placed", {"content": (mod(tarnholt="3.0", placed=True),)}, ""),
    ("for players", {"content": (mod(side="player"),)}, "error for-players-only"),
    ("folder", {"content": (mod(path="plugins/own.jar"),)}, "error wrong-folder"),
    ("clash", {"content": (mod(clashes={"reed": "*"}), mod(id="reed", path="mods/reed.jar", placed=True, sha256="2"))}, "warning content-conflict"),
    ("copy", {"content": (mod(placed=True), mod(path="mods/own (1).jar"))}, "error same-id"),
    ("empty file", {"content": (ContentFile(path="mods/own.jar", folder="mods", placed=False, archive=None, findings=(BROKEN,)),)}, "error empty-file"),
    ("together", {"together": (BROKEN,)}, "error empty-file"),
    ("below, aside", {"in_subfolders": ("mods/a/b.jar",), "disabled": ("mods/c.jar.off",)}, "warning archives-below, note archives-aside"),
    ("a pipe", {"odd_files": ("mods/x.jar",)}, "error odd-file"),
    ("key many times", settings(repeated={"a": (1, 2, 3, 4, 5)}), "warning setting-repeated"),
    ("world elsewhere", {"world": with_(WORLD, name="../../etc", exists=False)}, "error world-broken"),
    ("case", {"folders_by_case": {"Mods": "mods"}}, "warning folder-case"),
    ("leftover", {"other_loaders": {"loader/gunwale.jar": "Gunwale"}}, "warning loader-leftover"),
    ("world gone", {"world": with_(WORLD, exists=False)}, "error world-missing"),
    ("world empty", {"world": with_(WORLD, empty=True)}, "error world-missing"),
    ("world a file", {"world": with_(WORLD, is_folder=False)}, "error world-broken"),
    ("world not writable", {"world": with_(WORLD, writable=False)}, "error not-writable"),
    ("a new world", {"world": with_(WORLD, exists=False, known=False, others=("oldfen",))}, "note world-new"),
    ("newer world", {"world": with_(WORLD, raised_with="9.0")}, "error world-newer"),
    ("several places", settings(values={"crowd": "3", "crowd.tens": "30"}) | {"game": SPREAD}, ""),
    ("places differ", settings(values={"crowd": "3", "crowd.tens": "40"}) | {"game": SPREAD}, "warning setting-places-differ"),
    ("in the list", settings(values={"on.reedlight": "yes"}) | {"game": LISTED}, ""),
    ("not in the list", {"game": LISTED}, "warning content-not-enabled"),
    ("something else in it", settings(values={"on.reedlight": "yes", "on.gone": "yes"}) | {"game": LISTED}, "warning enabled-missing"),
    ("in order", {"game": TOLD, "lock": with_(LOCK, releases=(NEEDED, *LOCK.releases), order=("lib", "reedlight"))}, ""),
    ("out of order", {"game": TOLD, "lock": with_(LOCK, releases=(NEEDED, *LOCK.releases), order=("reedlight", "lib"))}, "error content-order"),
    ("marked", {"game": MARKED, "world": with_(WORLD, holder=HOLDER)}, "error world-in-use"),
    ("marked by one that runs", {"game": MARKED, "world": with_(WORLD, holder=with_(HOLDER, state="runs", pid=7))}, "error world-in-use"),
    ("marked by one that is gone", {"game": MARKED, "world": with_(WORLD, holder=with_(HOLDER, state="gone", pid=7))}, "warning world-mark-left"),
    ("half a world", {"world": with_(WORLD, missing=("marsh.facts",))}, "error world-incomplete"),
    ("half a copy", {"world": with_(WORLD, unfinished=("ground.part",))}, "warning world-incomplete"),
    ("shared world", {"world": with_(WORLD, shared={"fen": False})}, "warning world-shared"),
    ("shared with one that runs", {"world": with_(WORLD, shared={"fen": True})}, "error world-shared"),
    ("older world", {"world": with_(WORLD, raised_with="4.0")}, ""),
    ("last run", {"last_run": LastRun(ready=False, code="out-of-memory", what="memory ran out")}, "note last-run-failed"),
    ("last two runs", {"last_run": LastRun(ready=False, code="x", what="y", again=True)}, "warning last-run-failed"),
    ("last run was ready", {"last_run": LastRun(ready=True)}, ""),
)  # fmt: skip


class Rules(unittest.TestCase):
    def test_each_row(self) -> None:
        fired = set()
        for what, changes, expected in ROWS:
            seen = with_(healthy(), **changes)
            with self.subTest(what):
                found = foreseen(seen)
                self.assertEqual(", ".join(f"{one.severity} {one.code}" for one in found), expected)
                self.assertTrue(all(one.remedy and one.what and one.subject for one in found))
            fired |= {rule for rule in RULES if list(rule.find(seen))}
        never = {rule.find.__name__ for rule in RULES if rule not in fired}
        self.assertEqual(never, set())

    def test_topics(self) -> None:
        self.assertEqual({rule.topic for rule in RULES}, set(EVERYTHING))
        seen = with_(healthy(), unwritable=("marshes",), other_loaders={"x.jar": "X"})
        self.assertEqual([one.code for one in foreseen(seen, ("disk",))], ["not-writable"])


class Programs(unittest.TestCase):
    def test_what_they_were_made_for(self) -> None:
        little = b"\x7fELF\x02\x01" + bytes(12)
        for head, expected in (
            (little + b"\x3e\0", "x86-64"),
            (little + b"\xb7\0", "ARM64"),
            (b"\x7fELF\x02\x02" + bytes(12) + b"\0\x16", "s390x"),
            (little + b"\xff\xff", ""),
            (little, ""),
            (b"MZ\x90", "Windows"),
            (b"\xcf\xfa\xed\xfe", "macOS"),
            (b"#!/bin/sh\n", ""),
            (b"", ""),
        ):
            self.assertEqual(made_for(head), expected, head)
        self.assertEqual([own_name(word) for word in ("AMD64", "aarch64", "abacus")], ["x86-64", "ARM64", ""])
        self.assertEqual(made_for(Path(sys.executable).read_bytes()[:HEAD]), own_name(platform.machine()))


class NativeText(unittest.TestCase):
    def test_encodings(self) -> None:
        text = "harbour.sign = Håvn\n"
        for encoding, said in (
            ("utf-8", "UTF-8"),
            ("utf-8-sig", "UTF-8 with a byte order mark"),
            ("utf-16", "UTF-16"),
            ("utf-16-le", "UTF-16"),
            ("latin-1", "not UTF-8"),
        ):
            self.assertEqual(encoding_of(text.encode(encoding)), said)

    def test_keys_that_are_there_twice(self) -> None:
        for dialect, text, expected in (
            ("properties", "a = 1\nb = 2\na=3\n", {"a": (1, 3)}),
            ("properties", "a = 1\\\na = 2\n# a = 3\n", {}),
            ("ini", "[x]\na = 1\n[y]\na = 2\n", {}),
            ("ini", "[x]\na = 1\nA = 3\na = 2\n", {"x/a": (2, 4)}),
            ("json", '{"a": 1, "b": {"c": 1, "c": 2}, "a": 3}', {"c": (), "a": ()}),
            ("json", "{", {}),
            ("xml", "<a/><a/>", {}),
        ):
            with self.subTest(text):
                self.assertEqual(repeated_keys(dialect, text.encode()), expected)


if __name__ == "__main__":
    unittest.main()


class NativeLibraries(unittest.TestCase):
    def test_what_a_program_needs(self) -> None:
        program = Path(shutil.which("ls") or "/bin/ls")
        data = program.read_bytes() if program.is_file() else b""
        found = needed_libraries(data)
        if found is None:
            self.skipTest("this system's ls is no dynamically linked ELF program")
        self.assertTrue(any(name.startswith("libc.") for name in found.names), found)
        renamed = needed_libraries(data.replace(b"libc.so.6", b"libq.so.6"))
        assert renamed is not None
        self.assertIn("libq.so.6", renamed.names)
        for end in (*range(0, 4096, 37), *range(4096, len(data), 9973)):
            needed_libraries(data[:end])  # damaged: nothing, or what is left, and never an error
        self.assertIsNone(needed_libraries(b"#!/bin/sh\n" * 20))
