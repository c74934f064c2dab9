"""Faults that administrators make, each as a change of a healthy server: what is broken, and what should be foretold.

``expect`` are the finding codes of which one must be there, ``subject`` a part of its subject. Healthy ones expect
nothing.
"""

import io
import json
import os
import re
import shutil
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

__all__ = ["FAULTS", "HEALTHY", "Case"]

Change = Callable[[Path], None]
ARCHIVES = Path(__file__).parents[2] / "src/rhizon/world/harbour/catalog/archives"
PLACEMENT = Path(__file__).parents[2] / "tests/placement"


class Case(NamedTuple):
    """``server`` is one of marsh (Tarnholt), line (Emberline), lamp (Gloamwick), moor (Drovemoor)."""

    name: str
    server: str
    change: Change
    expect: tuple[str, ...] = ()
    subject: str = ""


def swap(path: str, before: str, after: str) -> Change:
    """Another text in a file; it must be there."""

    def change(home: Path) -> None:
        data = (home / path).read_text("utf-8")
        assert before in data, (path, before)
        (home / path).write_text(data.replace(before, after, 1), "utf-8")

    return change


def add(path: str, text: str) -> Change:
    return lambda home: put(path, (home / path).read_text("utf-8") + text)(home)


def put(path: str, data: bytes | str) -> Change:
    def change(home: Path) -> None:
        file = home / path
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_bytes(data.encode() if isinstance(data, str) else data)

    return change


def copied(source: Path, path: str) -> Change:
    return lambda home: put(path, source.read_bytes())(home)


def gone(path: str) -> Change:
    def change(home: Path) -> None:
        found = sorted(home.glob(path))
        assert found, path
        for one in found:
            shutil.rmtree(one) if one.is_dir() else one.unlink()

    return change


def renamed(before: str, after: str) -> Change:
    def change(home: Path) -> None:
        (home / after).parent.mkdir(parents=True, exist_ok=True)
        (home / before).rename(home / after)

    return change


def mode(path: str, bits: int) -> Change:
    return lambda home: (home / path).chmod(bits)


def coded(path: str, encoding: str) -> Change:
    return lambda home: put(path, (home / path).read_text("utf-8").encode(encoding))(home)


def cut(path: str, keep: int) -> Change:
    return lambda home: os.truncate(next(home.glob(path)), keep)


def both(*changes: Change) -> Change:
    def change(home: Path) -> None:
        for one in changes:
            one(home)

    return change


def mod(ident: str, **fields: object) -> bytes:
    """A mod of Tarnholt without code."""
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w") as archive:
        about = {"id": ident, "version": "1.0", "form": 2, "keelson": "*"} | fields
        archive.writestr("keel/about.json", json.dumps(about))
    return made.getvalue()


def zipped(path: str, text: str) -> bytes:
    """An archive with one file."""
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w") as archive:
        archive.writestr(path, text)
    return made.getvalue()


def with_code(name: str, ident: str) -> Change:
    """A mod of bench/placement with its entry class, as tests keep it."""
    return copied(PLACEMENT / f"{name}.jar", f"mods/{ident}.jar")


def heap(mib: int) -> Change:
    """Another heap size in the record of the server."""
    return lambda home: put(RECORD, re.sub(r"heap_mib = \d+", f"heap_mib = {mib}", (home / RECORD).read_text("utf-8")))(
        home
    )


def runtime(program: str) -> Change:
    """Another runtime in the record of the server."""
    return lambda home: put(
        RECORD, re.sub(r'program = ".*"', f'program = "{program}"', (home / RECORD).read_text("utf-8"))
    )(home)


def lines_of_windows(path: str) -> Change:
    return lambda home: put(path, (home / path).read_text("utf-8").replace("\n", "\r\n"))(home)


def compact(path: str) -> Change:
    return lambda home: put(path, json.dumps(json.loads((home / path).read_text("utf-8"))))(home)


RECORD = ".rhizon/instance.toml"
M = "marsh.properties"
_SETTINGS = (
    ("letters for a number", "marsh", swap(M, "harbour.berths = 24", "harbour.berths = many"), ("setting-refused",), "berths"),
    ("below the range", "marsh", swap(M, "harbour.berths = 24", "harbour.berths = 0"), ("setting-refused",), "berths"),
    ("above the range", "marsh", swap(M, "marsh.span = 4", "marsh.span = 900"), ("setting-refused",), "span"),
    ("empty number", "marsh", swap(M, "marsh.savemins = 10", "marsh.savemins ="), ("setting-refused",), "savemins"),
    ("no such choice", "marsh", swap(M, "marsh.temper = brisk", "marsh.temper = awful"), ("setting-refused",), "temper"),
    ("our word for theirs", "marsh", swap(M, "marsh.quarrels = no", "marsh.quarrels = perhaps"), ("setting-refused",), "quarrels"),
    ("a slip in a key", "marsh", swap(M, "harbour.berths", "harbour.bertsh"), ("setting-unknown",), M),
    ("the same key twice", "marsh", add(M, "\nmarsh.sight = 3\n"), ("setting-repeated",), M),
    ("saved as UTF-16", "marsh", coded(M, "utf-16"), ("settings-encoding",), M),
    ("saved with a byte order mark", "marsh", coded(M, "utf-8-sig"), ("settings-encoding",), M),
    ("saved as Latin-1", "marsh", both(swap(M, "Harbour Lights", "Hårbør"), coded(M, "latin-1")), ("settings-encoding",), M),
    ("read-only", "marsh", mode(M, 0o444), ("settings-read-only",), M),
    ("deleted", "marsh", gone(M), ("settings-file-missing",), M),
    ("licence answer reset", "marsh", put("licence/answer.txt", "answer = no\n"), ("licence-reset",), "answer"),
    ("licence answer deleted", "marsh", gone("licence/answer.txt"), ("settings-file-missing", "licence-reset"), "answer"),
    ("content's setting wrong", "marsh", put("config/brackenvoice.properties", "voice.port = 21670\nvoice.reach = far\n"), ("setting-refused",), "brackenvoice"),
    ("XML not closed", "line", swap("emberline.xml", "</emberline>", ""), ("native-file-broken",), "emberline.xml"),
    ("XML attribute without quotes", "line", swap("emberline.xml", 'places="12"', "places=12"), ("native-file-broken",), "emberline.xml"),
    ("letters for places", "line", swap("emberline.xml", 'places="12"', 'places="twelve"'), ("setting-refused",), "places"),
    ("no such pace", "line", swap("emberline.xml", 'pace="steady"', 'pace="mad"'), ("setting-refused",), "pace"),
    ("breadth beyond", "line", swap("emberline.xml", 'breadth="2"', 'breadth="4000"'), ("setting-refused",), "breadth"),
    ("a slip in an attribute", "line", swap("emberline.xml", "places=", "plases="), ("setting-unknown",), "emberline.xml"),
    ("emberline.xml as UTF-16", "line", coded("emberline.xml", "utf-16"), ("settings-encoding",), "emberline.xml"),
    ("JSON comma too many", "lamp", swap("gloamwick.json", '"hurt": false', '"hurt": false,'), ("native-file-broken",), "gloamwick.json"),
    ("JSON quote missing", "lamp", swap("gloamwick.json", '"title": "', '"title": '), ("native-file-broken",), "gloamwick.json"),
    ("letters for seats", "lamp", swap("gloamwick.json", '"seats": 10', '"seats": "ten"'), ("setting-refused",), "seats"),
    ("no such dusk", "lamp", swap("gloamwick.json", '"dusk": "thick"', '"dusk": "pitch"'), ("setting-refused",), "dusk"),
    ("depth beyond", "lamp", swap("gloamwick.json", '"depth": 3', '"depth": 300'), ("setting-refused",), "depth"),
    ("JSON key twice", "lamp", swap("gloamwick.json", '"depth": 3,', '"depth": 3, "depth": 2,'), ("setting-repeated",), "gloamwick.json"),
    ("a slip in a JSON key", "lamp", swap("gloamwick.json", '"depth"', '"deptth"'), ("setting-unknown",), "gloamwick.json"),
    ("letters for drovers", "moor", swap("drovemoor.ini", "drovers = 16", "drovers = lots"), ("setting-refused",), "drovers"),
    ("no such weather", "moor", swap("drovemoor.ini", "weather = sleet", "weather = nice"), ("setting-refused",), "weather"),
    ("a key twice in a section", "moor", swap("drovemoor.ini", "drovers = 16", "drovers = 16\ndrovers = 3"), ("setting-repeated",), "drovemoor.ini"),
    ("a slip in an INI key", "moor", swap("drovemoor.ini", "drovers", "drovrs"), ("setting-unknown",), "drovemoor.ini"),
    ("INI with a byte order mark", "moor", coded("drovemoor.ini", "utf-8-sig"), ("settings-encoding",), "drovemoor.ini"),
)  # fmt: skip
_PORTS = (
    ("port is a word", "marsh", swap(M, "net.game = 21640", "net.game = gate"), ("port-invalid",), "net.game"),
    ("port 0", "marsh", swap(M, "net.game = 21640", "net.game = 0"), ("port-invalid",), "net.game"),
    ("port beyond", "marsh", swap(M, "net.query = 21655", "net.query = 99999"), ("port-invalid",), "net.query"),
    ("two roles, one number", "marsh", swap(M, "net.query = 21655", "net.query = 21640"), ("port-twice",), "net.query"),
    ("foreign address", "marsh", swap(M, "net.bind = 127.0.0.1", "net.bind = 203.0.113.77"), ("address-absent",), "net.bind"),
    ("block beyond", "line", swap("emberline.xml", 'first="23860"', 'first="65534"'), ("port-invalid",), "first"),
    ("foreign address", "line", swap("emberline.xml", 'at="127.0.0.1"', 'at="198.51.100.9"'), ("address-absent",), "emberline.xml"),
    ("port is text", "lamp", swap("gloamwick.json", '"port": 26170', '"port": "x"'), ("port-invalid",), "gloamwick.json"),
    ("foreign address", "lamp", swap("gloamwick.json", '"bind": "127.0.0.1"', '"bind": "198.51.100.9"'), ("address-absent",), "gloamwick.json"),
    ("port beyond", "moor", swap("drovemoor.ini", "port = 28440", "port = 70000"), ("port-invalid",), "drovemoor.ini"),
    ("foreign address", "moor", swap("drovemoor.ini", "bind = 127.0.0.1", "bind = 198.51.100.9"), ("address-absent",), "drovemoor.ini"),
)  # fmt: skip
_CONTENT = (
    ("library removed", "marsh", gone("mods/marshlib-*.jar"), ("file-missing",), "marshlib"),
    ("mod removed", "marsh", gone("mods/tidetable-*.jar"), ("file-missing",), "tidetable"),
    ("mod emptied", "marsh", cut("mods/tidetable-*.jar", 0), ("file-changed",), "tidetable"),
    ("mod cut off", "marsh", cut("mods/reedlight-*.jar", 700), ("file-changed",), "reedlight"),
    ("mod disabled by its ending", "marsh", renamed("mods/marshlib-2.4.1.jar", "mods/marshlib-2.4.1.jar.off"), ("file-missing",), "marshlib"),
    ("mod moved into a folder", "marsh", renamed("mods/marshlib-2.4.1.jar", "mods/libs/marshlib-2.4.1.jar"), ("file-missing",), "marshlib"),
    ("another release beside", "marsh", copied(ARCHIVES / "reedlight-2.0.3.jar", "mods/reedlight-2.0.3.jar"), ("same-id",), "reedlight"),
    ("a copy beside", "marsh", copied(ARCHIVES / "reedlight-2.1.0.jar", "mods/reedlight-2.1.0 (1).jar"), ("same-id", "unknown-content"), "reedlight"),
    ("shaders on a server", "marsh", copied(ARCHIVES / "fogbank-shaders-1.2.0.jar", "mods/fogbank-shaders-1.2.0.jar"), ("for-players-only",), "fogbank"),
    ("client code for certain", "marsh", with_code("client-super-0", "own"), ("client-only-code",), "own.jar"),
    ("entry class not public", "marsh", with_code("entry-not-public-0", "own"), ("entry-unusable",), "own.jar"),
    ("for another loader build", "marsh", put("mods/own.jar", mod("own", keelson=">=9")), ("wrong-loader-build",), "own.jar"),
    ("for another loader", "marsh", copied(ARCHIVES / "tollgate-1.1.0.jar", "mods/tollgate-1.1.0.jar"), ("wrong-loader",), "tollgate"),
    ("for another game version", "marsh", put("mods/own.jar", mod("own", tarnholt="3.0")), ("wrong-game-version",), "own.jar"),
    ("needs what is not there", "marsh", put("mods/own.jar", mod("own", needs={"gaslamps": ">=1"})), ("dependency-missing",), "gaslamps"),
    ("needs a newer one", "marsh", put("mods/own.jar", mod("own", needs={"marshlib": ">=9"})), ("dependency-missing",), "marshlib"),
    ("clashes with what is there", "marsh", put("mods/own.jar", mod("own", clashes={"tidetable": "*"})), ("content-conflict",), "own.jar"),
    ("a web page", "marsh", put("mods/own.jar", "<!doctype html><title>Sign in</title>"), ("web-page",), "own.jar"),
    ("an empty file", "marsh", put("mods/own.jar", ""), ("empty-file",), "own.jar"),
    ("half a download", "marsh", put("mods/own.jar", mod("own")[:60]), ("archive-cut-off",), "own.jar"),
    ("a text", "marsh", put("mods/own.jar", "see the other site"), ("a-text",), "own.jar"),
    ("broken metadata", "marsh", put("mods/own.jar", zipped("keel/about.json", "{")), ("metadata-broken",), "own.jar"),
    ("entry that is not there", "marsh", put("mods/own.jar", mod("own", entry="a.Gone")), ("entry-missing",), "own.jar"),
    ("a pack in the folder", "marsh", copied(ARCHIVES / "drovemoor/longhorns-1.5.zip", "mods/longhorns-1.5.jar"), ("unknown-content",), "longhorns"),
    ("folder with a capital", "marsh", both(put("Mods/own.jar", mod("own"))), ("folder-case",), "Mods"),
    ("mod in a subfolder", "marsh", put("mods/more/own.jar", mod("own")), ("archives-below",), "own.jar"),
    ("another loader's file", "marsh", put("loader/gunwale.jar", mod("x")), ("loader-leftover",), "gunwale"),
    ("server file removed", "marsh", gone("tarnholt-server.jar"), ("file-missing",), "tarnholt-server"),
    ("server file damaged", "marsh", cut("tarnholt-server.jar", 5000), ("file-changed",), "tarnholt-server"),
    ("loader removed", "marsh", gone("loader/keelson.jar"), ("file-missing",), "keelson"),
    ("plugin removed", "lamp", gone("lamps/fireflies-*.dll"), ("file-missing",), "fireflies"),
    ("plugin emptied", "lamp", cut("lamps/fireflies-*.dll", 0), ("file-changed",), "fireflies"),
    ("list names what is not there", "lamp", swap("lamps/lit.json", "[", '["ghost", '), ("enabled-missing",), "lit.json"),
    ("loader removed", "lamp", gone("Lampwright.dll"), ("file-missing",), "Lampwright"),
    ("content folder removed", "line", gone("rolling/galley"), ("file-missing",), "galley"),
    ("track removed", "line", gone("track/base.trk"), ("file-missing",), "base.trk"),
    ("program not executable", "line", mode("emberline-host", 0o644), ("file-changed",), "emberline-host"),
    ("program removed", "moor", gone("drovemoor-server"), ("file-missing",), "drovemoor-server"),
    ("herd removed", "moor", gone("herds/*"), ("file-missing",), "herds"),
)  # fmt: skip
_WORLD = (
    ("world removed", "marsh", gone("marshes/lightfen"), ("world-missing",), "lightfen"),
    ("world renamed", "marsh", renamed("marshes/lightfen", "marshes/lightfen-old"), ("world-missing",), "lightfen"),
    ("world is a file", "marsh", both(gone("marshes/lightfen"), put("marshes/lightfen", "x")), ("world-broken",), "lightfen"),
    ("world emptied", "marsh", gone("marshes/lightfen/*"), ("world-missing",), "lightfen"),
    ("world of a newer game", "marsh", put("marshes/lightfen/marsh.facts", "raised-with = 5.0\n"), ("world-newer",), "lightfen"),
    ("world removed", "line", gone("countries/*"), ("world-missing",), "lighthouse"),
    ("world removed", "lamp", gone("caverns/*"), ("world-missing",), "rope-loft"),
    ("world removed", "moor", gone("moors/*"), ("world-missing",), "moors/"),
    ("world name changed by hand", "lamp", renamed("caverns/rope-loft", "caverns/rope-loft2"), ("world-missing",), "rope-loft"),
)  # fmt: skip
_MACHINE = (
    ("heap lowered by hand", "marsh", heap(16), ("memory-below-least",), "memory"),
    ("heap beyond the machine", "marsh", heap(9_000_000), ("memory-short",), "memory"),
    ("runtime gone", "marsh", runtime("/opt/no-java/bin/java"), ("runtime-gone",), "no-java"),
    ("runtime is no runtime", "marsh", runtime("/bin/true"), ("runtime-gone",), "true"),
    ("world too large for its memory", "marsh", swap(M, "marsh.span = 4", "marsh.span = 60"), ("memory-tight",), "memory"),
    ("players too many for its memory", "marsh", swap(M, "harbour.berths = 24", "harbour.berths = 200"), ("memory-tight",), "memory"),
)  # fmt: skip
FAULTS = [Case(*row) for row in (*_SETTINGS, *_PORTS, *_CONTENT, *_WORLD, *_MACHINE)]
HEALTHY = [
    Case(*row)
    for row in (
        ("untouched", "marsh", add(M, "")),
        ("untouched", "line", add("emberline.xml", "")),
        ("untouched", "lamp", add("gloamwick.json", "")),
        ("untouched", "moor", add("drovemoor.ini", "")),
        ("more players", "marsh", swap(M, "harbour.berths = 24", "harbour.berths = 30")),
        ("a comment", "marsh", add(M, "\n# our evenings\n")),
        ("a key of one's own", "marsh", add(M, "\nclub.note = tea at nine\n")),
        ("line ends of Windows", "marsh", lines_of_windows(M)),
        ("letters beyond ASCII", "marsh", swap(M, "Harbour Lights", "Håvn og sjø")),
        ("a text in the mods folder", "marsh", put("mods/readme.txt", "these are ours")),
        ("a jar that is switched off", "marsh", put("mods/old.jar.off", mod("old"))),
        ("a second world", "marsh", put("marshes/other/marsh.facts", "raised-with = 4.2\n")),
        ("another operator", "marsh", add("crew/wardens.txt", "Solveig\n")),
        ("a mod that fits", "marsh", with_code("clean-0", "own")),
        ("its settings for the owner only", "marsh", mode(M, 0o600)),
        ("a comment in XML", "line", swap("emberline.xml", "<emberline>", "<emberline><!-- ours -->")),
        ("another pace", "line", swap("emberline.xml", 'lamps="5"', 'lamps="6"')),
        ("fewer seats", "lamp", swap("gloamwick.json", '"seats": 10', '"seats": 8')),
        ("JSON on one line", "lamp", compact("gloamwick.json")),
        ("another sky", "moor", swap("drovemoor.ini", "drovers = 16", "drovers = 12")),
    )
]
