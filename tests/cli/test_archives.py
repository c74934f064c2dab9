"""Archives through the real program: folders of them, those that lists and packs bring, and the runtimes they need."""

import json
import os
import shutil
import subprocess
import time
import unittest
import zipfile
from pathlib import Path
from unittest import mock

from rhizon.adapters.places import Places
from rhizon.adapters.scans import Scans
from rhizon.app.archives import scan as archives
from rhizon.app.archives import scan_part, scanned_file
from rhizon.app.host import Host
from tests.support import CATALOG, NO_JAVA, PACK, PROGRAM, TARNHOLT, Case, jar, java17, not_fast

HEAD = 'format = "rhizon-list/1"\nname = "x"\ngame = "tarnholt"\n'


def mod(ident: str, **fields: object) -> bytes:
    about = {"id": ident, "version": "1.0", "form": 2, "keelson": "*"} | fields
    return jar({"keel/about.json": json.dumps(about)})


PLACEMENT = Path(__file__).parents[1] / "placement"


class Sources(Case):
    def lock_of(self, source: object, *more: object) -> dict[str, str]:
        done = self.rhizon("solve", source, "--catalog", CATALOG, "-o", "made.json", *more)
        self.assertEqual(done.code, 0, done.err)
        lock = json.loads((self.folder / "made.json").read_text())
        return {one["id"]: f"{one['version']} {one['file']['catalog']}" for one in lock["releases"]}

    def test_a_pack_brings_archives(self) -> None:
        shutil.copytree(PACK, self.folder / "pack")
        self.write("pack/archives/lamplighter.jar", mod("lamplighter", needs={"marshlib": ">=2"}))
        described = self.folder / "pack/rhizon-pack.toml"
        described.write_text(described.read_text().replace("[content]", '[content]\nlamplighter = "1.0"'))
        folder = self.lock_of("pack")
        self.assertEqual(folder["lamplighter"], "1.0 local-archives")
        self.assertEqual(folder["marshlib"], "2.4.1 harbour-shelf")
        with zipfile.ZipFile(self.folder / "pack.rhz", "w") as made:
            for file in sorted((self.folder / "pack").rglob("*")):
                made.write(file, file.relative_to(self.folder / "pack"))
        self.assertEqual(self.lock_of("pack.rhz"), folder)
        self.write("pack/stray/x.jar", b"x")
        stray = self.rhizon("solve", "pack", "--catalog", CATALOG, "--json")
        self.assertEqual((stray.code, stray.error["code"]), (2, "pack-stray-files"))

    def test_the_target_is_the_one_that_most_agree_on(self) -> None:
        for number in range(3):
            self.write(f"mods/own{number}.jar", mod(f"own{number}", tarnholt="4.1"))
        self.write("mods/newest.jar", mod("newest", tarnholt="4.2"))
        self.write("mods/twice-1.jar", mod("twice", tarnholt="4.1"))
        self.write("mods/twice-2.jar", mod("twice", tarnholt="4.1", version="1.2"))
        self.write("mods/lonely.jar", mod("lonely", needs={"no-such-thing": "*"}))
        done = self.rhizon("solve", "mods", "--catalog", CATALOG, "--dry-run", "--json")
        result = done.result
        self.assertEqual(result["target"]["game_version"], "4.1")
        self.assertEqual(
            {one["id"]: one["version"] for one in result["releases"]},
            {"own0": "1.0", "own1": "1.0", "own2": "1.0", "twice": "1.2"},
        )
        why = {one["id"]: one["reason"] for one in result["dropped"]}
        self.assertIn("is for Tarnholt 4.2", why["newest"])
        self.assertIn("no-such-thing", why["lonely"])
        self.assertEqual(
            {(one["path"], one["state"], one["why"].partition(":")[0]) for one in result["folder_files"]},
            {
                *((f"own{number}.jar", "taken", "") for number in range(3)),
                ("twice-2.jar", "taken", ""),
                ("twice-1.jar", "left out", "twice-2.jar is newer"),
                ("newest.jar", "left out", "it does not fit"),
                ("lonely.jar", "left out", "it does not fit"),
            },
        )

    maxDiff = None

    def test_every_file_of_a_folder_is_accounted_for(self) -> None:
        lamps = mod("fen-lamps")
        self.write("mods/fen-lamps-1.0.jar", lamps)
        self.write("mods/fen-lamps-1.0 (1).jar", lamps)
        self.write("mods/heron-2.0.jar", mod("FenRushes", needs={"ReedLight": "*"}))
        self.write("mods/page.jar", "<!doctype html><title>Sign in</title>")
        self.write("mods/plain.jar", jar({"a.txt": "1"}))
        self.write("mods/shade.jar", mod("shade", side="player"))
        self.write("mods/off.jar.disabled", mod("off"))
        self.write("mods/old/old.jar", mod("old"))
        self.write("mods/notes.txt", "lamps")
        shutil.copy(CATALOG / "archives/drovemoor/longhorns-1.5.zip", self.folder / "mods")
        made = self.rhizon("provision", "mods", "server", "--catalog", CATALOG, "--dry-run", "--json")
        self.assertEqual(made.code, 0, made.err)
        found = {one["path"]: (one["state"], one["why"]) for one in made.result["folder_files"]}
        page = "it is a web page with the title 'Sign in': the site answered with a page and not with the file"
        self.assertEqual(
            found,
            {
                "fen-lamps-1.0.jar": ("taken", ""),
                "heron-2.0.jar": ("taken", ""),
                "fen-lamps-1.0 (1).jar": ("left out", "the same bytes as fen-lamps-1.0.jar"),
                "page.jar": ("left out", page),
                "plain.jar": ("left out", "no metadata of a loader; describe it: rhizon catalog describe FILE"),
                "shade.jar": ("left out", "for players only"),
                "longhorns-1.5.zip": ("left out", "for Drovemoor"),
                "old/old.jar": ("left out", "in a folder below"),
                "off.jar.disabled": ("left out", "disabled by its ending"),
                "notes.txt": ("left out", "not an archive"),
                "reedlight-2.1.0.jar": (*("fetched", "fenrushes needs it; from harbour-shelf; players need it too"),),
                "marshlib-2.4.1.jar": ("fetched", "reedlight needs it; from harbour-shelf; players need it too"),
            },
        )
        named = [one["subject"] for one in made.json["findings"] if one["code"] == "name-and-content"]
        self.assertEqual(named, ["heron-2.0.jar"])
        self.write(
            "own.list.toml",
            'format = "rhizon-list/1"\nname = "own"\ngame = "tarnholt"\n'
            'archives = ["mods/heron-2.0.jar"]\n[content]\nFenRushes = "*"\n',
        )
        again = self.rhizon("solve", "own.list.toml", "--catalog", CATALOG, "--dry-run", "--json")
        self.assertEqual({one["id"] for one in again.result["releases"]}, {"fenrushes", "reedlight", "marshlib"})

    def test_a_pack_under_a_folder_or_another_ending(self) -> None:
        pack = {one.name: one.read_text() for one in PACK.iterdir() if one.is_file()}
        self.write("evening.zip", jar({f"evening/{name}": text for name, text in pack.items()} | {"__MACOSX/._x": "x"}))
        for name, text in pack.items():
            self.write(f"evening/marsh/{name}", text)
        for source in ("evening.zip", "evening"):
            self.assertEqual(self.rhizon("inspect", source, "--json").result["inspected"][0]["kind"], "pack")
            done = self.rhizon("solve", source, "--catalog", CATALOG, "--dry-run", "--json")
            self.assertEqual((done.code, done.result["name"]), (0, "marsh-evening"))
        self.write("lone.jar", mod("lone"))
        self.assertEqual(self.rhizon("solve", "lone.jar", "--dry-run", "--json").error["code"], "archive-as-source")

    def test_wrong_ones(self) -> None:
        self.write("mods/readme.txt", "hello")
        self.write("mods/strange.jar", jar({"x.txt": "1"}))
        self.write(
            "list.list.toml",
            HEAD + 'archives = ["gone"]\n[content]\n',
        )
        for arguments, code in (
            (("solve", "mods"), "no-archives"),
            (("solve", "mods", "--game", "tarnhold"), "unknown-game"),
            (("solve", "list.list.toml"), "no-such-file"),
            (("inspect", "mods", "--game", "tarnhold"), "unknown-game"),
        ):
            extra = ("--catalog", CATALOG) if arguments[0] == "solve" else ()
            done = self.rhizon(*arguments, *extra, "--json")
            self.assertEqual((done.code, done.error["code"]), (2, code))

    def test_an_archive_is_read_once(self) -> None:
        file = self.write("mods/own.jar", mod("own", side="server"))
        host = Host(Places(self.folder / "state", self.folder / "state", self.folder / "state", self.folder / "config"))
        [first] = archives.scan_files(host, [file], [TARNHOLT])
        with mock.patch.object(scanned_file, "scan", side_effect=AssertionError("it was read again")):
            [again] = archives.scan_files(host, [file], [TARNHOLT])
            other = file.rename(file.with_name("renamed.jar"))
            [renamed] = archives.scan_files(host, [other], [TARNHOLT])
        assert first.archive is not None and renamed.archive is not None
        self.assertEqual(first, again)
        self.assertEqual((renamed.archive.source, renamed.archive.placement), ("renamed.jar", "server"))
        (self.folder / "state/archive-facts.sqlite3").write_bytes(b"no database" * 999)
        self.assertEqual(archives.scan_files(host, [other], [TARNHOLT])[0].archive, renamed.archive)

    def test_many_are_read_by_several_processes_to_the_same_facts(self) -> None:
        files = sorted(PLACEMENT.glob("lib-*.jar"))
        alone = archives.scan_files(Host(Places(*(self.folder / "a" for _ in range(4)))), files, [TARNHOLT])
        host = Host(Places(*(self.folder / "b" for _ in range(4))))
        with mock.patch.multiple(scan_part, WORTH_BYTES=0, processors=lambda: 3):
            with scan_part.shared_out(host.places.scans, files, [TARNHOLT]) as order:
                self.assertEqual(set(order), set(files))
                self.assertNotEqual(order, files, "some are for the other processes")
                deadline = time.monotonic() + 60
                theirs = order[len(files) // 3 :]
                while not Scans(host.places.scans, [TARNHOLT]).has(theirs[-1]) and time.monotonic() < deadline:
                    time.sleep(0.05)
            self.assertTrue(Scans(host.places.scans, [TARNHOLT]).has(theirs[-1]), "another process read it")
            self.assertEqual(archives.scan_files(host, files, [TARNHOLT]), alone)

    def test_a_facts_file_corrects_what_an_archive_says(self) -> None:
        shutil.copy(PLACEMENT / "lambda-not-run-0.jar", self.write("shelf/archives/x", "").parent)
        built = self.rhizon("catalog", "build", "shelf", "--json")
        self.assertEqual([one["code"] for one in built.json["findings"]], ["client-code-reached"])
        self.write(
            "shelf/archives/lambda-not-run-0.jar.facts.toml", 'format = "rhizon-facts/1"\nplacement = "server"\n'
        )
        self.assertEqual(self.rhizon("catalog", "build", "shelf", "--json").json.get("findings", []), [])
        item = json.loads((self.folder / "shelf/tarnholt/items/lambda-not-run-0.json").read_text())
        self.assertEqual((item["releases"][0]["placement"], item["releases"][0]["runtime"]), ("server", ">=17"))
        self.assertEqual(self.rhizon("catalog", "build", "shelf", "--json").result["written"], [])


@unittest.skipUnless(java17(), NO_JAVA)
class Described(Case):
    def test_a_person_describes_an_archive_that_says_nothing(self) -> None:
        mods = self.folder / "mods"
        mods.mkdir()
        (mods / "Old Mill-1.2.jar").write_bytes(jar({"a.txt": "x"}))
        said = {"form": 2, "id": "LampYard", "version": "1.2.3 beta 2", "tarnholt": ">=4.2", "keelson": "*"}
        (mods / "lampyard.jar").write_bytes(jar({"keel/about.json": json.dumps(said)}))
        facts = mods / "Old Mill-1.2.jar.facts.toml"
        shown = self.rhizon(
            "catalog", "describe", mods / "Old Mill-1.2.jar", "--game", "tarnholt", "--dry-run", "--json"
        )
        self.assertEqual((shown.code, facts.exists()), (0, False), shown.err)
        self.assertEqual(shown.result["open"], ["title", "placement", "game_versions", "runtime"])
        self.assertEqual(self.rhizon("catalog", "describe", mods / "Old Mill-1.2.jar", "--game", "tarnholt").code, 0)
        self.assertEqual(facts.read_text(), shown.result["text"])
        again = self.rhizon("catalog", "describe", mods / "Old Mill-1.2.jar", "--json")
        self.assertEqual((again.code, again.json["error"]["code"]), (2, "facts-file-exists"))
        facts.write_text(facts.read_text().replace('# placement = ""', 'placement = "server"'))
        seen = self.rhizon("inspect", mods, "--json")
        self.assertEqual((seen.code, seen.json["findings"]), (0, []))
        made = self.rhizon("provision", mods, "server", "--catalog", CATALOG, "--dry-run", "--json")
        self.assertEqual(made.code, 0, made.err)
        releases = {(one["id"], one["version"], one["placement"]) for one in made.result["lock"]["releases"]}
        self.assertEqual(releases, {("old-mill", "1.2", "server"), ("lampyard", "1.2.3-beta.2", "shared")})
        facts.write_text("format = 3\n")
        self.assertEqual(self.rhizon("inspect", mods).code, 1)
        self.assertEqual(self.rhizon("provision", mods, "server", "--catalog", CATALOG, "--dry-run").code, 2)

    def test_archives_of_a_folder_are_one_class_path(self) -> None:
        mods = self.folder / "mods"
        mods.mkdir()
        for name in ("lib-super-client-0", "lib-super-client-0-lib"):
            shutil.copy(PLACEMENT / f"{name}.jar", mods)
        alone = self.rhizon("inspect", mods / "lib-super-client-0.jar", "--json")
        self.assertEqual([one["code"] for one in alone.json["findings"]], [])
        for _ in range(2):  # read, and remembered
            beside = self.rhizon("inspect", mods, "--json")
            self.assertEqual([one["code"] for one in beside.json["findings"]], ["client-only-code"])
            self.assertIn("(lib-super-client-0-lib.jar) → tarnholt.client.Screen", beside.json["findings"][0]["what"])


@not_fast
class OnARealServer(Case):
    def test_plugins_and_mods_on_a_hybrid_loader(self) -> None:
        content = "".join(f'{name} = "*"\n' for name in ("reedlight", "tollgate", "ferrybell"))
        target = '[target]\ngame_version = "4.2"\nloader = "twinhull"\nruntime = "17"\n'
        self.write("h.list.toml", f"{HEAD}{target}[content]\n{content}")
        made = self.rhizon(
            "provision",
            "h.list.toml",
            "h",
            "--catalog",
            CATALOG,
            "--accept-licence",
            "--set",
            "address=127.0.0.1",
            "--json",
        )
        self.assertEqual(made.code, 0, made.out + made.err)
        plugins = sorted(one.name for one in (self.folder / "h/plugins").iterdir())
        self.assertEqual(plugins, ["harbourwatch-0.6.1.jar", "tollgate-1.1.0.jar"])
        run = subprocess.run(
            [*PROGRAM, "run", "h"], cwd=self.folder, env=self.environment(), input="stop\n",
            capture_output=True, text=True, timeout=120,
        )  # fmt: skip
        self.assertEqual(run.returncode, 0, run.stdout + run.stderr)
        self.assertRegex(run.stdout + run.stderr, r"gates open on port \d+ with 5 pieces")

    def test_the_runtime_that_was_named_and_those_that_are_none(self) -> None:
        real = java17()
        if real is None:
            self.skipTest(NO_JAVA)
        self.write("mods/own.jar", mod("own"))
        fake = self.write("fake/bin/java", "#!/bin/sh\necho hello\n")
        fake.chmod(0o755)
        older = self.write("older/bin/java", "#!/bin/sh\nprintf '    java.specification.version = 11\\n' >&2\n")
        older.chmod(0o755)
        common = ("provision", "mods", "d", "--catalog", CATALOG, "--dry-run", "--json")
        made = self.rhizon(*common, "--runtime", Path(real).parents[1])
        self.assertEqual(made.result["runtime"]["program"], real)
        self.assertIn("Tarnholt 4.2 runs on >=17", made.result["runtime_why"])
        for program, code in (("fake", "no-runtime"), ("nowhere", "no-runtime"), ("older/bin/java", "no-target")):
            done = self.rhizon(*common, "--runtime", program)
            self.assertEqual(done.error["code"], code)

    def test_a_runtime_that_cannot_be_fetched(self) -> None:
        self.write("mods/own.jar", mod("own"))
        self.write("l.list.toml", 'format = "rhizon-list/1"\nname = "x"\ngame = "tarnholt"\narchives = ["mods"]\n'
                   '[target]\nruntime = "21"\n[content]\nown = "*"\n')  # fmt: skip
        known = [one["major"] for one in self.rhizon("runtimes", "--json").result["runtimes"]]
        if 21 in known:
            self.skipTest("Java 21 is on this machine")
        away = {"PIP_INDEX_URL": "http://127.0.0.1:9/simple", "PIP_CONFIG_FILE": os.devnull, "PIP_RETRIES": "0"}
        done = subprocess.run(
            [*PROGRAM, "provision", "l.list.toml", "d", "--catalog", str(CATALOG), "--runtime", "fetch", "--json"],
            cwd=self.folder, env={**self.environment(), **away, "PIP_EXTRA_INDEX_URL": "", "PIP_FIND_LINKS": ""},
            capture_output=True, text=True, timeout=120,
        )  # fmt: skip
        self.assertEqual(json.loads(done.stdout)["error"]["code"], "runtime-not-fetched", done.stdout)
        self.assertEqual(done.returncode, 5)
        self.assertFalse((self.folder / "d").exists())
        self.assertEqual(list((self.folder / "state/runtimes").iterdir()), [])
