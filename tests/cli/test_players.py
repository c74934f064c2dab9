"""What players get: kits that let them in, and folders that do not; the page in a real browser."""

import json
import os
import random
import shutil
import subprocess
import sys
import time
import unittest
import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, ClassVar

from rhizon.app.choose.kit_file import read_kit
from rhizon.app.reporter import Reporter
from rhizon.app.share.match import seen_folder
from rhizon.core.kit.judge import judge
from rhizon.core.model.kit import KitManifest
from tests.support import CATALOG, PROGRAM, WORLD, Case, java17, not_fast

GAMES = ("tarnholt", "emberline", "gloamwick", "drovemoor")
OTHERS = {
    "tarnholt": ["reedlight-2.0.3.jar", "otterden-3.0.0.jar", "marshlib-2.3.0.jar"],
    "gloamwick": ["gloamwick/fireflies-1.4.0.dll"],
    "emberline": ["emberline/couplings-1.1.0.zip", "emberline/snowplough-0.8.0.zip"],
    "drovemoor": ["drovemoor/droverlib-2.0.zip"],
}
TRIES = 20


def unpacked(archive: Path, folder: Path) -> Path:
    """What players do with a kit: its folder ``game`` is their game's."""
    with zipfile.ZipFile(archive) as kit:
        for name in kit.namelist():
            if name.startswith("game/"):
                kit.extract(name, folder)
    return folder / "game"


class Mutilation:
    """One folder in which one or two things go wrong, as they do."""

    def __init__(self, game: str, manifest: KitManifest, folder: Path, chance: random.Random) -> None:
        self.game, self.folder, self.chance = game, folder, chance
        self.pieces = list(manifest.pieces)
        self.content = folder / self.pieces[0].place.partition("/")[0]
        self.done: list[str] = []

    def go(self) -> str:
        ways: list[Callable[[], object]] = [self.lose, self.cut, self.other, self.second, self.move, self.extra]
        ways += [self.nothing, self.capitals]
        ways += [self.loader, self.build] if self.game in ("tarnholt", "gloamwick") else []
        for way in self.chance.sample(ways, self.chance.choice((1, 1, 2))):
            way()
            self.done.append(way.__name__)
        return " and ".join(self.done)

    def _one(self) -> Path:
        return (
            self.folder / self.chance.choice([one for one in self.pieces if (self.folder / one.place).exists()]).place
        )

    def nothing(self) -> None:
        """All is well."""

    def lose(self) -> None:
        one = self._one()
        shutil.rmtree(one) if one.is_dir() else one.unlink()

    def cut(self) -> None:
        one = self._one()
        file = min(one.rglob("*.*")) if one.is_dir() else one
        if one.is_dir():
            file = next(path for path in sorted(one.rglob("*")) if path.suffix in (".xml", ".txt"))
        os.truncate(file, file.stat().st_size // 2)

    def move(self) -> None:
        one = self._one()
        one.rename(self.folder / one.name)

    def capitals(self) -> None:
        """A name of the player's own, in the same folder."""
        if self.game == "tarnholt":
            one = self._one()
            one.rename(one.with_name(f"My {one.name}"))

    def _lay(self, archive: str) -> Path:
        source = CATALOG / "archives" / archive
        place = self.content / source.name
        if source.suffix == ".zip":
            place = self.content / source.stem
            with zipfile.ZipFile(source) as packed:
                packed.extractall(place)
        else:
            shutil.copyfile(source, place)
        return place

    def other(self) -> None:
        """Another release in the place of the right one."""
        archive = self.chance.choice(OTHERS[self.game])
        name = Path(archive).name.rpartition("-")[0]
        piece = next(one for one in self.pieces if one.id == name)
        there = self.folder / piece.place
        if there.exists():
            shutil.rmtree(there) if there.is_dir() else there.unlink()
        self._lay(archive)

    def second(self) -> None:
        self._lay(self.chance.choice(OTHERS[self.game]))

    def extra(self) -> None:
        """Content of the player's own: of no matter, in the way of the server's, or not allowed."""
        more = {
            "tarnholt": ["ferrybell-1.3.0.jar", "drainworks-1.0.0.jar"],
            "emberline": ["emberline/frosted-panes-1.0.3.zip"],
            "gloamwick": ["gloamwick/tallow-0.5.0.dll"],
            "drovemoor": ["drovemoor/patchwork-dogs-0.3.zip"],
        }
        if self.game != "drovemoor":  # its dogs have no seal: the client would not start, whatever the server runs
            self._lay(self.chance.choice(more[self.game]))

    def loader(self) -> None:
        (self.folder / {"tarnholt": "hull/keelson-player.jar", "gloamwick": "Lampwright.dll"}[self.game]).unlink()

    def build(self) -> None:
        place = {"tarnholt": "hull/about.txt", "gloamwick": "lampwright.txt"}[self.game]
        name = {"tarnholt": "keelson", "gloamwick": "lampwright"}[self.game]
        (self.folder / place).write_text(f"{name} 2.0.0\n")


@not_fast
@unittest.skipUnless(java17() and shutil.which("mono"), "there is no Java 17 or no Mono on this machine")
class Players(Case):
    ports: ClassVar[dict[str, int]]

    def setUp(self) -> None:
        super().setUp()
        self.addCleanup(self.rhizon, "stop", "--all")

    def serve(self, game: str, *more: object) -> int:
        made = self.rhizon(
            *("provision", WORLD / f"{game}.list.toml", game, "--name", game, "--catalog", CATALOG),
            *("--accept-licence", "--set", "address=127.0.0.1", "--start", "--json", *more),
        )
        self.assertEqual(made.code, 0, made.out + made.err)
        port: int = next(iter(made.result["ports"].values()))
        return port

    def joins(self, game: str, port: int, folder: Path) -> Any:
        done = subprocess.run(
            [sys.executable, "-m", "rhizon.world.harbour.player", game, "127.0.0.1", str(port), "Tove", "-", "--folder",
             str(folder)], capture_output=True, text=True, timeout=60,
        )  # fmt: skip
        return json.loads(done.stdout)

    def test_who_can_join_joins_and_who_cannot_is_refused(self) -> None:
        chance = random.Random(6)
        for game in GAMES:
            port = self.serve(game)
            kit = self.folder / f"{game}.zip"
            self.assertEqual(self.rhizon("kit", game, "-o", kit).code, 0)
            manifest, _ = read_kit(kit)
            verdicts = []
            for number in range(TRIES):
                folder = unpacked(kit, self.folder / f"{game}-{number}")
                went = Mutilation(game, manifest, folder, chance).go() if number else "nothing"
                fit = judge(manifest, seen_folder(manifest, folder, Reporter())[0])
                joined = self.joins(game, port, folder)
                with self.subTest(game, went=went):
                    self.assertEqual(fit.verdict == "yes", joined["joined"], (joined["reason"], fit.problems))
                verdicts.append(fit.verdict)
                shutil.rmtree(folder.parent)
            self.assertLessEqual({"yes", "no"}, set(verdicts))

    def test_a_kit_and_what_is_in_it(self) -> None:
        word = self.write("word", "moonlit-fen")
        self.serve("tarnholt", "--secret", f"password={word}")
        kit = self.folder / "kit.zip"
        made = self.rhizon("kit", "tarnholt", "-o", kit, "--contact", "Solveig", "--json").result
        with zipfile.ZipFile(kit) as archive:
            names, whole = archive.namelist(), b"".join(archive.read(name) for name in archive.namelist())
        self.assertNotIn(b"moonlit-fen", whole)
        self.assertNotIn(str(self.folder).encode(), whole)
        self.assertFalse([name for name in names if "heronwatch" in name or "server" in name])  # for servers only
        self.assertFalse([name for name in names if "fogbank" in name])  # it may not be handed on
        fetched = next(one for one in made["parts"] if one["id"] == "fogbank-shaders")
        self.assertEqual((fetched["packed"], fetched["page"]), (False, "https://fogbank.example/shaders"))
        self.assertEqual(names[:3], ["README.txt", "rhizon-kit.json", "rhizon-kit.list.toml"])
        self.rhizon("kit", "tarnholt", "-o", "again.zip")
        self.assertEqual(kit.read_bytes(), (self.folder / "again.zip").read_bytes())
        theirs = unpacked(kit, self.folder / "theirs")
        shutil.copy(CATALOG / "archives/fogbank-shaders-1.2.0.jar", theirs / "mods")  # as they fetch it themselves
        self.assertEqual(self.rhizon("match", kit, theirs, "--json").result["verdict"], "yes")
        few = self.rhizon("kit", "tarnholt", "-o", "few.zip", "--optional", "none", "--json").result
        self.assertFalse([one["id"] for one in few["parts"] if one["optional"]])
        wrong = self.rhizon("kit", "tarnholt", "-o", "x.zip", "--optional", "reedlight", "--json")
        self.assertEqual((wrong.code, wrong.error["code"]), (2, "not-optional"))
        none = self.rhizon("kit", "tarnholt", "-o", "x.zip", "--against", "previous", "--json")
        self.assertEqual(none.error["code"], "nothing-kept")
        # what the list in it says can be solved
        lists = zipfile.ZipFile(kit).read("rhizon-kit.list.toml")
        solved = self.rhizon("solve", self.write("theirs.list.toml", lists), "--catalog", CATALOG, "--json")
        self.assertEqual(solved.code, 0, solved.err)
        # only what changed
        self.assertEqual(self.rhizon("update", "tarnholt", "--without", "otterden", "--stop-first").code, 0)
        less = self.rhizon("kit", "tarnholt", "-o", "less.zip", "--against", kit, "--json").result
        self.assertEqual((less["parts"], less["delete"]), ([], ["mods/otterden-2.4.0.jar"]))
        previous = self.rhizon("kit", "tarnholt", "-o", "p.zip", "--against", "previous", "--json").result
        self.assertEqual(previous["delete"], less["delete"])
        # from a listing to a zip of what they lack
        (theirs / "mods/reedlight-2.1.0.jar").unlink()
        sums = "".join(
            f"{_sha(one)}  {one.relative_to(theirs)}\n" for one in sorted(theirs.rglob("*")) if one.is_file()
        )
        listing = self.write("sums.txt", sums)
        found = self.rhizon("match", kit, listing, "-o", "lacking.zip", "--json")
        self.assertEqual((found.code, [one["id"] for one in found.result["mismatches"]]), (1, ["reedlight"]))
        self.assertEqual(zipfile.ZipFile(self.folder / "lacking.zip").namelist(), ["game/mods/reedlight-2.1.0.jar"])
        self.assertEqual(self.rhizon("match", kit, theirs, "--make-list", "mine.list.toml").code, 1)
        made_list = (self.folder / "mine.list.toml").read_text()
        self.assertIn("# fogbank-shaders is client-only", made_list)
        self.assertNotIn("reedlight", made_list)
        log = "voyage | tarnholt 4.2\nvoyage | hull keelson 3.0.2\nvoyage | carries marshlib 2.4.1\n"
        told = self.rhizon("match", kit, self.write("voyage.txt", log), "--json").result
        self.assertEqual((told["form"], told["mismatches"][0]["kind"]), ("log", "wrong-loader"))

    def test_hostile_folders_and_texts(self) -> None:
        self.serve("drovemoor")
        kit = self.folder / "kit.zip"
        self.rhizon("kit", "drovemoor", "-o", kit)
        folder = unpacked(kit, self.folder / "odd")
        (folder / "loop").symlink_to(folder)
        os.mkfifo(folder / "herds/pipe")
        Path(os.fsdecode(os.fsencode(folder) + b"/\xff\xfe.txt")).write_text("x")
        for number in range(3000):
            (folder / f"junk-{number}").touch()
        self.assertEqual(self.rhizon("match", kit, folder, "--json").result["verdict"], "yes")
        evil = self.write("evil.txt", "\x1b]0;owned\x07<script>alert(1)</script>\n" * 3 + "../../etc/passwd\n")
        seen = self.rhizon("match", kit, evil)
        self.assertNotIn("\x1b", seen.out)
        self.assertEqual(seen.code, 1)
        broken = self.write("broken.zip", kit.read_bytes()[:-40])
        self.assertIn(self.rhizon("match", broken, folder, "--json").code, (1, 2, 4))
        self.assertEqual(self.rhizon("match", kit, self.write("empty", ""), "--json").error["code"], "no-listing")
        other = self.rhizon("match", kit, kit, "--json").result
        self.assertEqual((other["form"], other["verdict"]), ("kit", "yes"))

    def test_the_page(self) -> None:
        port = self.serve("tarnholt")
        page = self.folder / "page"
        made = self.rhizon("page", "tarnholt", "-o", page, "--description", "Mondays at eight", "--json")
        self.assertEqual(made.result["join"], f"127.0.0.1:{port}")
        status = json.loads((page / "status.json").read_text())
        self.assertEqual((status["state"], status["format"]), ("ready", "rhizon-status/1"))
        self.assertEqual(len(list((page / "files").iterdir())), made.result["files"])
        wrong = self.rhizon("page", "tarnholt", "-o", self.folder / "tarnholt", "--json")
        self.assertEqual(wrong.error["code"], "folder-not-ours")
        kit = unpacked(page / "tarnholt-kit.zip", self.folder / "theirs")
        self.in_a_browser(page, kit)
        self.rhizon("stop", "tarnholt")
        self.until(lambda: json.loads((page / "status.json").read_text())["state"] == "stopped")
        self.rhizon("update", "tarnholt", "--without", "otterden")
        again = self.rhizon("page", "tarnholt", "-o", page, "--json").result
        self.assertEqual([one["words"].get("title") for one in again["changes"]], ["Otter Den"])
        self.assertIn("Otter Den is no longer needed", (page / "index.html").read_text())

    def until(self, what: Callable[[], object]) -> None:
        end = time.monotonic() + 30
        while not what():
            self.assertLess(time.monotonic(), end)
            time.sleep(0.1)

    def in_a_browser(self, page: Path, theirs: Path) -> None:
        """The page as it is served and as a file: its verdicts are those of the command."""
        browser = next(_browser(self.folder), None)
        if browser is None:
            return
        server = subprocess.Popen(
            [*PROGRAM, "page", "tarnholt", "-o", str(page), "--listen", "127.0.0.1:0", "--events"], cwd=self.folder,
            env=self.environment(), stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True,
        )  # fmt: skip
        try:
            assert server.stderr is not None
            line = next(line for line in server.stderr if "http://" in line)
            address = line[line.index("http://") :].partition("/ ")[0]
            self.assertEqual(browser.check(address, theirs), ("yes", []))
            self.assertEqual(browser.text("state"), "The server is up.")
            browser.accessible()
            self.assertIn(browser.code_read(), (None, browser.text("address")))
            browser.narrow()
            (theirs / "mods/reedlight-2.1.0.jar").unlink()
            os.truncate(theirs / "mods/otterden-2.4.0.jar", 100)
            (theirs / "hull/about.txt").write_text("keelson 3.0.2\n")
            expected = ("no", ["wrong-loader", "truncated", "missing"])
            self.assertEqual(browser.check(address, theirs), expected)
            lacks = ["hull/about.txt", "hull/keelson-player.jar", "mods/otterden-2.4.0.jar", "mods/reedlight-2.1.0.jar"]
            self.assertEqual(browser.lacking(), [f"game/{one}" for one in lacks])
            self.assertEqual(browser.check(f"file://{page}/index.html", theirs), expected)
            self.assertEqual(browser.text("state"), "Whether the server is up is not known.")
            self.assertEqual(browser.complaints(), [])
        finally:
            browser.close()
            server.terminate()
            server.wait(30)
            assert server.stderr is not None
            server.stderr.close()


def _sha(file: Path) -> str:
    import hashlib

    return hashlib.sha256(file.read_bytes()).hexdigest()


def _browser(folder: Path) -> Iterator["Browser"]:
    """A Chromium that scripts drive, where there is one."""
    if shutil.which("chromium") and shutil.which("chromedriver"):
        try:
            import selenium  # noqa: F401
        except ImportError:
            return
        yield Browser(folder / "downloads")


class Browser:
    """A page in a headless Chromium."""

    def __init__(self, downloads: Path) -> None:
        from selenium import webdriver
        from selenium.webdriver.chrome.service import Service

        downloads.mkdir()
        self._downloads = downloads
        options = webdriver.ChromeOptions()
        options.binary_location = shutil.which("chromium") or ""
        for word in ("--headless", "--no-sandbox", "--disable-gpu", "--window-size=1280,800"):
            options.add_argument(word)
        options.add_experimental_option("prefs", {"download.default_directory": str(downloads)})
        self._driver = webdriver.Chrome(options=options, service=Service(shutil.which("chromedriver")))

    def check(self, address: str, folder: Path) -> tuple[str, list[str]]:
        """The verdict on a folder, and the kinds of what is wrong."""
        self._driver.get(address)
        self._driver.find_element("id", "folder").send_keys(str(folder))
        end = time.monotonic() + 60
        while not self._driver.find_elements("css selector", ".verdict"):
            if time.monotonic() > end:
                raise AssertionError(self.complaints())
            time.sleep(0.1)
        verdict = self._driver.find_element("css selector", ".verdict").get_attribute("data-verdict")
        kinds = [one.get_attribute("data-kind") for one in self._driver.find_elements("css selector", "#result li")]
        return verdict or "", [str(one) for one in kinds]

    def text(self, name: str) -> str:
        return str(self._driver.find_element("id", name).text)

    def lacking(self) -> list[str]:
        """What is in the zip that the page makes of what is missing."""
        self._driver.find_element("id", "get").click()
        end = time.monotonic() + 60
        while not (found := list(self._downloads.glob("*.zip"))) and time.monotonic() < end:
            time.sleep(0.1)
        with zipfile.ZipFile(found[0]) as archive:
            if archive.testzip() is not None:
                raise AssertionError("the zip is damaged")
            return sorted(archive.namelist())

    def code_read(self) -> str | None:
        """What a scanner reads in the picture of the address; None where there is no scanner."""
        if not shutil.which("zbarimg"):
            return None
        picture = self._downloads / "code.png"
        self._driver.find_element("css selector", "[role=img]").screenshot(str(picture))
        done = subprocess.run(["zbarimg", "--raw", "-q", picture], capture_output=True, text=True, check=False)
        return done.stdout.strip()

    def narrow(self) -> None:
        """Nothing is wider than a phone."""
        self._driver.set_window_size(500, 844)
        self._driver.execute_cdp_cmd(
            "Emulation.setDeviceMetricsOverride", {"width": 390, "height": 844, "deviceScaleFactor": 1, "mobile": True}
        )
        wide = self._driver.execute_script("return document.documentElement.scrollWidth")
        self._driver.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})
        if wide > 390:
            raise AssertionError(f"the page is {wide} px wide")

    def accessible(self) -> None:
        """No rule of axe-core is broken, where that is installed (AXE: its script)."""
        script = os.environ.get("RHIZON_AXE", "")
        if not Path(script).is_file():
            return
        self._driver.execute_cdp_cmd("Runtime.evaluate", {"expression": Path(script).read_text("utf-8")})
        found = self._driver.execute_async_script(
            "const done = arguments[0]; axe.run().then((all) => done(all.violations.map((one) => one.id)));"
        )
        if found:
            raise AssertionError(found)

    def complaints(self) -> list[str]:
        """Errors in the console, those of a file that the server does not have left out."""
        return [one["message"] for one in self._driver.get_log("browser") if one["level"] == "SEVERE"]

    def close(self) -> None:
        self._driver.quit()
