"""Three games that are described by data alone, each quite unlike the others: from a catalog to players and back."""

import json
import os
import signal
import time
import zipfile
from pathlib import Path

from tests.support import Case, Done, not_fast

GAMES = Path(__file__).parents[1] / "games"
HEAD = 'format = "rhizon-list/1"\nname = "mine"\ngame = "{game}"\ncatalogs = ["."]\n'


@not_fast
class NewGame(Case):
    """A shelf of one of the games, built into a catalog beside its definition."""

    def archive(self, path: str, files: dict[str, str]) -> None:
        place = self.folder / path
        place.parent.mkdir(parents=True, exist_ok=True)
        with zipfile.ZipFile(place, "w") as made:
            for name, text in files.items():
                facts = zipfile.ZipInfo(name)
                facts.external_attr = (0o755 if text.startswith("#!") else 0o644) << 16
                made.writestr(facts, text)

    def shelf(self, game: str, servers: dict[str, dict[str, str]], more: str = "") -> None:
        own = GAMES / game
        self.write(f"{game}.game.toml", (own / f"{game}.game.toml").read_text())
        text = f'format = "rhizon-shelf/1"\nname = "{game}-shelf"\n{more}'
        programs = {one.name: one.read_text() for one in own.iterdir() if not one.name.endswith(".toml")}
        for version, files in servers.items():
            path = f"server/{version.replace(' ', '-')}.zip"
            self.archive(path, {name: code for name, code in programs.items() if name != "lantern"} | files)
            text += f'[[server]]\ngame = "{game}"\nversion = "{version}"\nfile = "{path}"\n'
        self.write("shelf.toml", text)
        self.good("game", "check", f"{game}.game.toml")
        self.good("catalog", "build", ".")

    def good(self, *words: object, code: int = 0) -> Done:
        done = self.rhizon(*words)
        self.assertEqual(done.code, code, done.out + done.err)
        return done

    def text(self, path: str, encoding: str = "utf-8") -> str:
        return (self.folder / path).read_text(encoding)

    def started(self) -> list[str]:
        """The log of a start and a stop that went well."""
        done = self.good("run", "--trial", "mine", "--json")
        self.assertEqual(done.result["exit_code"], 0)
        self.good("check", "mine")
        return self.text("mine/.rhizon/last-run.log").splitlines()

    def crash_told(self) -> bool:
        """Whether the keeper, and the command that it tells of a crash, have ended."""
        life = json.loads(self.text("mine/.rhizon/life.json"))
        return not Path(f"/proc/{life['keeper']['pid']}").exists()

    def test_saltlode(self) -> None:
        """A described runtime, pairs and a place as arguments, a console at a port, a world in one file, an order
        file, versions with a word before them, a licence that is an argument."""
        servers = {f"build {one}": {"version.txt": f"build {one}", "terms.txt": "Read it."} for one in (20391, 20417)}
        for name, cut, facts, seam in (
            ("deep", "r12", "rests_on=hall @ >=r9\n", "needs=hall\n"),
            ("hall", "r9", "", "x=1\n"),
            ("hall", "r10", "", "x=1\n"),
            ("airy", "r3", "below=zeal\n", "behind=zeal\n"),
            ("zeal", "2024-b", "", "x=1\n"),
            ("later", "r1", "for=>=build 20500\n", "x=1\n"),
        ):
            self.archive(
                f"archives/{name}-{cut}.zip", {"seam.ini": f"seam={name}\ncut={cut}\n{facts}", f"{name}.seam": seam}
            )
        self.shelf("saltlode", servers)
        head = HEAD.format(game="saltlode") + '[target]\ngame_version = ">=build 20400"\n[content]\ndeep = ">=r10"\n'
        settings = '[settings]\nname = "Åses Schacht"\nautosave = 7\nworld_name = "north"\n'
        self.write("mine.list.toml", head + settings)
        done = self.good("provision", "mine.list.toml", "mine", "--accept-licence", "--json")
        shaft = done.result["ports"]["shaft"]
        conf = "; the shaft\n[Shaft]\nsign = Åses Schacht\nsave = 7\n"
        self.assertIn(conf, self.text("mine/lode.conf", "latin-1"))
        self.assertIn(f"told = Åses Schacht at {shaft} (mine)", self.text("mine/lode.conf", "latin-1"))
        arguments = f"#pairs +set\nnorth\n--terms-read\n+set save_seconds 420\n+set shaft {shaft}\n"
        self.assertEqual(self.text("mine/start.args"), arguments)
        log = self.started()
        self.assertEqual(log[-2:], [f"rhizon: the server is ready: tcp port {shaft} answers", "shaft closed"])
        # what another one wants to be behind is put before it, and what is there keeps its place
        self.write("mine.list.toml", head + 'airy = "*"\nzeal = ">=2024-a"\n' + settings)
        self.good("update", "mine")
        self.assertEqual(
            self.text("mine/seams/order.lst").split(), ["hall.seam", "deep.seam", "zeal.seam", "airy.seam"]
        )
        links = self.good("reach", "mine", "--json", code=1).result["links"]
        self.assertEqual((links[0]["holds"], links[0]["fix"]), ("no", "Start it: rhizon start mine"))
        self.good("start", "mine")
        links = self.rhizon("reach", "mine", "--json").result["links"]
        self.assertEqual({one["holds"] for one in links if one["link"] in ("process", "shaft port")}, {"yes"})
        handed = self.good("address", "mine", "--json").result["addresses"]
        self.assertEqual(handed[-1]["join"], f"lode 127.0.0.1 {shaft}")
        self.assertIn("2 players of 8: Aud, Tove", self.good("players", "mine").out)
        self.assertEqual(self.good("console", "mine", "--do", "shout salt").out, "heard\n")
        self.assertIn("paused saving", self.good("backup", "mine").out)
        self.good("stop", "mine")
        for name in ("mines/north.lode", "wages/book.txt"):
            (self.folder / "mine" / name).write_text("flooded")
        self.good("restore", "mine", "--only", "world")
        self.assertEqual(self.text("mine/mines/north.lode"), "lode of build 20417\nsalt\n")
        self.assertEqual(self.text("mine/wages/book.txt"), "Aud 3\n")
        self.good("kit", "mine", "--address", "play.harbour.example", "-o", "kit.zip")
        with zipfile.ZipFile(self.folder / "kit.zip") as kit:
            files = {one for one in kit.namelist() if one.startswith("game/")}
            self.assertEqual(files, {f"game/seams/{one}.seam" for one in ("airy", "deep", "hall", "zeal")})
            self.assertIn("can join (protocol deep): build 20391.", kit.read("README.txt").decode())
        self.write("mine.list.toml", head.replace(">=build 20400", "<build 20400") + settings)
        older = self.good("update", "mine", "--json", code=1)
        self.assertEqual(older.error["code"], "world-is-newer")
        self.write("mine.list.toml", head + 'later = "*"\n' + settings)
        self.assertIn("later", self.good("update", "mine", "--json", code=3).error["message"])

    def test_pellbridge(self) -> None:
        """A launcher, orders by a FIFO, settings as variables, worlds in the server's own folder, content that takes
        the place of the server's files, brings settings and leaves a cache, versions with names alone, conditions."""
        servers = {one: {"season.txt": one, "stones/keystone.txt": "plain\n"} for one in ("thaw", "flood", "frost")}
        self.archive("rope.zip", {"rope/rope.py": "x = 1\n"})
        for name, attributes, more in (
            ("lamp", "", {}),
            ("icicle", 'since="&gt;=frost"', {}),
            ("gilt", "", {"over/stones/keystone.txt": "gilded\n", "wanted/set.txt": "bright\n"}),
        ):
            facts = {"arch.xml": f'<arch id="{name}" rev="1.0" {attributes}/>', "arch/stones.txt": "cut\n"}
            self.archive(f"archives/{name}.zip", facts | more)
        loader = '[[loader]]\ngame = "pellbridge"\nloader = "ropeway"\nbuild = "build 2"\nfile = "rope.zip"\n'
        self.shelf("pellbridge", servers, loader)
        head = HEAD.format(game="pellbridge") + '[target]\nloader = "own"\n[content]\nlamp = "*"\nicicle = "*"\n'
        settings = '[settings]\nname = "Ägirs bridge"\nmode = "guild"\nice = 4\npvp = true\n'
        self.write("mine.list.toml", head + 'gilt = "*"\n' + settings)
        gate = self.good("provision", "mine.list.toml", "mine", "--json").result["ports"]["gate"]
        toll = f'<t:house t:guild="1" gates="{gate}-{gate + 4}">\n    <t:sign>Ägirs bridge</t:sign>'
        self.assertIn(toll, self.text("mine/toll.xml"))
        self.assertEqual(self.text("mine/bridge.env"), f"BRIDGE_ICE=4\nBRIDGE_GATE={gate}\n")
        self.assertEqual(self.text("mine/start.args"), f"-snowballs\n-last {gate + 4}\n")
        log = self.started()
        self.assertIn("gilt is tuned to bright", log)
        self.assertIn("keystone: gilded", log)
        self.assertEqual(log[-1], "the bridge is closed by Åse")
        # a crash of what the launcher left, an order, a stop
        self.good("start", "mine")
        life = json.loads(self.text("mine/.rhizon/life.json"))
        self.assertIn(b"bridge.py", Path(f"/proc/{life['pid']}/cmdline").read_bytes())
        self.good("console", "mine", "--do", "light the lamps")
        self.good("stop", "mine")
        self.assertIn("order: light the lamps", self.text("mine/.rhizon/last-run.log"))
        self.good("set", "mine", "name=Ran's bridge")
        self.good("start", "mine", "--restart", "never")
        os.kill(json.loads(self.text("mine/.rhizon/life.json"))["pid"], signal.SIGKILL)
        until = time.monotonic() + 30
        while (life := json.loads(self.text("mine/.rhizon/life.json")))["state"] != "crashed" or not self.crash_told():
            self.assertLess(time.monotonic(), until, life)
            time.sleep(0.1)
        self.assertEqual(life["exit_code"], 137)
        # content goes, with what was made for it; its settings, which are a person's now, stay
        self.write("mine/tuning/gilt/set.txt", "dull\n")
        self.write("mine.list.toml", head + settings)
        self.good("update", "mine")
        self.assertEqual(self.text("mine/stones/keystone.txt"), "plain\n")
        self.assertFalse((self.folder / "mine/marks/gilt").exists())
        self.assertEqual(self.text("mine/tuning/gilt/set.txt"), "dull\n")
        self.good("undo", "mine")
        self.assertEqual(self.text("mine/marks/gilt/cache.txt"), "cut\n")
        self.assertEqual(self.text("mine/stones/keystone.txt"), "gilded\n")
        # another loader: what is only for the first goes
        self.write("mine.list.toml", (head + settings).replace('"own"', '"ropeway"'))
        self.good("update", "mine")
        self.assertEqual(self.text("mine/start.args"), f"-last {gate + 4}\n")
        self.assertIn("loader: rope/rope.py, snow on", self.started())
        self.good("backup", "mine")
        for path in ("mine/span-upper/built.txt", "mine/crossings/today.txt"):
            (self.folder / path).unlink()
        self.good("restore", "mine", "--only", "world")
        self.assertEqual(self.text("mine/span-upper/built.txt"), "in the frost\n")
        self.assertEqual(self.text("mine/crossings/today.txt"), "3 carts\n")
        refused = self.good("update", "mine", "--json", "--game-version", "flood", code=2)
        self.assertIn("usage", refused.error["code"])

    def test_fogmarket(self) -> None:
        """A console over HTTP, readiness over UDP, a loader that carries the server, an element of a list by its name,
        one setting in three places with units of its own, order by file names, a licence that is a number."""
        stalls = '{\n  "theft": false,\n  "custom": {"kept": 0},\n  "stalls": [\n    {"name": "back", "room": 3},\n'
        stalls += '    {"name": "front", "sign": "A grey market", "room": 12}\n  ]\n}\n'
        servers = {
            one: {"issue.txt": one, "custom.txt": "Weigh fairly.", "stalls.json": stalls}
            for one in ("2024-a", "2024-b")
        }
        self.archive("lantern.zip", {"lantern": (GAMES / "fogmarket/lantern").read_text()})
        for name, lot, more in (
            ("salt", "2024-01-05", ""),
            ("pepper", "2024-03-01", 'needs: {salt: ">=2024-01-01, <2025"}\n'),
            ("apples", "3", 'behind: [zinc]\nmarket: ">=2024-b"\n'),
            ("zinc", "1", ""),
            ("square", "1", "kind: template\n"),
        ):
            self.archive(
                f"archives/{name}.zip", {"ware.yaml": f"ware: {name}\nlot: {lot}\n{more}", "paving.txt": "flat"}
            )
        loader = '[[loader]]\ngame = "fogmarket"\nloader = "lantern"\nbuild = "r12"\nfile = "lantern.zip"\n'
        self.shelf("fogmarket", servers, loader)
        content = '[content]\napples = "*"\npepper = "*"\nzinc = "*"\nsquare = "*"\n'
        settings = (
            '[settings]\nname = "Night market"\nmax_players = 30\nautosave = 3\npvp = true\ndifficulty = "hard"\n'
        )
        settings += 'operators = ["Aud"]\nworld_template = "square"\nworld_name = "west"\n'
        self.write("mine.list.toml", HEAD.format(game="fogmarket") + content + settings)
        self.good("provision", "mine.list.toml", "mine", "--accept-licence")
        told = stalls.replace("false", "true").replace('"kept": 0', '"kept": 1').replace("A grey", "Night")
        self.assertEqual(self.text("mine/stalls.json"), told.replace("12}", "30}"))
        self.assertIn("traders = 30, count_ticks = 3600, theft = 1", self.text("mine/rules.lua"))
        self.assertIn("every_ms: 180005", self.text("mine/night.yaml"))
        self.assertEqual(self.text("mine/wardens.txt"), "# who keeps order\nAud\n")
        wares = sorted(one.name for one in (self.folder / "mine/wares").iterdir())
        self.assertEqual(wares, ["010_zinc.ware", "020_apples.ware", "030_salt.ware", "040_pepper.ware"])
        self.assertIn('{"packed": 4}', self.started())
        self.good("start", "mine")
        self.assertIn("1 player of 30: Aud", self.good("players", "mine").out)
        self.assertIn("paused saving", self.good("backup", "mine").out)
        self.good("stop", "mine")
        self.good("set", "mine", "autosave=4")
        self.assertIn("every_ms: 240005", self.text("mine/night.yaml"))
        # one place that says otherwise is told; a bell that rings for nobody does not keep the server from its end
        self.write("mine/rules.lua", self.text("mine/rules.lua").replace("4800", "1200"))
        found = self.rhizon("check", "mine", "--json").json["findings"]
        self.assertIn("setting-differs", [one["code"] for one in found])
        self.good("set", "mine", "autosave=4")
        self.good("start", "mine")
        self.write("mine/night.yaml", self.text("mine/night.yaml").replace("bell_port", "bell_post"))
        self.good("stop", "mine")

    def test_restored_on_another_machine(self) -> None:
        """A backup and where its catalog is there; or a whole backup, and nothing else, not even the definition."""
        self.archive("archives/hall-r9.zip", {"seam.ini": "seam=hall\ncut=r9\n", "hall.seam": "x=1\n"})
        self.shelf("saltlode", {"build 20417": {"version.txt": "build 20417", "terms.txt": "Read it."}})
        self.write("mine.list.toml", HEAD.format(game="saltlode") + '[content]\nhall = "*"\n')
        self.good("provision", "mine.list.toml", "mine", "--accept-licence")
        self.archive("mods/airy-r3.zip", {"seam.ini": "seam=airy\ncut=r3\n", "airy.seam": "x=1\n"})
        self.write("own.list.toml", HEAD.format(game="saltlode") + 'archives = ["mods"]\n[content]\nairy = "*"\n')
        self.good("provision", "own.list.toml", "own", "--accept-licence", "--name", "own")
        self.assertEqual(self.good("lock", "own", "--output", "own.lock.json", "--json").result["own"], 1)
        (self.folder / "mods").rename(self.folder / "plain")
        self.started()
        ident = self.good("backup", "mine", "--backups", "disk", "--json").result["id"]
        self.good("backup", "mine", "--backups", "whole", "--whole")
        made = {one: self.text(f"mine/{one}", "latin-1") for one in ("lode.py", "seams/hall.seam", "wages/book.txt")}
        (self.folder / "saltlode.game.toml").rename(self.folder / "definition")
        self.rename_shelf("definition")
        for number, (disk, more, code) in enumerate(
            (
                ("disk", (), 2),  # no definition
                ("disk", ("--catalog", "nowhere"), 1),
                ("disk", ("--catalog", "shelf"), 0),
                ("whole", (), 0),
            )
        ):
            for name in ("state", "config"):
                if (self.folder / name).exists():
                    (self.folder / name).rename(self.folder / f"{name}-{number}")
            if number in (1, 2):
                text = (self.folder / "shelf/definition").read_text()
                self.write("config/games/saltlode.game.toml", text)
            with self.subTest(disk=disk, more=more):
                if disk == "whole":
                    dry = self.good("restore", f"again-{number}", "--of", ident, "--backups", disk, "--dry-run")
                    self.assertIn("plan", dry.out)
                    self.assertFalse((self.folder / "config").exists())
                self.good("restore", f"again-{number}", "--of", ident, "--backups", disk, *more, code=code)
                self.assertEqual((self.folder / f"again-{number}").exists(), code == 0)
                if code == 0:
                    got = {one: self.text(f"again-{number}/{one}", "latin-1") for one in made}
                    self.assertEqual(got, made)
                    self.assertIn("no problems", self.good("check", f"again-{number}").out)
        # so does a lock, with one's own archives beside it, or anywhere
        for name, catalogs, code in (("there", (), 0), ("not", (), 5), ("given", ("--catalog", "plain"), 0)):
            (self.folder / "state").rename(self.folder / f"state-{name}")
            shelf = ("--catalog", "shelf", "--accept-licence")
            self.good("provision", "own.lock.json", f"own-{name}", *shelf, *catalogs, code=code)
            self.assertEqual((self.folder / f"own-{name}/seams/airy.seam").exists(), code == 0)
            if name == "there":
                (self.folder / "own.archives").rename(self.folder / "gone.archives")

    def test_described_by_a_folder_and_shared(self) -> None:
        """A definition begun by a server that is there, tried on a copy of it; one that a catalog gives is agreed to by
        its hash, and asked for again when it would run something else."""
        self.shelf("saltlode", {"build 20417": {"version.txt": "build 20417", "terms.txt": "Read it."}})
        self.write("mine.list.toml", HEAD.format(game="saltlode") + "[content]\n")
        self.good("provision", "mine.list.toml", "mine", "--accept-licence")
        self.started()
        tried = self.good("game", "try", "saltlode.game.toml", "--server", "mine", "--loader", "own", "--json").result
        started = tried["started"]
        self.assertEqual((started["exit_code"], started["listening"]), (0, {"shaft": True, "winch": True}))
        self.assertNotEqual(started["lines"], [])
        seen = {one["name"]: one["matches"] for one in tried["patterns"]}
        self.assertEqual((seen["ready"], seen["closed"], seen["content_begin"]), (1, 1, 0))
        made = self.good("game", "new", "salt", "--from", "mine", "--json").result
        self.assertIn("a .py file", made["found"][0])
        self.good("game", "check", "salt.game.toml")
        # a definition that changes another one, and says only that
        self.write("deep.game.toml", 'format = "rhizon-game/1"\nextends = "saltlode"\nid = "deep"\ntitle = "Deep"\n')
        shown = self.good("game", "show", "deep", "--json").result
        self.assertEqual((shown["title"], shown["ports"][0]["default"]), ("Deep", 26110))
        wrong = 'extends = "saltlode"\nformat = "rhizon-game/1"\nid = "deep"\ntitle = 1\n[console.tcp]\nport = "wich"\n'
        self.write("deep.game.toml", wrong)
        told = self.rhizon("game", "check", "deep.game.toml", "--json").error["message"]
        self.assertIn("line 4, title: 1: text is expected", told)
        self.assertIn('for example: title = "Drift Mill"', told)
        # shared through a catalog
        (self.folder / "else").mkdir()
        self.rename_shelf()
        refused = self.rhizon("game", "fetch", "saltlode", "--catalog", "shelf", "--json")
        self.assertEqual((refused.code, refused.result["written"]), (1, ""))
        self.assertIn("the server: {runtime} {runtime_flags} lode.py {arguments}", refused.result["runs"])
        agree = ("--agree", refused.result["sha256"][:12])
        self.good("game", "fetch", "saltlode", "--catalog", "shelf", *agree)
        self.assertTrue((self.folder / "config/games/saltlode.game.toml").is_file())
        shared = self.folder / "shelf/saltlode.game.toml"
        shared.write_text(shared.read_text().replace('"lode.py", "{arguments}"]', '"lode.py", "-x"]'))
        shared.write_text(shared.read_text().replace('"lode.py", "-x"]', '"lode.py", "{arguments}", "-x"]'))
        self.good("catalog", "build", "shelf")
        again = self.rhizon("game", "fetch", "saltlode", "--catalog", "shelf", *agree, "--json")
        self.assertEqual((again.code, again.error["code"]), (4, "not-agreed"))
        changed = self.rhizon("game", "fetch", "saltlode", "--catalog", "shelf", "--json").result
        self.assertEqual(len(changed["new"]), 2)

    def rename_shelf(self, definition: str = "saltlode.game.toml") -> None:
        """Moves the catalog away, so that the definition beside it is found no more."""
        (self.folder / "shelf").mkdir()
        names = {"server", "archives", "saltlode", "shelf.toml", "catalog.json", definition}
        for name in names & {one.name for one in self.folder.iterdir()}:
            (self.folder / name).rename(self.folder / "shelf" / name)
