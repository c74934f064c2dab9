"""What a real server's folder shows of its game, what every field means, and definitions that build on another."""

import re
import tomllib
import unittest

from rhizon.adapters.games import GAMES, field_texts, read_game
from rhizon.core.check.example_line import example_line
from rhizon.core.describe.folder import FileFacts, FolderFacts
from rhizon.core.describe.log_found import found_in_log, pattern_of
from rhizon.core.describe.propose import propose
from rhizon.core.describe.start_lines import heap_of, start_lines
from rhizon.core.model.documents import decode
from rhizon.core.model.extend import extended
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.game_fields import TABLES, example_of, field_lines

PROPERTIES = b"# largest number of boats\nboats=12\nlisted=false\ngate_port=23123\njoin-password=x\nmap=bay\n"
HOUSE = b'{"sign": "Low tide", "depth": {"fathoms": 3}, // how deep\n "open": true}'
SCRIPT = b"#!/bin/sh\nHEAP=700m\nexec java -Xmx$HEAP -cp lib/a.jar:bay.jar bay.Main\n"
FOLDER = FolderFacts(
    (
        FileFacts("bay.properties", 60, False, b"#", PROPERTIES),
        FileFacts("go.sh", 60, True, b"#!", SCRIPT),
        FileFacts("bay.jar", 900, False, b"PK"),
        FileFacts("house.json", 60, False, b"{", HOUSE),
        FileFacts("house.ini", 9, False, b"[", "[S]\nword = blå\n".encode("latin-1")),
        FileFacts("waters/bay/level.dat", 60, False, b"\0"),
        FileFacts("plugins/tide-1.2.jar", 60, False, b"PK"),
    ),
    ("lib", "plugins", "waters", "waters/bay"),
)
LOG = (
    "[10:00:00] loading tide 1.2",
    "[10:00:00] tide is loaded",
    "[10:00:01] the bay is ready on 23123, 0 boats",
    "[10:02:00] the bay is closed",
)


class Proposed(unittest.TestCase):
    def test_a_folder_and_its_log(self) -> None:
        made = propose("bay", "Bay", FOLDER, LOG)
        game = decode(GameDefinition, made.text.encode(), "bay.game.toml")
        self.assertEqual(game.runtime.family, "java")
        self.assertEqual(game.command, ("{runtime}", "{runtime_flags}", "-cp", "lib/a.jar:bay.jar", "bay.Main"))
        self.assertEqual((game.memory.base_mib, game.folders), (700, {"plugin": "plugins"}))
        self.assertEqual(
            {name: (one.type, one.default, one.meaning) for name, one in game.settings.items()},
            {
                "boats": ("integer", 12, "largest number of boats"),
                "visibility": ("flag", False, "listed"),
                "password": ("text", "", "join-password"),
                "world_name": ("text", "bay", "map"),
                "sign": ("text", "Low tide", "sign"),
                "fathoms": ("integer", 3, "how deep"),
                "open": ("flag", True, "open"),
                "word": ("text", "blå", "S/word"),
            },
        )
        places = {name: (one.store.file, one.store.written) for name, one in game.settings.items() if one.store}
        self.assertEqual(places["word"], ("house.ini", "ini@latin-1"))
        self.assertEqual(places["sign"], ("house.json", "jsonc"))
        self.assertTrue(game.settings["password"].secret)
        self.assertEqual([(one.role, one.default) for one in game.ports], [("gate", 23123)])
        self.assertEqual((game.world.folder, game.world.path("bay")), ("waters", "waters/bay"))
        for pattern, line in ((game.log.ready, LOG[2]), (game.log.closed, LOG[3])):
            self.assertIsNotNone(re.search(pattern, line.replace("10:0", "23:5").replace("23123", "40000")))
        self.assertEqual(re.search(game.log.content_begin, "[23:59:59] loading otter 2")["id"], "otter")  # type: ignore[index]
        self.assertIn("loaders.own.metadata", made.open[0])

    def test_an_empty_folder(self) -> None:
        made = propose("bay", "Bay", FolderFacts((), ()), ())
        decode(GameDefinition, made.text.encode(), "bay.game.toml")
        self.assertGreaterEqual(len(made.open), 5)

    def test_start_lines(self) -> None:
        rows = (
            ("run.sh", "java -jar bay.jar unlit # x", ("java", "-jar", "bay.jar", "unlit", "#", "x")),
            (
                "run.bat",
                '@echo off\r\nset "J=java"\r\n%J% -Xms1g -jar bay.jar\r\npause\r\n',
                ("java", "-Xms1g", "-jar", "bay.jar"),
            ),
            ("run.sh", "cd x && echo no\n./bay.jar --a 'b c' > log 2>&1 &\n", ("./bay.jar", "--a", "b c")),
            ("run.sh", "java -jar other.jar", None),
        )
        for name, text, words in rows:
            with self.subTest(text):
                files = (FileFacts(name, 1, True, b"", text.encode()), FileFacts("bay.jar", 1, False, b"PK"))
                found = start_lines(FolderFacts(files, ()))
                self.assertEqual([one.words for one in found], [words] if words else [])
        heaps = {("-Xmx2G",): 2048, ("-Xmx1048576k",): 1024, ("--max-old-space-size=300",): 300, ("-Xms1g",): 0}
        self.assertEqual({words: heap_of(words) for words in heaps}, heaps)

    def test_patterns_of_lines(self) -> None:
        self.assertEqual(
            pattern_of("2026-01-02 03:04:05,678 - open (at 7) 1.2", (7,)), r"open \(at (?P<port>\d+)\) [\d.]+"
        )
        self.assertEqual(found_in_log(("nothing here",), (), ()).ready, "")


class Fields(unittest.TestCase):
    def test_every_field_has_a_meaning_and_an_example_that_is_toml(self) -> None:
        texts = field_texts()
        lines = field_lines(texts)
        known = {(one.table, one.name) for one in lines}
        self.assertEqual({(table, name) for table, fields in texts.items() for name in fields} - known, set())
        self.assertEqual(set(TABLES.values()), set(texts))
        for one in lines:
            with self.subTest(f"{one.table}.{one.name}"):
                self.assertTrue(one.meaning and one.meaning[-1] != ".")
                tomllib.loads(f"x = {one.example.replace('...', '').replace('{  }', '{}')}")

    def test_examples_by_place(self) -> None:
        texts = field_texts()
        for place, name in (
            ("ports[0].default", "default = 24500"),
            ("settings.max_players.type", 'type = "integer"'),
            ("settings.x.store.dialect", 'dialect = "ini"'),
            ("console.tcp.port", 'port = "admin"'),
            ("licence.answer.file", 'file = "mill.ini"'),
            ("nothing.at.all", ""),
        ):
            with self.subTest(place):
                self.assertEqual(example_of(texts, place), name)


class Extending(unittest.TestCase):
    def test_what_is_put_together(self) -> None:
        base = {
            "a": {"b": 1, "c": [1]},
            "ports": [{"role": "x", "n": 1}, {"role": "y"}],
            "log": {"failures": [{"code": "p"}]},
        }
        own = {
            "a": {"c": [2], "d": 3},
            "ports": [{"role": "y", "n": 2}, {"role": "z"}],
            "log": {"failures": [{"code": "q"}]},
        }
        self.assertEqual(
            extended(base, own),
            {
                "a": {"b": 1, "c": [2], "d": 3},
                "ports": [{"role": "x", "n": 1}, {"role": "y", "n": 2}, {"role": "z"}],
                "log": {"failures": [{"code": "p"}, {"code": "q"}]},
            },
        )
        self.assertEqual(extended(base, {"log": "none"}).keys(), {"a", "ports"})
        self.assertEqual(base["a"], {"b": 1, "c": [1]})

    def test_a_line_for_every_pattern_of_the_shipped_games(self) -> None:
        for file in GAMES.glob("*.game.toml"):
            log = read_game(file).log
            for pattern in (log.ready, log.closed, log.content_begin, *(one.pattern for one in log.failures)):
                with self.subTest(pattern):
                    self.assertRegex(example_line(pattern) or "", pattern)
        self.assertIsNone(example_line(r"a(?=b)c"))
