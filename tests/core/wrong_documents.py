"""A right example of each document and the changes that make it wrong: (what, change, words of the error).

A change is text in place of the whole file, or a function of the parsed example.
"""

from collections.abc import Callable
from typing import Any

HASH = "0" * 64
ARTEFACT = {"path": "archives/a-1.jar", "sha256": HASH, "size": 12}
FILE = {"catalog": "shelf", **ARTEFACT}
TARGET = {
    "game": "tarnholt",
    "game_version": "4.2",
    "loader": "keelson",
    "loader_build": "3.1.0",
    "runtime": "java",
    "runtime_major": 17,
}

GAME: dict[str, Any] = {
    "format": "rhizon-game/1",
    "id": "reedgame",
    "title": "Reed Game",
    "versions": ["1.0", "1.1"],
    "runtime": {"family": "none"},
    "server_files": ["reed-server"],
    "command": ["./reed-server"],
    "folders": {"mod": "mods"},
    "loaders": {
        "oar": {
            "title": "Oar",
            "kinds": ["mod"],
            "files": ["oar.bin"],
            "command": ["./oar"],
            "metadata": [{"file": "oar.json", "format": "json", "id": "id", "version": "version"}],
        }
    },
    "settings": {
        "world_name": {
            "type": "text",
            "meaning": "the world",
            "default": "fen",
            "store": {"file": "reed.properties", "key": "world"},
        },
        "max_players": {
            "type": "integer",
            "meaning": "players",
            "default": 8,
            "least": 1,
            "most": 20,
            "store": {"file": "reed.properties", "key": "players"},
        },
    },
    "ports": [{"role": "game", "protocols": ["udp"], "default": 21700, "store": []}],
    "memory": {"base_mib": 10},
    "world": {"folder": "worlds"},
    "first_start": {"creates": []},
    "console": {"stop": "stop"},
    "log": {"ready": "ready"},
}

EXAMPLES: dict[str, dict[str, Any]] = {
    "game": GAME,
    "list": {
        "format": "rhizon-list/1",
        "name": "marsh",
        "game": "tarnholt",
        "target": {"game_version": "4.2", "loader": "keelson"},
        "content": {"reedlight": ">=2", "chartroom": {"optional": True}},
    },
    "pack": {
        "format": "rhizon-pack/1",
        "name": "evening",
        "version": "1.2.0",
        "game": "tarnholt",
        "target": {"game_version": "4.2", "loader": "keelson", "loader_build": "3.1.0"},
        "content": {"reedlight": "2.1.0"},
        "memory": {"least_mib": 100, "recommended_mib": 200},
    },
    "shelf": {
        "format": "rhizon-shelf/1",
        "name": "shelf",
        "server": [{"game": "tarnholt", "version": "4.2", "file": "server/a.zip"}],
        "loader": [{"game": "tarnholt", "loader": "keelson", "build": "3.1.0", "file": "loaders/k.zip"}],
    },
    "facts": {
        "format": "rhizon-facts/1",
        "channel": "preview",
        "ports": [{"role": "voice", "protocols": ["udp"], "default": 21670, "store": []}],
    },
    "catalog": {
        "format": "rhizon-catalog/1",
        "name": "shelf",
        "games": {"tarnholt": {"index": "t/items.json", "items": "t/items", "host": "t/host.json"}},
    },
    "index": {"format": "rhizon-index/1", "items": {"reedlight": {"title": "Reedlight", "kind": "mod"}}},
    "item": {
        "format": "rhizon-item/1",
        "id": "reedlight",
        "game": "tarnholt",
        "kind": "mod",
        "title": "Reedlight",
        "releases": [{"version": "2.1.0", "requires": [{"id": "marshlib", "range": ">=2"}], "artefact": ARTEFACT}],
    },
    "host-files": {
        "format": "rhizon-host-files/1",
        "server": [{"version": "4.2", "artefact": ARTEFACT}],
        "loaders": [{"loader": "keelson", "build": "3.1.0", "artefact": ARTEFACT}],
    },
    "kit": {
        "format": "rhizon-kit/1",
        "server": "marsh",
        "title": "The marsh evening",
        "game": "tarnholt",
        "game_title": "Tarnholt",
        "game_version": "4.2",
        "pieces": [
            {
                "id": "reedlight",
                "version": "2.1.0",
                "title": "Reedlight",
                "kind": "mod",
                "place": "mods/reedlight-2.1.0.jar",
                "files": [{"path": "mods/reedlight-2.1.0.jar", "sha256": HASH, "size": 1}],
            }
        ],
        "others": [{"id": "reedlight", "version": "2.0.3", "sha256": HASH, "size": 1}],
        "loader_mark": {"file": "hull/about.txt", "pattern": "^(?P<id>\\S+) (?P<version>\\S+)$"},
    },
    "lock": {
        "format": "rhizon-lock/1",
        "name": "marsh",
        "target": TARGET,
        "server": FILE,
        "loader": {"install": "unpack", "file": FILE},
        "releases": [
            {
                "id": "reedlight",
                "version": "2.1.0",
                "kind": "mod",
                "title": "Reedlight",
                "placement": "shared",
                "on_server": True,
                "for_players": True,
                "because": ["list"],
                "file": FILE,
            }
        ],
    },
    "inventory": {
        "format": "rhizon-inventory/1",
        "files": {"mods/a.jar": {"sha256": HASH, "size": 1, "origin": "shelf:a.jar"}},
    },
    "instance": {
        "format": "rhizon-instance/1",
        "name": "marsh",
        "game": "tarnholt",
        "source": "marsh.list.toml",
        "heap_mib": 256,
        "ports": {"game": 21640},
        "runtime": {"family": "Java", "major": 17, "version": "17.0.15", "program": "/usr/bin/java"},
    },
    "tree": {
        "format": "rhizon-tree/1",
        "piece_size": 1024,
        "files": {"a/b.bin": {"sha256": HASH, "size": 1500, "pieces": [HASH, HASH]}, "c": {"sha256": HASH, "size": 0}},
    },
    "preset": {"format": "rhizon-preset/1", "title": "Club", "settings": {"pvp": False, "max_players": 9}},
    "remote": {
        "format": "rhizon-remote/1",
        "name": "lighthouse",
        "reach": {"by": "sftp", "host": "games.harbour.example", "user": "tove", "folder": "/server"},
        "dictates": {"start_file": "run.sh", "forbidden": [".exe"], "quota_mib": 2048},
    },
    "machines": {
        "format": "rhizon-machines/1",
        "name": "club",
        "placement": {"moves": 2, "apart": [["marsh", "fen"]]},
        "machines": {"alpha": {"memory_mib": 8192, "ports": ["24000-24100"]}, "beta": {"memory_mib": 4096}},
        "servers": {"marsh": {"memory_mib": 2048, "machine": "alpha"}, "fen": {"memory_mib": 1024, "on": ["beta"]}},
    },
    "push": {
        "format": "rhizon-push/1",
        "server": "marsh",
        "files": {"mods/a.jar": {"sha256": HASH, "size": 1, "mtime": 1795891528}},
    },
    "push-mark": {"format": "rhizon-push-mark/1", "who": "tove", "host": "quay", "since": 1795891528, "push": "x"},
    "push-undo": {
        "format": "rhizon-push-undo/1",
        "server": "marsh",
        "since": 1795891528,
        "files": {"mods/a.jar": {"sha256": HASH, "size": 1, "mtime": 1795891528}},
        "moved": ["mods/a.jar"],
        "added": ["mods/b.jar"],
    },
    "host": {"format": "rhizon-host/1", "memory_mib": 900, "ports": ["24000-24009", "24100"]},
    "sealed": {
        "format": "rhizon-sealed/1",
        "id": "marsh-1",
        "when": "2026-11-25T19-02-10Z",
        "lane": "9c1185a5c5e9fc54",
        "recipients": ["age1t7qmjxtp730tm3nnmh48gekq2fl55z4t384qc7e7cj0rr2lqnqqscpvkac"],
        "calm": "held",
        "files": 2,
        "size": 9,
        "pieces": ["0" * 64],
    },
    "backups": {"format": "rhizon-backups/1", "id": "marsh-1", "places": ["/mnt/attic"]},
    "credentials": {
        "format": "rhizon-credentials/1",
        "catalog": [{"address": "https://shelf.example", "user": "marit", "password": "sesame"}],
    },
}
EXAMPLES["kept"] = {
    "format": "rhizon-kept/1",
    "number": 1,
    "kept_at": "2026-11-25T19:02:11Z",
    "before": "update",
    "lock": EXAMPLES["lock"],
    "inventory": EXAMPLES["inventory"],
    "instance": EXAMPLES["instance"],
    "files": {"marsh.properties": {"sha256": HASH, "size": 1, "settings": True}},
}
EXAMPLES["backup"] = {
    "format": "rhizon-backup/1",
    "id": "marsh-1",
    "when": "2026-11-25T19-02-11Z",
    "why": "by hand",
    "name": "marsh",
    "folder": "/srv/marsh",
    "calm": "held",
    "state": EXAMPLES["kept"],
    "world": {"marshes/fen/a": {"size": 1, "mode": 420, "mtime_ns": 1, "ctime_ns": 1, "chunks": [HASH]}},
    "settings": {},
}

Change = str | Callable[[dict[str, Any]], object]


def put(*path: Any) -> Callable[[dict[str, Any]], None]:
    """Sets the value at the end of a path."""
    *way, last, value = path

    def change(document: dict[str, Any]) -> None:
        place: Any = document
        for step in way:
            place = place[step]
        place[last] = value

    return change


def both(*changes: Callable[[dict[str, Any]], None]) -> Callable[[dict[str, Any]], None]:
    """Several changes, one after the other."""

    def change(document: dict[str, Any]) -> None:
        for one in changes:
            one(document)

    return change


def drop(*path: Any) -> Callable[[dict[str, Any]], None]:
    """Takes away what is at the end of a path."""
    *way, last = path

    def change(document: dict[str, Any]) -> None:
        place: Any = document
        for step in way:
            place = place[step]
        del place[last]

    return change


# Wrong in every document, whatever it is.
OWN: dict[str, Any] = {"title": "Own", "kinds": ["mod"], "command": ["./reed-server"]}


def setting(kind: str, key: str, dialect: str = "properties", **more: Any) -> dict[str, Any]:
    """A setting of that type, kept under that key."""
    store = {"file": "reed.cfg", "dialect": dialect, "key": key}
    return {"type": kind, "meaning": "", "default": "", "store": store, **more}


def together(least_heap_mib: int = 9, **when: Any) -> dict[str, Any]:
    """Settings that need each other."""
    return {"when": when or {"max_players": {"least": 1}}, "least_heap_mib": least_heap_mib, "what": "slow"}


SECRET_ARGUMENT = setting("text", "--word=", "arguments", secret=True)
TWO_FILES = {
    "world_name": setting("text", "--world=", "arguments"),
    "name": setting("text", "--name=", "arguments") | {"store": {"file": "b", "dialect": "arguments", "key": "--n="}},
}
ALWAYS: tuple[tuple[str, Change, str], ...] = (
    ("nothing in it", "", "format|empty"),
    ("not its syntax", "]][[", "TOML|JSON"),
    ("another document", put("format", "rhizon-poem/1"), "another kind of document"),
    ("a newer one", lambda d: d.update(format=d["format"].replace("/1", "/9")), "newer"),
    ("no format", drop("format"), "format: missing"),
    ("a field too many", put("colour", "green"), "colour: not a field here"),
    ("format is a number", put("format", 1), "format"),
)

WRONG: dict[str, tuple[tuple[str, Change, str], ...]] = {
    "game": (
        ("bad id", put("id", "Reed Game"), "id"),
        ("no versions", put("versions", []), "versions"),
        ("version twice", put("versions", ["1.0", "1.0"]), "twice"),
        ("unknown family", put("runtime", "family", "jawa"), "did you mean 'java'"),
        ("bad pattern", put("log", "ready", "(("), "regular expression"),
        ("no group", put("log", "content_begin", "start"), r"\(\?P<id>"),
        ("default out of range", put("settings", "max_players", "default", 99), "from 1 to 20"),
        ("path leaves", put("world", "folder", "../worlds"), "'..'"),
        ("world setting", put("world", "name_setting", "nothing"), "not in settings"),
        ("folder missing", put("folders", {"plugin": "p"}), "folders has no 'mod'"),
        ("port", put("ports", 0, "default", 70000), "from 1 to 65535"),
        ("role twice", lambda d: d["ports"].append(d["ports"][0]), "same role"),
        ("two consoles", put("console", {"stop": "x", "fifo": "a", "none": True}), "is one of"),
        ("no way to stop", put("console", {}), "stopped by"),
        ("typed into nothing", put("console", {"none": True, "stop": "x"}), "nothing can be typed"),
        ("unknown signal", put("console", {"stop_signal": "kill"}), "stop_signal"),
        ("console at no port", put("console", {"stop": "x", "tcp": {"port": "gat"}}), "not the role of a port"),
        (
            "word without a secret",
            put("console", {"stop": "x", "tcp": {"port": "gate", "login": "{password}"}}),
            "both",
        ),
        ("http without command", put("console", {"stop": "x", "http": {"port": "gate", "body": "x"}}), "{command}"),
        ("never ready", put("log", {}), "a pattern is required"),
        ("ready by nothing", put("ready", {}), "`port` or `file`"),
        ("ready at no port", put("ready", {"port": "gat"}), "not the role of a port"),
        ("udp without a question", put("ready", {"port": "gate", "protocol": "udp", "answer": "x"}), "over udp"),
        ("no escape", put("ready", {"port": "gate", "send": "\\xg"}), "escape"),
        ("placing without a folder", put("placing", {"plugin": {"unpack": True}}), "placing.plugin"),
        ("placing without an id", put("placing", {"mod": {"unpack": True, "name": "{version}"}}), "needs {id}"),
        ("placing leaves its folder", put("placing", {"mod": {"unpack": True, "name": "../{id}"}}), "needs {id}"),
        ("own loader installs", put("loaders", {"own": OWN | {"files": ["a"]}}), "installs nothing"),
        ("enabled without a name", put("loaders", {"own": OWN | {"enabled": {"file": "a", "key": "b"}}}), "{name}"),
        ("names without a key", put("settings", "crew", setting("names", "crew")), "{name}"),
        ("a key with names", put("settings", "crew", setting("text", "crew/{name}")), "{name}"),
        (
            "a secret argument",
            put("settings", "word", setting("text", "--word=", "arguments", secret=True)),
            "every user of the machine",
        ),
        (
            "together: no such setting",
            put("settings_together", [together(moon={"least": 1})]),
            "moon is not in settings",
        ),
        (
            "together: a span of words",
            put("settings_together", [together(world_name={"least": 1})]),
            "`one_of` is needed",
        ),
        ("together: no such value", put("settings_together", [together(max_players={"one_of": [99]})]), "from 1 to 20"),
        (
            "together: both tests",
            put("settings_together", [together(max_players={"least": 1, "one_of": [1]})]),
            "or `one_of`",
        ),
        (
            "together: nothing needed",
            put("settings_together", [together(least_heap_mib=0)]),
            "`least_heap_mib` is required",
        ),
        ("two files of arguments", put("settings", TWO_FILES), "one file of arguments"),
        ("variable", put("environment", {"A B": "c"}), "environment"),
        ("version without a group", put("world", "version", {"file": "a", "pattern": "v"}), r"\(\?P<version>"),
    ),
    "list": (
        ("no name", drop("name"), "name: missing"),
        ("near field", put("contents", {}), "did you mean 'content'"),
        ("bad range", put("content", "reedlight", ">=two"), "reedlight"),
        ("bad channel", put("channel", "stabel"), "did you mean 'stable'"),
        ("id with a space", put("content", "Reed Light", "*"), 'content."reed light"'),
        ("the same id twice", put("content", "ReedLight", "*"), "is the same item"),
        ("excluded and wished", put("exclude", ["reedlight"]), "exclude"),
        ("content is a list", put("content", ["reedlight"]), "a table is expected"),
        ("port is text", put("ports", {"game": "x"}), "ports.game"),
        ("bad bound", put("target", "loader_build", ">>3"), "loader_build"),
        ("wish", put("content", "chartroom", {"optional": "yes"}), "true or false"),
    ),
    "pack": (
        ("range for a version", put("content", "reedlight", ">=2"), "version"),
        ("no target", drop("target"), "target: missing"),
        ("no build", drop("target", "loader_build"), "belong together"),
        ("memory", put("memory", "least_mib", 300), "more than recommended"),
        ("runtime", put("target", "runtime", "17"), "whole number"),
        ("negative memory", put("memory", "least_mib", -1), "least_mib"),
        ("bad version", put("version", "new"), "version"),
    ),
    "shelf": (
        ("leaves", put("server", 0, "file", "/etc/passwd"), "relative"),
        ("build", put("loader", 0, "build", "x"), "build"),
        ("install", put("loader", 0, "install", "run"), "installer"),
        ("archives", put("archives", ".."), "archives"),
    ),
    "facts": (
        ("placement", put("placement", "both"), "shared"),
        ("port", put("ports", 0, "default", 0), "from 1 to 65535"),
        ("protocol", put("ports", 0, "protocols", ["icmp"]), "tcp"),
        ("requirement", put("requires", [{}]), "either `id` or `one_of`"),
    ),
    "catalog": (
        ("name", put("name", "My Shelf"), "name"),
        ("games", put("games", []), "a table is expected"),
        ("path", put("games", "tarnholt", "host", "a\\b"), "host"),
    ),
    "index": (
        ("kind", put("items", "reedlight", "kind", "mode"), "did you mean 'mod'"),
        ("id", put("items", "a b", {"title": "", "kind": "mod"}), "a b"),
        ("title", put("items", "reedlight", "title", 3), "text"),
    ),
    "item": (
        ("hash", put("releases", 0, "artefact", "sha256", "beef"), "64 small hexadecimal"),
        ("size", put("releases", 0, "artefact", "size", -1), "size"),
        ("version", put("releases", 0, "version", "?"), r"releases\[0\].version"),
        ("empty choice", put("releases", 0, "requires", [{"one_of": []}]), "either `id` or `one_of`"),
    ),
    "host-files": (
        ("no artefact", drop("server", 0, "artefact"), "artefact: missing"),
        ("channel", put("loaders", 0, "channel", "nightly"), "channel"),
        ("loader", put("loaders", 0, "loader", ""), "loader"),
    ),
    "lock": (
        ("hand-made hash", put("server", "sha256", "x" * 64), "64 small"),
        ("side", put("releases", 0, "on_server", "yes"), "true or false"),
        ("no target", drop("target"), "target: missing"),
        ("path", put("releases", 0, "file", "path", "../../x.jar"), "'..'"),
    ),
    "kit": (
        ("path", put("pieces", 0, "files", 0, "path", "../x.jar"), r"'\.\.'"),
        ("hash", put("others", 0, "sha256", "y" * 64), "64 small"),
        ("pattern", put("loader_mark", "pattern", "(?P<version>"), "regular expression"),
        ("for ever", put("loader_mark", "pattern", "^((?P<version>a)+)+$"), "repeats a group"),
        ("version", drop("pieces", 0, "version"), "version: missing"),
    ),
    "inventory": (
        ("path", put("files", "../x", {"sha256": HASH, "size": 1, "origin": "o"}), r"\.\./x"),
        ("origin", drop("files", "mods/a.jar", "origin"), "origin: missing"),
        ("list", put("files", []), "a table is expected"),
    ),
    "instance": (
        ("port", put("ports", "game", 0), "ports.game"),
        ("heap", put("heap_mib", 1.5), "whole number"),
        ("major", put("runtime", "major", "17"), "runtime.major"),
    ),
    "kept": (
        ("number", put("number", 0), "number"),
        ("path", put("files", "../x", {"sha256": HASH, "size": 1}), "files"),
        ("inside", put("instance", "heap_mib", 1.5), "instance.heap_mib"),
    ),
    "backup": (
        ("path", put("world", "/etc/passwd", {}), "world"),
        ("calm", put("calm", "asleep"), "calm"),
        ("chunk", put("world", "marshes/fen/a", "chunks", 0, "x"), "chunks"),
    ),
    "tree": (
        ("path", put("files", "../c", {"sha256": HASH, "size": 0}), "files"),
        ("pieces", put("files", "a/b.bin", "pieces", [HASH]), "add up"),
        ("piece size", put("piece_size", 1), "piece_size"),
    ),
    "preset": (
        ("value", put("settings", "pvp", [1]), "settings"),
        ("name", put("settings", "A B", 1), "settings"),
        ("whole and more", put("more", {"pvp": ["Tove"]}), "in settings too"),
        ("title", put("title", 3), "title"),
    ),
    "machines": (
        ("no machines", put("machines", {}), "at least one"),
        ("unknown machine", put("servers", "marsh", "machine", "gamma"), "not one of the machines"),
        ("unknown on", put("servers", "fen", "on", ["gamma"]), "not one of the machines"),
        ("unknown server", put("placement", "together", [["marsh", "gate"]]), "not one of the servers"),
        ("alone", put("placement", "apart", [["marsh"]]), "not a group"),
        ("ports", put("machines", "alpha", "ports", ["x"]), "neither a port number"),
        ("outside", put("machines", "alpha", "folder", "/srv/../etc"), "not an absolute path"),
        ("option", put("machines", "alpha", "user", "-x"), "begins with -"),
        ("moves", put("placement", "moves", "some"), "moves"),
        ("twice", put("servers", "fen", "fixed_ports", [25000, 25000]), "twice"),
    ),
    "remote": (
        ("way", put("reach", "by", "pigeon"), "pigeon"),
        ("no host", drop("reach", "host"), "are required"),
        ("outside", put("reach", "folder", "/server/../../etc"), "leads outside"),
        ("start file", put("dictates", "start_file", "../run.sh"), "relative path"),
        ("ending", put("dictates", "forbidden", ["exe"]), "is not an ending"),
        ("two ways to start", put("dictates", "start_command", "java -jar x.jar"), "exclude each other"),
        ("log", put("dictates", "log", "logs-*/x.txt"), "only the file's name"),
        ("roles", both(put("dictates", "ports", [1]), put("dictates", "roles", {"game": 2})), "not one of `ports`"),
        (
            "control",
            both(put("reach", "by", "folder"), put("reach", "folder", "/x"), put("control", {"stop": ["x"]})),
            "here = true",
        ),
    ),
    "push": (
        ("path", put("files", "../x", {"sha256": HASH, "size": 1, "mtime": 1}), r"\.\./x"),
        ("time", put("files", "mods/a.jar", "mtime", "now"), "mtime"),
        ("hash", put("files", "mods/a.jar", "sha256", "x"), "64 small"),
    ),
    "push-mark": (
        ("since", put("since", "today"), "since"),
        ("push", drop("push"), "push: missing"),
        ("who", put("who", 3), "who"),
    ),
    "push-undo": (
        ("path", put("files", "../x", {"sha256": HASH, "size": 1, "mtime": 1}), r"\.\./x"),
        ("moved", put("moved", ["../x"]), "moved"),
        ("since", put("since", "now"), "since"),
    ),
    "host": (
        ("range", put("ports", ["9-1"]), "small to large"),
        ("word", put("ports", ["many"]), "24000-24100"),
        ("memory", put("memory_mib", -1), "memory_mib"),
    ),
    "sealed": (
        ("lane", drop("lane"), "lane"),
        ("piece", put("pieces", ["x"]), "pieces"),
        ("size", put("size", -1), "size"),
    ),
    "backups": (
        ("id", put("id", "A B"), "id"),
        ("places", put("places", "/mnt"), "places"),
        ("a number", put("places", [1]), "places"),
    ),
    "credentials": (
        ("address", put("catalog", 0, "address", "ftp://x"), "https"),
        ("two ways", put("catalog", 0, "token", "t"), "token"),
        ("no way", drop("catalog", 0, "password"), "password"),
        ("line end", put("catalog", 0, {"address": "https://x", "token": "a\nb"}), "line end"),
        ("shown nowhere", put("catalog", 0, "password", ["hush-hush"]), "^(?!.*hush)"),
    ),
}
