"""Some of the faults of bench/failures/ on real servers: foretold by `check`, refused by `run`; healthy ones start."""

import importlib.util
import shutil
import unittest
from pathlib import Path
from types import ModuleType

from tests.support import CATALOG, NO_JAVA, WORLD, Case, java17

ROOT = Path(__file__).parents[2]

CHOSEN = (
    "letters for a number",
    "saved as UTF-16",
    "licence answer reset",
    "two roles, one number",
    "foreign address",
    "library removed",
    "another release beside",
    "shaders on a server",
    "for another game version",
    "half a download",
    "world renamed",
    "heap lowered by hand",
    "a mod that fits",
    "line ends of Windows",
)

STARTED_ANYWAY = {  # and then the failure names the setting, by what the rules know
    "foreign address": "marsh.properties: net.bind",
    "two roles, one number": "(udp) is the game port and the query port",
}


def cases() -> ModuleType:
    spec = importlib.util.spec_from_file_location("failure_cases", ROOT / "bench/failures/cases.py")
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


@unittest.skipUnless(java17(), NO_JAVA)
class Failures(Case):
    def test_a_dozen_faults(self) -> None:
        made = self.rhizon(
            *("provision", WORLD / "tarnholt.list.toml", "marsh", "--catalog", CATALOG, "--accept-licence"),
            *("--set", "address=127.0.0.1", "--json"),
        )
        self.assertEqual(made.code, 0, made.err)
        home, whole = self.folder / "marsh", self.folder / "whole"
        shutil.copytree(home, whole, symlinks=True)
        found = cases()
        chosen = [one for one in (*found.FAULTS, *found.HEALTHY) if one.server == "marsh" and one.name in CHOSEN]
        self.assertEqual(len(chosen), len(CHOSEN))
        for case in chosen:
            with self.subTest(case.name):
                self.renew(home, whole)
                case.change(home)
                check = self.rhizon("check", "marsh", "--json")
                codes = [one["code"] for one in check.json["findings"] if case.subject in one["subject"]]
                run = self.rhizon("run", "marsh", "--trial", "--json")
                if case.expect:
                    self.assertTrue(set(codes) & set(case.expect), check.out)
                    self.assertEqual((run.code, run.error["code"]), (1, "start-refused"), run.out)
                    if case.name in STARTED_ANYWAY:
                        failed = self.rhizon("run", "marsh", "--trial", "--anyway", "--json").error
                        self.assertIn(STARTED_ANYWAY[case.name], " ".join(failed["details"]))
                else:
                    self.assertEqual((check.code, run.code), (0, 0), check.out + run.out)
        self.new_world(home, whole)
        self.isolated(home, whole)
        self.developed(home, whole)

    def renew(self, home: Path, whole: Path) -> None:
        shutil.rmtree(home)
        shutil.copytree(whole, home, symlinks=True)

    def new_world(self, home: Path, whole: Path) -> None:
        """A world that the server makes because the known one is gone, or because another name was set, is told."""
        self.renew(home, whole)
        shutil.rmtree(home / "marshes")
        for change, name, severity in ((None, "lightfen", "warning"), ("world_name=newfen", "newfen", "note")):
            if change:
                self.assertEqual(self.rhizon("set", "marsh", change).code, 0)
            ran = self.rhizon("run", "marsh", "--trial", "--anyway", "--json")
            told = [(one["subject"], one["severity"]) for one in ran.json["findings"] if one["code"] == "world-made"]
            self.assertEqual(told, [(f"marshes/{name}", severity)], ran.out)

    def developed(self, home: Path, whole: Path) -> None:
        """Builds of a mod: a good one stays, one that cannot work is refused, and the good one is there again."""
        self.renew(home, whole)
        out = self.folder / "out"
        out.mkdir()
        results = []
        for build in ("clean-0", "client-super-0"):
            shutil.copy(ROOT / f"tests/placement/{build}.jar", out / "own.jar")
            done = self.rhizon("dev", "marsh", out / "*.jar", "--once", "--junit", "result.xml", "--json")
            results.append((done.code, done.result["builds"][0]["result"]))
            found = (home / "mods/own.jar").read_bytes() == (ROOT / "tests/placement/clean-0.jar").read_bytes()
            self.assertTrue(found)
        self.assertEqual(results, [(0, "ready"), (6, "refused")])
        self.assertIn('failures="1"', (self.folder / "result.xml").read_text())

    def isolated(self, home: Path, whole: Path) -> None:
        """A mod that fails is found among the others; the server's own folder is not touched."""
        self.renew(home, whole)
        self.assertEqual(self.rhizon("isolate", "marsh", "--json").result["found"], [])
        shutil.copy(CATALOG / "archives/mistpanel-0.2.0.jar", home / "mods")
        before = {path: path.stat().st_mtime_ns for path in home.rglob("*") if path.is_file()}
        left = self.folder / "state/isolate-999999999-1-killed"
        (left / "1").mkdir(parents=True)
        done = self.rhizon("isolate", "marsh", "--json")
        result = done.result
        self.assertEqual([one.name for one in left.parent.glob("isolate-*")], [], "what a killed run left is removed")
        found = result["found"][0]
        self.assertEqual((done.code, found["ids"], found["files"]), (1, ["mistpanel"], ["mods/mistpanel-0.2.0.jar"]))
        self.assertEqual((found["fails_alone"], found["rest_works"]), (True, True))
        self.assertLessEqual(result["starts"], 8)
        self.assertEqual({path: path.stat().st_mtime_ns for path in home.rglob("*") if path.is_file()}, before)


if __name__ == "__main__":
    unittest.main()
