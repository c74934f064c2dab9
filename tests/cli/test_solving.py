"""``rhizon solve`` as a person meets it: providers on the server that runs, an end in time, an interrupt."""

import shutil
import signal
import subprocess
import time
from pathlib import Path

from rhizon.app.choose.timed import TimedWatch
from tests.app.fakes import Recorder
from tests.support import CATALOG, PROGRAM, Case, not_fast

HERDS = CATALOG / "archives/drovemoor"
FACTS = 'format = "rhizon-facts/1"\nchannel = "stable"\n'


def facts(folder: Path, archive: str, more: str) -> None:
    """A copy of a shipped archive, with facts of one's own beside it."""
    folder.mkdir(exist_ok=True)
    shutil.copy(HERDS / archive, folder / archive)
    (folder / f"{archive}.facts.toml").write_text(FACTS + more)


@not_fast
class Providers(Case):
    def test_what_stands_in_for_a_need_is_on_the_server(self) -> None:
        """The list wishes for reevecraft alone; it needs oxen-lore, which the dogs provide, and they need droverlib."""
        folder = self.folder / "archives"
        facts(folder, "reevecraft-1.0.zip", 'placement = "shared"\nrequires = [{ id = "oxen-lore" }]\n')
        facts(
            folder, "patchwork-dogs-0.3.zip",
            'provides = [{ id = "oxen-lore", version = "1" }]\nrequires = [{ id = "droverlib" }]\n',
        )  # fmt: skip
        self.write(
            "dogs.list.toml",
            'format = "rhizon-list/1"\nname = "dogs"\ngame = "drovemoor"\narchives = ["archives"]\n'
            '[content]\nreevecraft = "*"\n[settings]\nsignature_check = false\naddress = "127.0.0.1"\n',
        )
        solved = self.rhizon("solve", "dogs.list.toml", "--catalog", CATALOG, "--json").result
        rows = {one["id"]: (one["on_server"], one["for_players"], one["because"]) for one in solved["releases"]}
        self.assertEqual(
            rows,
            {
                "reevecraft": (True, True, ["list"]),
                "patchwork-dogs": (True, True, ["reevecraft"]),
                "droverlib": (True, True, ["patchwork-dogs"]),
            },
        )
        made = self.rhizon("provision", "dogs.list.toml", "dogs", "--catalog", CATALOG, "--accept-licence")
        self.assertEqual(made.code, 0, made.err)
        self.addCleanup(self.rhizon, "stop", "dogs")
        started = self.rhizon("start", "dogs", "--json")
        self.assertEqual(started.code, 0, started.out)
        log = self.rhizon("log", "dogs").out
        for herd in ("droverlib 2.1", "patchwork-dogs 0.3", "reevecraft 1.0"):
            self.assertIn(f"herd {herd} is in", log)


@not_fast
class InTime(Case):
    """A question that no search answers soon: pigeons in one hole too few."""

    PIGEONS = 13

    def setUp(self) -> None:
        super().setUp()
        folder = self.folder / "archives"
        holes = range(self.PIGEONS - 1)
        for pigeon in range(self.PIGEONS):
            ways = ", ".join(f'{{ id = "hole{hole}", range = "{pigeon + 1}" }}' for hole in holes)
            self.archive(folder, f"pigeon{pigeon}", "1", f"requires = [{{ one_of = [{ways}] }}]\n")
            for hole in holes:
                self.archive(folder, f"hole{hole}", str(pigeon + 1), "")

    def archive(self, folder: Path, name: str, version: str, more: str) -> None:
        file = f"{name}-{version}.zip"
        folder.mkdir(exist_ok=True)
        shutil.copy(HERDS / "patchwork-dogs-0.3.zip", folder / file)
        (folder / f"{file}.facts.toml").write_text(
            FACTS + f'id = "{name}"\nversion = "{version}"\nplacement = "shared"\n{more}'
        )

    def list_of(self, optional: str) -> None:
        wishes = "".join(f"pigeon{one} = {{ optional = {optional} }}\n" for one in range(self.PIGEONS))
        self.write(
            "holes.list.toml",
            'format = "rhizon-list/1"\nname = "holes"\ngame = "drovemoor"\narchives = ["archives"]\n'
            f"[content]\n{wishes}",
        )

    def test_an_end_in_time(self) -> None:
        self.list_of("false")
        began = time.monotonic()
        done = self.rhizon("solve", "holes.list.toml", "--catalog", CATALOG, "--wait", "2", "--json")
        self.assertEqual((done.code, done.error["code"]), (3, "solve-gave-up"))
        self.assertIn("within 2 s", done.error["message"])
        self.assertLess(time.monotonic() - began, 30)

    def test_an_interrupt_gives_the_best_so_far(self) -> None:
        self.list_of("true")
        solve = subprocess.Popen(
            [*PROGRAM, "solve", "holes.list.toml", "--catalog", CATALOG, "--wait", "600", "--events"],
            cwd=self.folder, env=self.environment(), stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
        )  # fmt: skip
        assert solve.stderr is not None
        for line in solve.stderr:
            if "of at most" in line:
                break
        solve.send_signal(signal.SIGINT)
        out, _ = solve.communicate(timeout=60)
        self.assertEqual(solve.returncode, 0, out)
        self.assertRegex(out, r"\d+ of 13 optional items are kept, at most \d+ can be")


class TwoCatalogs(Case):
    def test_content_alone_may_come_first_and_what_it_hides_is_said(self) -> None:
        """The first catalog that has an item is the one that is asked for it; server files are another matter."""
        archives = self.folder / "old/archives"
        archives.mkdir(parents=True)
        shutil.copy(next((CATALOG / "archives").glob("reedlight-1.4*.jar")), archives)
        self.assertEqual(self.rhizon("catalog", "build", "old").code, 0)
        catalogs = ("--catalog", "old", "--catalog", CATALOG)
        for wanted, code in (("*", 0), (">=2", 3)):
            self.write(
                "old.list.toml",
                f'format = "rhizon-list/1"\nname = "old"\ngame = "tarnholt"\n[content]\nreedlight = "{wanted}"\n',
            )
            done = self.rhizon("solve", "old.list.toml", *catalogs, "--dry-run", "--json")
            self.assertEqual(done.code, code, done.out)
            if code == 0:
                versions = {one["id"]: one["version"] for one in done.result["releases"]}
                self.assertEqual(versions["reedlight"], "1.4.0")
            else:
                self.assertIn("has reedlight 2.0.3", done.error["details"][-1])


class Watches(Case):
    def test_progress_after_a_second(self) -> None:
        heard: list[str] = []

        class Hearing(Recorder):
            def progress(self, text: str, part: float) -> None:
                heard.append(text)

        watch = TimedWatch(60, Hearing())
        watch.phase("target 1 of 2")
        watch.step(5)
        self.assertEqual(heard, [])
        watch._shown -= 1.5
        watch.step(7, "3 of at most 4 kept")
        self.assertEqual(heard, ["target 1 of 2; 7 conflicts; 3 of at most 4 kept"])
        self.assertFalse(watch.over())
        self.assertTrue(TimedWatch(60, Hearing(), lambda: True).over())
