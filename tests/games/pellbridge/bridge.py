"""Pellbridge's server: it reads orders from a FIFO, logs to a dated file, and is ready when run/open is there."""

import os
import pathlib
import signal
import socket
import sys
import time
import xml.etree.ElementTree as ET

HERE = pathlib.Path(__file__).resolve().parent
SPACE = "{urn:pellbridge:toll}"
TOLL = (
    '<?xml version="1.0"?>\n<!-- the toll house -->\n<t:toll xmlns:t="urn:pellbridge:toll">\n'
    '  <t:house t:guild="0" gates="27310-27314">\n    <t:sign>A narrow bridge</t:sign>\n  </t:house>\n</t:toll>\n'
)
words = sys.argv[1:]
season = (HERE / "season.txt").read_text().strip()
talk = (HERE / time.strftime("talk/day-%Y%m%d.txt")).open("a", encoding="latin-1")


def say(text):
    talk.write(text + "\n")
    talk.flush()


def after(word, usual=""):
    return words[words.index(word) + 1] if word in words else usual


if not (HERE / "toll.xml").exists():
    (HERE / "toll.xml").write_text(TOLL)
house = ET.parse(HERE / "toll.xml").getroot().find(SPACE + "house")
first = int(os.environ.get("BRIDGE_GATE", "27310"))
if "-bare" not in words:
    if f"{first}-{after('-last')}" != house.get("gates"):
        sys.exit(say(f"gates {house.get('gates')} are not {first} to {after('-last')}"))
    if season == "frost" and not os.environ.get("BRIDGE_ICE", "").isdecimal():
        sys.exit(say("no ice in the frost"))
    if season != "frost" and "BRIDGE_ICE" in os.environ:
        sys.exit(say("ice, and no frost"))
for at, word in enumerate(words):
    if word == "-arch":
        folder = HERE / words[at + 1]
        name = folder.name
        say(f"raising {name}")
        if not (folder / "stones.txt").exists():
            sys.exit(say(f"{name} cannot be raised: it has no stones"))
        (HERE / "marks" / name).mkdir(parents=True, exist_ok=True)
        (HERE / "marks" / name / "cache.txt").write_text("cut\n")
        tuned = HERE / "tuning" / name / "set.txt"
        say(f"{name} is tuned to {tuned.read_text().strip() if tuned.exists() else 'nothing'}")
        say(f"raised {name}")
say("keystone: " + (HERE / "stones/keystone.txt").read_text().strip())
say("loader: " + os.environ.get("BRIDGE_LOADER", "none") + ", snow " + os.environ.get("BRIDGE_SNOW", "unsaid"))
river = HERE / f"span-{after('-river', 'upper')}"
river.mkdir(exist_ok=True)
(river / "built.txt").write_text(f"in the {season}\n")
(HERE / "crossings").mkdir(exist_ok=True)
(HERE / "crossings/today.txt").write_text("3 carts\n")
gate = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
gate.bind(("127.0.0.1", first))


def close(*_):
    say("the bridge is closed by Åse")
    (HERE / "run/open").unlink(missing_ok=True)
    os._exit(0)


signal.signal(signal.SIGQUIT, close)
orders = HERE / "orders"
if not orders.exists():
    os.mkfifo(orders)
handle = os.open(orders, os.O_RDWR)
time.sleep(0.3)
(HERE / "run/open").write_text(f"{os.getpid()}\n")
while True:
    for line in os.read(handle, 4096).decode().split("\n"):
        if line == "close":
            close()
        elif line:
            say(f"order: {line}")
