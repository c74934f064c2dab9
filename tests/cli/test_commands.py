"""Commands whose answers need no server."""

import json
import shutil
import signal
import subprocess
import sys
import unittest

from rhizon.adapters.world import lists
from rhizon.cli.commands import COMMANDS
from rhizon.cli.main import MEANT
from tests.support import CATALOG, LIST, PACK, PROGRAM, Case, jar, not_fast

ROOT = CATALOG.parents[4]


class Answers(Case):
    def test_options_before_the_command(self) -> None:
        for before, after in (
            (("--json", "list"), ("list", "--json")),
            (("-q", "store", "status"), ("store", "status", "-q")),
        ):
            self.assertEqual(self.rhizon(*before).out, self.rhizon(*after).out)
        self.assertEqual(self.rhizon("--json", "frobnicate").error["code"], "usage")
        self.assertEqual((self.rhizon("--json").code, self.rhizon("--quiet").code), (2, 0))

    def test_guesses_lead_to_commands(self) -> None:
        self.assertLessEqual(set(MEANT.values()), COMMANDS.keys())
        self.assertFalse(MEANT.keys() & COMMANDS.keys())

    def test_bare_words_show_their_help(self) -> None:
        for words in (("store",), ("game",), ("catalog",)):
            done = self.rhizon(*words)
            with self.subTest(words):
                self.assertEqual((done.code, done.err), (0, ""))
                self.assertEqual(done.out, self.rhizon(*words, "--help").out)

    @not_fast
    def test_help_and_version_of_everything(self) -> None:
        top = self.rhizon("--help")
        for name in COMMANDS:
            self.assertIn(f"  {name}", top.out)
            done = self.rhizon(name, "--help")
            self.assertEqual(done.code, 0)
            if name not in ("catalog", "game", "machines", "remote", "service", "store"):
                self.assertIn("--json", done.out)
        self.assertRegex(self.rhizon("--version").out, r"^rhizon \d+\.\d+\.\d+\n$")

    def test_inspect(self) -> None:
        rows = (
            ((LIST,), "content list", "10 items for tarnholt"),
            ((PACK,), "pack", "Marsh Evening 1.2.0"),
            ((CATALOG / "archives/eelmarket-1.6.0.jar",), "archive", "needs marshlib >=2.3, <3"),
            ((ROOT / "src/rhizon/games/tarnholt.game.toml",), "game definition", "Tarnholt"),
        )
        for arguments, kind, words in rows:
            with self.subTest(kind):
                done = self.rhizon("inspect", *arguments)
                self.assertEqual(done.code, 0, done.err)
                self.assertIn(words, done.out)
                result = self.rhizon("inspect", *arguments, "--json").result
                self.assertEqual(result["inspected"][0]["kind"], kind)
        table = self.rhizon("inspect", *sorted((CATALOG / "archives").glob("*.jar")))
        self.assertEqual(table.code, 1)  # several archives are one item
        self.assertRegex(table.out, r"otterden +3\.0\.0 .* 21 ")
        self.assertRegex(table.out.splitlines()[3], r"mistpanel .* possible .* !$")
        self.assertIn("Twinhull: mods and plugins are mixed", table.out)
        again = self.rhizon("inspect", CATALOG / "archives")  # a catalog's shelf: several releases are no mistake
        self.assertEqual((again.code, "same-id" in again.out), (0, False))
        below = [line for line in again.out.splitlines() if "in folders below, not read" in line]
        self.assertEqual(len(below), 1)
        rows = {line for line in table.out.splitlines() if line.rstrip(" !").endswith("kB")}
        self.assertGreater(len(rows), 20)
        self.assertLessEqual(rows, set(again.out.splitlines()) | {table.out.splitlines()[0]})

    def test_a_players_own_folder_becomes_a_server(self) -> None:
        mods = self.folder / "mods of mine"
        mods.mkdir()
        for name in (
            "reedlight-2.1.0",
            "sluicegate-3.3.0",
            "fogbank-shaders-1.2.0",
            "quayside-2.2.0",
            "mistpanel-0.2.0",
        ):
            shutil.copy(CATALOG / f"archives/{name}.jar", mods)
        own = ROOT / "tests/placement"
        shutil.copy(own / "client-super-0.jar", mods)
        (mods / "broken.jar").write_bytes(b"PK\x03\x04 and no more")
        made = self.rhizon("provision", mods, "server", "--catalog", CATALOG, "--dry-run", "--json")
        self.assertEqual(made.code, 0, made.err)
        result = made.result
        self.assertEqual(result["lock"]["target"]["loader"], "keelson")
        files = {step["path"] for step in result["steps"]}
        self.assertIn("mods/reedlight-2.1.0.jar", files)
        self.assertEqual({one["id"] for one in result["left_out"]}, {"fogbank-shaders", "client-super-0"})
        told = {(one["code"], one["subject"]) for one in made.json["findings"]}
        self.assertLessEqual(
            {
                ("client-only-code", "client-super-0.jar"),
                ("client-code-reached", "mistpanel-0.2.0.jar"),
            },
            told,
        )
        states = {one["path"]: one["state"] for one in result["folder_files"]}
        self.assertEqual(states.pop("marshlib-2.4.1.jar"), "fetched")
        left_out = {"broken.jar", "client-super-0.jar", "fogbank-shaders-1.2.0.jar", "quayside-2.2.0.jar"}
        self.assertEqual({path for path, state in states.items() if state == "left out"}, left_out)
        self.write(
            "own.list.toml",
            'format = "rhizon-list/1"\nname = "own"\ngame = "tarnholt"\n'
            'archives = ["mods of mine/reedlight-2.1.0.jar"]\n[content]\nreedlight = "*"\n',
        )
        solved = self.rhizon("solve", "own.list.toml", "--catalog", CATALOG, "-o", "own.json", "--json")
        self.assertEqual(solved.code, 0, solved.err)
        lock = json.loads((self.folder / "own.json").read_text())
        self.assertEqual(
            {one["id"]: one["file"]["catalog"] for one in lock["releases"]},
            {"reedlight": "local-archives", "marshlib": "harbour-shelf"},
        )

    def test_runtimes(self) -> None:
        found = self.rhizon("runtimes", "--json").result["runtimes"]
        if not found:
            self.skipTest("no runtime on this machine")
        self.assertEqual({one["answers"] for one in found} - {True, False}, set())
        shown = self.rhizon("runtimes")
        self.assertIn(found[0]["program"].rpartition("/")[2], shown.out)

    def test_names_from_files_do_not_steer_the_terminal(self) -> None:
        about = {"id": "a", "version": "1", "title": "\x1b]0;owned\x07Evil\x1b[2J", "form": 2}
        self.write("evil.jar", jar({"keel/about.json": json.dumps(about)}))
        done = self.rhizon("inspect", "evil.jar")
        self.assertNotIn("\x1b", done.out)
        self.assertIn("Evil", done.out)

    def test_games(self) -> None:
        self.assertEqual([one["id"] for one in self.rhizon("game", "list", "--json").result["games"]], list(lists()))
        shown = self.rhizon("game", "show", "tarnholt")
        for words in ("max_players", "1 to 200", "harbour.berths", "21640", "keel/about.json"):
            self.assertIn(words, shown.out)
        text = (ROOT / "src/rhizon/games/tarnholt.game.toml").read_text("utf-8")
        for change, code, words in (
            (("", ""), 0, "is usable"),
            (('closed = ', '# closed = '), 0, "log.closed"),
            (('requires = "needs"', 'requires = "needs["'), 0, "metadata[0].requires"),
            (('key = "harbour.blurb"', 'key = "harbour.sign"'), 0, "same place"),
            (("max_players", "players_max"), 0, "other games use max_players"),
            (('type = "text"', 'type = "flag"'), 2, "default: yes or no is expected"),
            (("secret = true", ""), 0, "secret = true"),
            (('family = "java"', 'family = "jav"'), 2, "did you mean 'java'"),
        ):  # fmt: skip
            with self.subTest(words):
                self.write("tarnholt.game.toml", text.replace(*change) if change[0] else text)
                done = self.rhizon("game", "check", "tarnholt.game.toml")
                self.assertEqual(done.code, code, done.err)
                self.assertIn(words, done.out + done.err)
        self.write("tarnholt.game.toml", text)
        shown = self.rhizon("game", "check", "tarnholt.game.toml", "--archive", CATALOG / "archives/tollgate-1.1.0.jar")
        self.assertRegex(shown.out, r"requires +harbourwatch \[0\.6,\)")
        self.assertIn("keel/about.json is not in it", shown.out)

    def test_completion_and_quiet(self) -> None:
        self.assertIn("_RHIZON_COMPLETE", self.rhizon("completion", "bash").out)
        self.assertEqual(self.rhizon("game", "list", "--quiet").out, "")
        self.assertIn("no server", self.rhizon("list").out)


class Choosing(Case):
    def test_explain(self) -> None:
        told = self.rhizon("explain", LIST, "marshlib", "--catalog", CATALOG)
        self.assertEqual(told.code, 0, told.err)
        self.assertRegex(told.out, r"\A✓ marshlib 2\.4\.1 is required: list → eelmarket → marshlib\n")
        self.assertIn("otterden 2.4.0: >=2.3", told.out)
        self.assertIn("cannot be removed", told.out)
        result = self.rhizon("explain", LIST, "eelmarket", "--catalog", CATALOG, "--json").result
        self.assertEqual(result["explained"]["wanted_by"], [{"by": "list", "range": "*"}])
        self.assertEqual(result["explained"]["without"], [{"id": "tallybook", "before": "1.0.0", "after": None}])
        newer = self.rhizon("explain", LIST, "otterden", "--catalog", CATALOG, "--json").result["explained"]["newer"]
        self.assertEqual(newer[0]["version"], "3.0.0")
        for name, words in (("marshlyb", "marshlib"), ("quayside", "optional")):
            missing = self.rhizon("explain", LIST, name, "--catalog", CATALOG, "--json")
            self.assertEqual((missing.code, missing.error["code"]), (3, "not-in-solution"))
            self.assertIn(words, json.dumps(missing.error))

    def test_targets_and_their_picture(self) -> None:
        table = self.rhizon("targets", LIST, "--catalog", CATALOG, "--json").result
        first, last = table["rows"][0], table["rows"][-1]
        self.assertEqual((first["target"]["loader_build"], first["fitting"], first["wanted"]), ("3.1.0", 9, True))
        self.assertEqual([cell["id"] for cell in first["cells"] if cell["fit"] != "fits"], ["quayside"])
        self.assertEqual((last["target"]["game_version"], last["wanted"]), ("4.1", False))
        self.write("p.list.toml", LIST.read_text("utf-8").replace('reedlight = ">=2, <3"', 'peatfires = "*"'))
        nearly = self.rhizon("targets", "p.list.toml", "--catalog", CATALOG)
        self.assertIn("peatfires (0.3.0 nearly: it is on the preview channel)", nearly.out)
        drawn = self.rhizon("targets", LIST, "--catalog", CATALOG, "--output", "t.png", "--json")
        if drawn.code == 1 and drawn.error["code"] == "no-matplotlib":
            self.skipTest("Matplotlib is not installed")
        self.assertTrue((self.folder / "t.png").read_bytes().startswith(b"\x89PNG"))

    def test_keep_changes_as_little_as_it_can(self) -> None:
        self.rhizon("solve", LIST, "--catalog", CATALOG, "-o", "old.json")
        lock = json.loads((self.folder / "old.json").read_text())
        lock["releases"] = [
            one | {"version": "2.0.3"}
            if one["id"] == "reedlight"
            else one | {"version": "2.3.0"}
            if one["id"] == "marshlib"
            else one
            for one in lock["releases"]
        ]
        self.write("old.json", json.dumps(lock))
        kept = self.rhizon("solve", LIST, "--catalog", CATALOG, "--close-to", "old.json", "-o", "new.json", "--json")
        versions = {one["id"]: one["version"] for one in kept.result["releases"]}
        self.assertEqual((versions["reedlight"], versions["marshlib"]), ("2.0.3", "2.3.0"))
        self.write("moved.list.toml", LIST.read_text("utf-8").replace('">=2, <3"', '">=2.1, <3"'))
        moved = self.rhizon("solve", "moved.list.toml", "--catalog", CATALOG, "--close-to", "old.json", "--json")
        versions = {one["id"]: one["version"] for one in moved.result["releases"]}
        self.assertEqual((versions["reedlight"], versions["marshlib"]), ("2.1.0", "2.3.0"))

    def test_a_refusal_has_a_core_and_tried_repairs(self) -> None:
        text = LIST.read_text("utf-8").replace('otterden = "*"', 'otterden = ">=3"')
        self.write("strict.list.toml", text.replace('loader = "keelson"', 'loader = "keelson"\nruntime = "17"'))
        done = self.rhizon("solve", "strict.list.toml", "--catalog", CATALOG, "--json")
        self.assertEqual(done.code, 3)
        self.assertEqual(
            done.error["core"], ["strict.list.toml asks for otterden >=3", "otterden 3.0.0 requires Java >=21"]
        )
        kinds = [one["kind"] for one in done.error["repairs"]]
        self.assertEqual(kinds, sorted(kinds, key=["channel", "exclusion", "range", "target", "drop"].index))
        self.assertEqual(kinds, ["range", "target", "drop"])
        self.assertIn("use otterden 2.4.0", done.error["repairs"][0]["text"])


class CatalogCommands(Case):
    def test_the_shipped_catalog_is_current(self) -> None:
        shutil.copytree(CATALOG, self.folder / "c")
        done = self.rhizon("catalog", "build", "c", "--json")
        self.assertEqual((done.code, done.result["written"]), (0, []), done.out)

    def test_build_from_nothing_but_archives(self) -> None:
        shelf = self.folder / "My Shelf!"
        shelf.mkdir()
        for name in ("lanternfish-1.1.0.jar", "fogbank-shaders-1.2.0.jar"):
            shutil.copy(CATALOG / "archives" / name, shelf)
        built = self.rhizon("catalog", "build", shelf, "--json").result
        self.assertEqual((built["name"], built["items"], built["findings"]), ("my-shelf", 2, []))
        item = json.loads((shelf / "tarnholt/items/fogbank-shaders.json").read_text())
        self.assertEqual(item["releases"][0]["placement"], "player")
        self.write(f"{shelf.name}/lanternfish-1.1.0.jar.facts.toml", 'format = "rhizon-facts/1"\nchannel = "draft"\n')
        shutil.copy(shelf / "lanternfish-1.1.0.jar", shelf / "twin.jar")
        self.write(f"{shelf.name}/junk.jar", "junk")
        (shelf / "fogbank-shaders-1.2.0.jar").unlink()
        again = self.rhizon("catalog", "build", shelf, "--json")
        self.assertEqual(again.code, 1)
        codes = sorted(one["code"] for one in again.json["findings"])
        self.assertEqual(codes, ["a-text", "duplicate-release"])
        self.assertFalse((shelf / "tarnholt/items/fogbank-shaders.json").exists())
        self.assertEqual(
            json.loads((shelf / "tarnholt/items/lanternfish.json").read_text())["releases"][0]["channel"], "draft"
        )

    def test_serve_until_a_signal(self) -> None:
        server = subprocess.Popen(
            [*PROGRAM, "catalog", "serve", CATALOG, "--json"],
            env=self.environment(), stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
        )  # fmt: skip
        assert server.stdout is not None
        url = json.loads(server.stdout.readline())["result"]["url"]
        done = self.rhizon("solve", LIST, "--catalog", url, "-o", "x.json")
        self.assertEqual(done.code, 0, done.err)
        server.send_signal(signal.SIGINT)
        _, err = server.communicate(timeout=20)
        self.assertEqual((server.returncode, err), (0, ""))


@not_fast
@unittest.skipUnless(shutil.which("javac"), "javac is not on this machine")
class Samples(unittest.TestCase):
    def check(self, game: str) -> None:
        done = subprocess.run(
            [sys.executable, f"samples/{game}/build.py", "--check"], cwd=ROOT, capture_output=True, text=True
        )
        self.assertEqual(done.returncode, 0, done.stdout + done.stderr)

    def test_the_archives_are_built_from_their_sources(self) -> None:
        version = subprocess.run(["javac", "-version"], capture_output=True, text=True).stdout
        if "javac 17." not in version:
            self.skipTest(f"{version.strip()} may write other class bytes than javac 17")
        self.check("tarnholt")

    def test_native_servers_and_what_they_take(self) -> None:
        self.check("emberline")
        self.check("drovemoor")

    def test_assemblies(self) -> None:
        if shutil.which("mcs") is None:
            self.skipTest("there is no C# compiler on this machine")
        self.check("gloamwick")
