"""Native files: what an edit does not name keeps its bytes; what a person edited stays."""

import unittest
from pathlib import Path

import msgspec
from hypothesis import given
from hypothesis import strategies as st

from rhizon.app.instance.edited_files import HIDDEN, shown_diff
from rhizon.core.errors import DocumentError, InputError
from rhizon.core.model.base import Strict
from rhizon.core.model.decode import decode_toml
from rhizon.core.model.setting import SettingDefinition, SettingPlace
from rhizon.core.names import RelPath
from rhizon.core.settings.apply import checked_settings, edits_for, in_file, in_place, more_or_fewer
from rhizon.core.settings.dialects import DIALECTS
from rhizon.core.settings.shared import SHARED, meant
from tests.support import TARNHOLT

ROOT = Path(__file__).parents[2]
PROPERTIES = DIALECTS["properties"]

# before, change, after
EDITS = (
    (b"# c\n\na = 1\nb: 2\n! d\n", {"a": "9"}, b"# c\n\na = 9\nb: 2\n! d\n"),
    (b"a=1\r\nb=2\r\n", {"b": "3"}, b"a=1\r\nb=3\r\n"),
    (b"a=1", {"c": "x y"}, b"a=1\nc = x y\n"),
    (b"", {"a": "1"}, b"a = 1\n"),
    (b"a = one \\\n  two\nb = 1\n", {"b": "2"}, b"a = one \\\n  two\nb = 2\n"),
    ("n = ä\n".encode(), {"m": "ö"}, "n = ä\nm = ö\n".encode()),
    (b"bad \xff byte = 1\nb = 1\n", {"b": "2"}, b"bad \xff byte = 1\nb = 2\n"),
    (b"# a\na = 1\n# b\nb = 2\n", {"a": None, "z": None}, b"# a\n# b\nb = 2\n"),
)


class Definitions(Strict, frozen=True, kw_only=True):
    """Settings alone, as a definition has them."""

    settings: dict[str, SettingDefinition]


TEXT = st.text(st.characters(codec="utf-8", exclude_categories=["Cs", "Cc"]), max_size=12)
KEYS = st.from_regex(r"[a-z]{1,4}(\.[a-z]{1,4})?", fullmatch=True)


class Properties(unittest.TestCase):
    def test_edits(self) -> None:
        for before, change, after in EDITS:
            with self.subTest(before=before):
                self.assertEqual(PROPERTIES.edit(before, change), after)
                self.assertEqual(PROPERTIES.edit(after, change), after)

    @given(st.dictionaries(KEYS, TEXT, max_size=5), st.dictionaries(KEYS, TEXT, max_size=3))
    def test_written_is_read(self, first: dict[str, str], then: dict[str, str]) -> None:
        data = PROPERTIES.edit(PROPERTIES.edit(b"# kept\n", first), then)
        self.assertEqual(PROPERTIES.read(data), first | then)
        self.assertTrue(data.startswith(b"# kept\n"))
        self.assertEqual(PROPERTIES.edit(data, first | then), data)

    @given(st.binary(max_size=80))
    def test_any_bytes(self, data: bytes) -> None:
        try:
            values = PROPERTIES.read(data)
        except ValueError:
            return
        self.assertEqual(PROPERTIES.edit(data, values), data)


# dialect, before, after: none of them tells the secret, whatever the file's name ends with
SECRETS = (
    ("properties", b"pass = sesame\nn = 1\n", b"pass = sesame2\nn = 2\n"),
    ("ini", b"[a]\npass = sesame\nn = 1\n", b"[a]\npass = sesame2\nn = 2\n"),
    ("json", b'{"pass": "sesame",\n "n": 1}', b'{"pass": "sesame2",\n "n": 2}'),
    ("yaml", b"pass: sesame\nn: 1\n", b"pass: sesame2\nn: 2\n"),
    ("xml", b"<a><pass>sesame</pass>\n<n>1</n></a>", b"<a><pass>sesame2</pass>\n<n>2</n></a>"),
    ("json", b'{"pass": "sesame"', b'{"pass": "sesame2",\n "n": 2}'),
)


class Secrets(unittest.TestCase):
    def test_a_diff_hides_them_in_every_dialect(self) -> None:
        for dialect, before, after in SECRETS:
            key = "a/pass" if dialect == "ini" else "pass"
            stored = SettingPlace(file=RelPath("harbour.cfg"), key=key, dialect=dialect)
            password = msgspec.structs.replace(TARNHOLT.settings["password"], store=stored)
            game = msgspec.structs.replace(TARNHOLT, settings={**TARNHOLT.settings, "password": password})
            with self.subTest(dialect=dialect, before=before):
                lines = "\n".join(shown_diff(RelPath("harbour.cfg"), before, after, game).lines)
                self.assertNotIn("sesame", lines)
                self.assertIn(HIDDEN, lines)
                self.assertRegex(lines, r"(?m)^\+.*2")


class Apply(unittest.TestCase):
    def test_types_and_near_names(self) -> None:
        self.assertEqual(
            checked_settings(TARNHOLT, {"max_players": "20", "pvp": "yes", "name": "A"}, "x"),
            {"max_players": 20, "pvp": True, "name": "A"},
        )
        wrong = (
            ({"max_playrs": 3}, "did you mean 'max_players'"),
            ({"max_players": 0}, "from 1 to 200"),
            ({"max_players": True}, "whole number"),
            ({"max_players": "4.5"}, "whole number"),
            ({"pvp": "maybe"}, "yes or no"),
            ({"difficulty": "calm"}, "easy, normal, hard"),
            ({"name": "two\nlines"}, "one line"),
            ({"password": "sesame"}, "--secret"),
            ({"pvp": 1, "difficulty": 1}, "2 settings"),
        )
        for values, words in wrong:
            with self.subTest(values=values):
                with self.assertRaises(InputError) as caught:
                    checked_settings(TARNHOLT, values, "the list")
                self.assertRegex(caught.exception.message, words)
                self.assertNotIn("sesame", caught.exception.message + "".join(caught.exception.details))

    def test_edits_are_in_the_games_own_words(self) -> None:
        edits = edits_for(TARNHOLT, {"difficulty": "hard", "pvp": False}, {"game": 21999}, {})
        expected = {"marsh.temper": "stormy", "marsh.quarrels": False, "net.game": 21999}
        self.assertEqual(edits, {"marsh.properties": ("properties", expected)})

    def test_one_setting_in_several_places_with_units_and_words(self) -> None:
        """Minutes of ours are ticks and milliseconds there; a mode is a word in one file and a number in another."""
        made = decode_toml(
            Definitions,
            b"""
            [settings.rest]
            type = "integer"
            meaning = "minutes"
            default = 5
            store = { file = "a.ini", dialect = "ini", key = "S/rest", factor = 1200, offset = 20 }
            also = [{ file = "b.json", dialect = "json", key = "rest/ms", factor = 60000 }]
            [settings.mode]
            type = "choice"
            meaning = "how hard"
            default = "calm"
            choices = ["calm", "wild"]
            words = { calm = "0", wild = "2" }
            store = { file = "a.ini", dialect = "ini", key = "S/mode" }
            also = [{ file = "c.properties", key = "mode", words = { calm = "still", wild = "stormy" } }]
            """,
            "definition",
            "settings",
        )
        game = msgspec.structs.replace(TARNHOLT, settings={**TARNHOLT.settings, **made.settings})
        edits = edits_for(game, {"rest": 3, "mode": "wild"}, {}, {})
        self.assertEqual(
            edits,
            {
                "a.ini": ("ini", {"S/rest": 3620, "S/mode": "2"}),
                "b.json": ("json", {"rest/ms": 180000}),
                "c.properties": ("properties", {"mode": "stormy"}),
            },
        )
        for name, expected in (("rest", 3), ("mode", "wild")):
            for place in made.settings[name].places:
                dialect, values = edits[place.file]
                said = DIALECTS[dialect].read(DIALECTS[dialect].edit(b"", dict(values)))
                self.assertEqual(in_place(made.settings[name], place, DIALECTS[dialect], said), expected)
        odd = {"S/rest": "3621"}  # no whole number of minutes: the file's own words are shown
        self.assertEqual(in_file(made.settings["rest"], DIALECTS["ini"], odd)[0], 3621)
        place = 'file = "a"\nkey = "b"\n'
        for wrong in (
            f'type = "text"\ndefault = ""\n[settings.x.store]\n{place}factor = 2\n',
            f'type = "text"\ndefault = ""\n[[settings.x.also]]\n{place}',
            (
                'type = "names"\ndefault = ""\n[settings.x.store]\nfile = "a"\nkey = "{name}"\n'
                f"[[settings.x.also]]\n{place}"
            ),
        ):
            with self.assertRaises(DocumentError):
                decode_toml(Definitions, f'[settings.x]\nmeaning = ""\n{wrong}\n'.encode(), "definition", "settings")

    def test_lists_of_names_in_every_form(self) -> None:
        rows = (
            ("lines", "{name}", b"# crew\nAud\n", b"# crew\nAud\nLiv\n"),
            ("ini", "Crew/{name}", b"[Crew]\nAud = aye\nTove = nay\n", b"[Crew]\nAud = aye\nTove = nay\nLiv = aye\n"),
            ("json", "crew/[{name}]", b'{"crew": ["Aud"]}', b'{"crew": ["Aud", "Liv"]}'),
            (
                "xml",
                "crew/hand[@name={name}]/@is",
                b'<s><crew><hand name="Aud" is="aye"/></crew></s>',
                b'<s><crew><hand name="Aud" is="aye"/><hand name="Liv" is="aye"/></crew></s>',
            ),
        )
        for dialect, key, before, after in rows:
            words = {} if dialect in ("lines", "json") else {"yes": "aye", "no": "nay"}
            place = SettingPlace(file=RelPath("crew"), dialect=dialect, key=key)
            crew = SettingDefinition(type="names", meaning="", default="", words=words, store=place)
            game = msgspec.structs.replace(TARNHOLT, settings={**TARNHOLT.settings, "operators": crew})
            with self.subTest(dialect):
                there, _ = in_file(crew, DIALECTS[dialect], DIALECTS[dialect].read(before))
                self.assertEqual(there, "Aud")
                longer = more_or_fewer(crew, there or "", "+", "Liv, Aud")
                self.assertEqual(longer, "Aud, Liv")
                self.assertEqual(more_or_fewer(crew, longer, "-", "Aud"), "Liv")
                _, values = edits_for(game, {"operators": longer}, {}, {})["crew"]
                made = DIALECTS[dialect].edit(before, values)
                self.assertEqual(b"".join(made.split()), b"".join(after.split()))
                self.assertEqual(in_file(crew, DIALECTS[dialect], DIALECTS[dialect].read(made))[0], "Aud, Liv")
        for wrong in ("a/b", 'Aud"', "x" * 65, "A\tB", ["Aud", "b;c"]):
            with self.subTest(wrong=wrong), self.assertRaisesRegex(ValueError, "name"):
                crew.checked(wrong)
        self.assertEqual(crew.checked(("Aud", " Liv ", "Aud")), "Aud, Liv")


class SharedNames(unittest.TestCase):
    def test_what_a_name_seems_to_mean(self) -> None:
        for name, wanted in (
            ("max_playrs", "max_players"),
            ("players_max", "max_players"),
            ("admins", "operators"),
            ("timezone", "time_zone"),
            ("allow_list", "allowlist"),
            ("no_fog", None),
            ("weather", None),
            *((one, None) for one in SHARED),
        ):
            with self.subTest(name):
                self.assertEqual(meant(name), wanted)

    def test_no_word_means_two_settings_and_all_are_told(self) -> None:
        others = [other for one in SHARED.values() for other in one.others]
        self.assertEqual(len(others), len({*others} - SHARED.keys()))
        guide = (ROOT / "docs/describe-a-game.md").read_text("utf-8")
        blank = (ROOT / "src/rhizon/games/blank.toml").read_text("utf-8")
        for name, one in SHARED.items():
            with self.subTest(name):
                self.assertIn(f"| `{name}` | {' or '.join(one.types)} | {one.meaning} |", guide)
                self.assertRegex(blank, rf"\b{name}\b")


class Worlds(unittest.TestCase):
    def test_a_world_of_a_newer_game(self) -> None:
        older, newer = TARNHOLT.versions[-2:]
        rows = (
            (newer, older, True),
            (older, newer, False),
            (newer, newer, False),
            (f"{older}.7", older, False),
            ("99.0", newer, True),
            ("0.1", newer, False),
            (f"{newer}-preview", newer, False),
            ("", newer, False),
            ("harvest", newer, False),
            ("99", "harvest", False),
        )
        for version, than, wanted in rows:
            with self.subTest(version=version, than=than):
                self.assertEqual(TARNHOLT.is_newer(version, than), wanted)
