"""A fifth game, quite unlike the four, described as docs/describe-a-game.md tells: from an empty file to players."""

import os
import socket
import zipfile
from pathlib import Path

from tests.support import Case, not_fast

SERVER = r'''#!/usr/bin/env python3
"""Kilnmere: pots in a mere. It logs JSON, has no console, and ends on SIGINT."""
import json, os, pathlib, re, signal, socketserver, sys, threading, time, zipfile

HERE = pathlib.Path(__file__).resolve().parent
HOUSE = "# the pottery\nsign: A cold kiln\nopen_at: 22870   # and one below it for gossip\nshelf: first\n"
HOUSE += "crew:\n  nobody: false\n"


def say(**event):
    """Nothing is printed: the log is a file with the day in its name."""
    (HERE / "soot").mkdir(exist_ok=True)
    with open(HERE / time.strftime("soot/kiln-%Y%m%d.log"), "a", encoding="latin-1") as log:
        log.write(json.dumps(event, ensure_ascii=False) + "\n")


def cold(code, why, **more):
    say(event="cold", why=why, **more)
    sys.exit(code)


def text(name, fresh):
    path = HERE / name
    if not path.exists():
        path.write_text(fresh)
    return path.read_text()


house = dict(re.findall(r"(?m)^(\w+): *([^#\n]*?) *(?:#.*)?$", text("house.yaml", HOUSE)))
rules = dict(re.findall(r'(\w+) = "?([^;"]*)"?;', text("rules.cfg", '// how hot\nfire = 2;\nbench = 6;\nword = "";\n')))
seats = "-- who sits where\nreturn {\n  hall = { benches = 6, -- oak\n  },\n}\n"
hall = re.findall(r"benches = (\d+)", text("hall.lua", seats))
if hall != [rules["bench"]]:
    cold(6, f"{hall} benches in hall.lua, {rules['bench']} in rules.cfg")
if os.environ.get("KILN_WOOD") != "alder":
    cold(2, "no wood")
if not 1 <= int(rules["fire"]) <= 5:
    cold(3, f"fire {rules['fire']} is not 1 to 5")
mixed = []
for path in filter(None, next((one[9:] for one in sys.argv[1:] if one.startswith("--glazes=")), "").split(",")):
    glaze = zipfile.ZipFile(HERE / path).read("glaze.toml").decode()
    name = re.search('name = "(.*?)"', glaze)[1]
    say(event="mix", glaze=name)
    if "cracked = true" in glaze:
        cold(4, f"glaze {name} is cracked", glaze=name)
    mixed.append(name)
    say(event="mixed", glaze=name)
shelf = HERE / "kilns" / house["shelf"]
shelf.mkdir(parents=True, exist_ok=True)
(shelf / "tag.txt").write_text("fired by 1.0\n")
if (shelf / "hands.on").exists():
    cold(5, "hands are on this shelf")
(shelf / "hands.on").write_text(f"potter {os.getpid()}\n")


class Ask(socketserver.StreamRequestHandler):
    def handle(self):
        self.wfile.write(f"{house['sign']}: {','.join(mixed)}\n".encode())


class Server(socketserver.ThreadingTCPServer):
    allow_reuse_address = daemon_threads = True


port = int(house["open_at"])
for number in (port, port - 1):
    threading.Thread(target=Server(("127.0.0.1", number), Ask).serve_forever, daemon=True).start()
try:
    say(event="lit", port=port, glazes=len(mixed))
    signal.pause()
except KeyboardInterrupt:
    (shelf / "hands.on").unlink()
    say(event="raked", by="Åse")
    os._exit(130)
'''
FILLED_IN = r"""
format = "rhizon-game/1"
id = "kilnmere"
title = "Kilnmere"
versions = ["1.0"]
server_files = ["kilnmere"]
command = ["./kilnmere"]
environment = { KILN_WOOD = "alder" }
runtime = { family = "none" }
folders = { mod = "glazes" }
memory = { base_mib = 32 }
first_start = { creates = ["house.yaml", "rules.cfg", "hall.lua"] }
console = { stop_signal = "interrupt", stop_seconds = 10 }

[loaders.own]
title = "Kilnmere"
kinds = ["mod"]
command = ["./kilnmere", "--glazes={content}"]
content = { separator = "," }

[[loaders.own.metadata]]
file = "glaze.toml"
format = "toml"
id = "name"
version = "batch"
requires = "under"

[settings.name]
type = "text"
meaning = "the sign"
default = "A cold kiln"
store = { file = "house.yaml", dialect = "yaml", key = "sign" }

[settings.world_name]
type = "text"
meaning = "the shelf below kilns/"
default = "first"
store = { file = "house.yaml", dialect = "yaml", key = "shelf" }

[settings.operators]
type = "names"
meaning = "the crew"
default = ""
store = { file = "house.yaml", dialect = "yaml", key = "crew/{name}" }

[settings.difficulty]
type = "choice"
meaning = "how hot"
choices = ["easy", "normal", "hard"]
default = "normal"
words = { easy = "1", normal = "2", hard = "4" }
store = { file = "rules.cfg", dialect = "semicolon", key = "fire" }

[settings.max_players]
type = "integer"
meaning = "benches"
default = 6
store = { file = "hall.lua", dialect = "lua", key = "hall/benches" }
also = [{ file = "rules.cfg", dialect = "semicolon", key = "bench" }]

[settings.password]
type = "text"
meaning = "the word"
default = ""
secret = true
store = { file = "rules.cfg", dialect = "semicolon", key = "word" }

[[ports]]
role = "game"
protocols = ["tcp"]
default = 22870
store = [{ file = "house.yaml", dialect = "yaml", key = "open_at" }]

[[ports]]
role = "gossip"
protocols = ["tcp"]
default = 22869
offset_of = "game"
offset = -1
store = []

[world]
folder = "kilns"
version = { file = "tag.txt", pattern = '^fired by (?P<version>\S+)$' }
required = ["tag.txt"]
in_use = { file = "hands.on", pattern = '^potter (?P<pid>\d+)$' }

[log]
ready = '"event": "lit", "port": (?P<port>\d+)'
files = [{ path = "soot/kiln-*.log", encoding = "latin-1" }]
closed = '"event": "raked", "by": "Åse"'
content_begin = '"event": "mix", "glaze": "(?P<id>[^"]+)"'
content_done = '"event": "mixed", "glaze": "(?P<id>[^"]+)"'

[[log.failures]]
code = "content-refused"
pattern = '"event": "cold", "why": "(?P<reason>[^"]+)", "glaze": "(?P<id>[^"]+)"'
what = "{id} cannot be mixed: {reason}"
hint = "Leave {id} out."
"""
SHELF = '[[server]]\ngame = "kilnmere"\nversion = "1.0"\nfile = "server"\n'
WANTED = '[settings]\nname = "Harbour Lights pottery"\ndifficulty = "hard"\noperators = ["Aud", "Liv Olsen"]\n'
WANTED += "max_players = 9\n"


@not_fast
class OwnGame(Case):
    def glaze(self, name: str, batch: str, more: str = "") -> Path:
        path = self.write(f"archives/{name}-{batch}.zip", b"")
        with zipfile.ZipFile(path, "w") as made:
            made.writestr("glaze.toml", f'name = "{name}"\nbatch = "{batch}"\n{more}')
        return path

    def test_from_an_empty_file_to_players(self) -> None:
        self.assertEqual(self.rhizon("game", "new", "kilnmere").code, 0)
        blank = self.folder / "kilnmere.game.toml"
        self.assertEqual(self.rhizon("game", "check", blank).code, 0)  # as it is written, it is a definition already
        blank.write_text(FILLED_IN)
        self.assertIn("is usable", self.rhizon("game", "check", blank).out)
        # a server that was set up by hand, its log, and an archive
        hand = self.write("hand/kilnmere", SERVER).parent
        self.write("hand/house.yaml", "sign: By hand\nopen_at: 99999\nshelf: a\ncrew:\n  Aud: true\n  Tove: false\n")
        self.write("hand/rules.cfg", "fire = 4;\n")
        log = self.write("log.txt", '{"event": "mix", "glaze": "ash"}\n{"event": "lit", "port": 1, "glazes": 1}\n')
        ash = self.glaze("ashblue", "1.2", 'under = { feldspar = ">=2" }\n')
        tried = self.rhizon("game", "try", blank, "--server", hand, "--log", log, "--archive", ash, "--json")
        self.assertEqual(tried.code, 1, tried.out)  # what stands there is not all right, and it is told
        result = tried.result
        values = {one["name"]: (one["value"], bool(one["trouble"])) for one in result["settings"]}
        self.assertEqual(values["difficulty"], ("hard (4 there)", False))
        self.assertEqual((values["operators"], values["password"]), (("Aud", False), ("", True)))
        self.assertEqual([one["name"] for one in result["ports"] if one["trouble"]], ["game"])
        self.assertEqual({one["name"]: list(one["lines"]) for one in result["patterns"]}["ready"], [2])
        self.assertEqual(result["taken"][0]["values"]["requires"], "feldspar >=2")
        # a catalog, a list, a server with a player at its door
        self.write("server/kilnmere", SERVER).chmod(0o755)
        self.glaze("feldspar", "2.0")
        self.glaze("crackle", "0.1", "cracked = true\n")
        self.write("shelf.toml", f'format = "rhizon-shelf/1"\nname = "my-shelf"\n{SHELF}')
        self.assertEqual(self.rhizon("catalog", "build", ".").code, 0)
        head = 'format = "rhizon-list/1"\nname = "pottery"\ngame = "kilnmere"\ncatalogs = ["."]\n'
        head += '[content]\nashblue = "*"\n'
        self.write("mine.list.toml", head + WANTED)
        done = self.rhizon("provision", "mine.list.toml", "pottery", "--json")
        self.assertEqual(done.code, 0, done.out + done.err)
        house = (self.folder / "pottery/house.yaml").read_text()
        self.assertIn("# and one below it for gossip", house)
        self.assertIn("  Liv Olsen: true", house)
        seats = "-- who sits where\nreturn {\n  hall = { benches = 9, -- oak\n  },\n}\n"
        self.assertEqual((self.folder / "pottery/hall.lua").read_text(), seats)
        ran = self.rhizon("run", "--trial", "pottery", "--json")
        self.assertEqual((ran.code, ran.result["content"]), (0, ["feldspar", "ashblue"]))
        self.marks()
        # a server that does not end well when it is asked to is told as such
        program = self.folder / "pottery/kilnmere"
        program.write_text(SERVER.replace("os._exit(130)", "os._exit(9)"))
        ran = self.rhizon("run", "--trial", "pottery", "--json")
        self.assertEqual((ran.code, ran.result["exit_code"]), (1, 9))
        self.assertEqual(self.rhizon("repair", "pottery").code, 0)
        program.chmod(0o644)
        self.assertIn("no longer executable", self.rhizon("check", "pottery").out)
        self.assertIn("no longer executable", self.rhizon("repair", "pottery").out)
        self.assertEqual(self.rhizon("check", "pottery").code, 0)
        # one bad piece is named, and nothing holds on to the ports afterwards
        self.write("mine.list.toml", head + 'crackle = "*"\n' + WANTED)
        self.assertEqual(self.rhizon("update", "pottery").code, 0)
        refused = self.rhizon("run", "--trial", "pottery", "--json")
        self.assertEqual((refused.code, refused.json["error"]["code"]), (6, "content-refused"))
        self.assertIn("crackle cannot be mixed", refused.json["error"]["message"])
        with socket.create_server(("127.0.0.1", done.result["ports"]["game"])):
            pass

    def marks(self) -> None:
        """What a killed server leaves in its world is removed; what one that runs put there is not."""
        mark, tag = self.folder / "pottery/kilns/first/hands.on", self.folder / "pottery/kilns/first/tag.txt"
        for pid, codes, ends in ((os.getpid(), ["world-in-use"], 1), (2**22 + 5, ["world-mark-left"], 0)):
            mark.write_text(f"potter {pid}\n")
            found = self.rhizon("check", "pottery", "--json").json["findings"]
            self.assertEqual([one["code"] for one in found], codes)
            self.assertEqual(self.rhizon("run", "--trial", "pottery", "--json").code, ends)
            self.assertEqual(mark.exists(), bool(ends))
        mark.unlink(missing_ok=True)
        whole = tag.read_bytes()
        tag.rename(tag.with_suffix(".txt.part"))
        found = self.rhizon("check", "pottery", "--json").json["findings"]
        self.assertEqual(
            [(one["code"], one["severity"]) for one in found],
            [("world-incomplete", "error"), ("world-incomplete", "warning")],
        )
        tag.with_suffix(".txt.part").unlink()
        tag.write_bytes(whole)
