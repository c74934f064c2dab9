"""Saltlode's server: its arguments are a mine, pairs behind +set, and a switch; its console is a port with a word."""

import configparser
import os
import pathlib
import socketserver
import sys
import threading

HERE = pathlib.Path(__file__).resolve().parent
VERSION = (HERE / "version.txt").read_text().strip()
words = sys.argv[1:]
if "--terms-read" not in words:
    sys.exit("the terms were not read")
if not os.environ.get("PICK_HEAP", "").isdecimal():
    sys.exit("no heap")
given = {words[at + 1]: words[at + 2] for at, word in enumerate(words) if word == "+set"}
skip = {at + more for at, word in enumerate(words) if word == "+set" for more in range(3)}
named = [word for at, word in enumerate(words) if at not in skip and not word.startswith("--")]
mine = named[0] if named else "firstlode"
conf = HERE / "lode.conf"
fresh = not conf.exists()
if fresh:
    conf.write_text("; the shaft\n[Shaft]\nsign = A wet shaft\nsave = 5\n\n[Winch]\nword = brine\n", "latin-1")
shaft = configparser.ConfigParser()
shaft.read_string(conf.read_text("latin-1"))
if not fresh and int(given.get("save_seconds", 300)) != 60 * int(shaft["Shaft"]["save"]):
    sys.exit("save: the two do not agree")

order = HERE / "seams/order.lst"
loaded = []
for line in order.read_text().split("\n") if order.exists() else []:
    name = line.partition("#")[0].strip().removesuffix(".seam")
    if not name:
        continue
    print("seam", name, flush=True)
    seam = HERE / f"seams/{name}.seam"
    if not seam.exists():
        sys.exit(f"the seam {name} is not there")
    facts = dict(one.split("=", 1) for one in seam.read_text().split("\n") if "=" in one)
    for need in filter(None, facts.get("needs", "").split(" ")):
        if need not in loaded:
            sys.exit(f"the seam {name} rests on {need}, which is not there yet")
    for other in filter(None, facts.get("behind", "").split(" ")):
        if (HERE / f"seams/{other}.seam").exists() and other not in loaded:
            sys.exit(f"the seam {name} wants to be behind {other}")
    loaded.append(name)
    print("seam", name, "is in", flush=True)

place = HERE / f"mines/{mine}.lode"
place.parent.mkdir(exist_ok=True)
(HERE / "wages").mkdir(exist_ok=True)
if not place.exists():
    place.write_text("rock\n")
over = threading.Event()


def save(dug: str) -> None:
    place.write_text(f"lode of {VERSION}\n{dug}\n")
    (HERE / "wages/book.txt").write_text("Aud 3\n")


class Shaft(socketserver.StreamRequestHandler):
    def handle(self) -> None:
        if self.rfile.readline() == b"lode?\n":
            self.wfile.write(b"open " + shaft["Shaft"]["sign"].encode() + b"\n")


class Winch(socketserver.StreamRequestHandler):
    def handle(self) -> None:
        self.wfile.write(b"word?\n")
        if self.rfile.readline().decode().strip() != shaft["Winch"]["word"]:
            self.wfile.write(b"wrong\n")
            return
        answers = {"who": "below: Aud, Tove", "still": "still", "dig": "digging"}
        for raw in self.rfile:
            line = raw.decode().strip()
            if line == "raise":
                over.set()
                return
            said = "heard" if line.startswith("shout ") else answers.get(line, "what?")
            self.wfile.write(f"winch> {said}\r\nend of talk\r\n".encode())


class Server(socketserver.ThreadingTCPServer):
    allow_reuse_address = daemon_threads = True


number = int(given.get("shaft", 26110))
for at, kind in ((number, Shaft), (number + 4, Winch)):
    threading.Thread(target=Server(("127.0.0.1", at), kind).serve_forever, daemon=True).start()
save("salt")
over.wait()
save("more salt")
print("shaft closed", flush=True)
