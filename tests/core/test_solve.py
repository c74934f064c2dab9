"""The solver: tables of small catalogs, and random ones against an exhaustive search."""

import itertools
import unittest
from collections.abc import Mapping
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

from rhizon.core.errors import NoSolutionError
from rhizon.core.model.contentlist import TargetWish, Wish
from rhizon.core.model.decode import encode_json
from rhizon.core.solve import Request, Solution, solve
from rhizon.core.version import parse_range
from tests.support import TARNHOLT, MemoryShelf

Items = Mapping[str, Mapping[str, Mapping[str, Any]]]


def needs(**ranges: str) -> dict[str, Any]:
    return {"requires": [{"id": name, "range": wanted} for name, wanted in ranges.items()]}


def ask(items: Items, wishes: Mapping[str, str | Wish], **target: str) -> Solution:
    """Solves; a wish is a range, or a Wish. ``channel``, ``exclude`` and ``majors`` may stand in ``target``."""
    request = Request(
        name="test",
        source="the list",
        game="tarnholt",
        wishes={n: w if isinstance(w, Wish) else Wish(range=parse_range(w)) for n, w in wishes.items()},
        channel=target.pop("channel", "stable"),  # type: ignore[arg-type]
        exclude=frozenset(filter(None, [target.pop("exclude", "")])),
        majors=tuple(map(int, target.pop("majors", "17 21").split())),
        target=TargetWish(
            loader=target.pop("loader", None), **{name: parse_range(text) for name, text in target.items()}
        ),
    )
    return solve(request, TARNHOLT, MemoryShelf(items, {"gull": "emberline"}))


def chosen(solution: Solution) -> dict[str, str]:
    return {one.id: one.version.text for one in solution.lock.releases}


LIB = {"lib": {"1.0": {}, "1.5": {}, "2.0": {}}}
CHOICES: tuple[tuple[str, Items, dict[str, str | Wish], dict[str, str], dict[str, str]], ...] = (
    ("newest", {"a": {"1.0": {}, "1.2": {}, "1.1": {}}}, {"a": "*"}, {}, {"a": "1.2"}),
    ("range", LIB, {"lib": "<2"}, {}, {"lib": "1.5"}),
    ("dependency", {"a": {"1.0": needs(lib="<2")}, **LIB}, {"a": "*"}, {}, {"a": "1.0", "lib": "1.5"}),
    (
        "backtracks to an older wish",
        {"a": {"2.0": needs(lib=">=3"), "1.0": needs(lib="1.5")}, **LIB},
        {"a": "*"},
        {},
        {"a": "1.0", "lib": "1.5"},
    ),
    (
        "two needs meet",
        {"a": {"1": needs(lib=">=1")}, "b": {"1": needs(lib="<2")}, **LIB},
        {"a": "*", "b": "*"},
        {},
        {"a": "1", "b": "1", "lib": "1.5"},
    ),
    ("a circle", {"a": {"1": needs(b="*")}, "b": {"1": needs(a="*")}}, {"a": "*"}, {}, {"a": "1", "b": "1"}),
    ("preview is not taken", {"a": {"1": {}, "2": {"channel": "preview"}}}, {"a": "*"}, {}, {"a": "1"}),
    ("unless asked", {"a": {"1": {}, "2": {"channel": "preview"}}}, {"a": Wish(channel="preview")}, {}, {"a": "2"}),
    ("or overall", {"a": {"1": {}, "2": {"channel": "preview"}}}, {"a": "*"}, {"channel": "preview"}, {"a": "2"}),
    ("yanked is not taken", {"a": {"1": {}, "2": {"yanked": "broke worlds"}}}, {"a": "*"}, {}, {"a": "1"}),
    ("game version", {"a": {"1": {}, "2": {"game_versions": "<4.2"}}}, {"a": "*"}, {"game_version": "4.2"}, {"a": "1"}),
    ("loader", {"a": {"1": {"loaders": {"gunwale": "*"}}}}, {"a": "*"}, {}, {"a": "1"}),
    ("build", {"a": {"1": {}, "2": {"loaders": {"keelson": ">=9"}}}}, {"a": "*"}, {"loader": "keelson"}, {"a": "1"}),
    ("runtime", {"a": {"1": {}, "2": {"runtime": ">=21"}}}, {"a": "*"}, {}, {"a": "1"}),
    (
        "runtime that is preferred",
        {"a": {"1": {}, "2": {"runtime": ">=21"}}},
        {"a": "*"},
        {"majors": "21 17"},
        {"a": "2"},
    ),
    (
        "one of several",
        {"a": {"1": {"requires": [{"one_of": [{"id": "gone"}, {"id": "lib", "range": "<2"}]}]}}, **LIB},
        {"a": "*"},
        {},
        {"a": "1", "lib": "1.5"},
    ),
    (
        "a stand-in",
        {"a": {"1": needs(lib="*")}, "c": {"1": {"provides": [{"id": "lib", "version": "1.2"}]}}, **LIB},
        {"c": "*", "a": "*"},
        {},
        {"a": "1", "c": "1"},
    ),
    (
        "embedded",
        {"a": {"1": needs(lib=">=2")}, "c": {"1": {"embeds": [{"id": "lib", "version": "2.0"}]}}},
        {"c": "*", "a": "*"},
        {},
        {"a": "1", "c": "1"},
    ),
    (
        "conflict",
        {"a": {"1": {}}, "b": {"1": {}, "2": {"conflicts": [{"id": "a"}]}}},
        {"a": "*", "b": "*"},
        {},
        {"a": "1", "b": "1"},
    ),
    (
        "optional relation out of range",
        {"a": {"1": {}, "2": {"optional": [{"id": "lib", "range": "<2"}]}}, **LIB},
        {"lib": ">=2", "a": "*"},
        {},
        {"a": "1", "lib": "2.0"},
    ),
    (
        "optional wish dropped",
        {"a": {"1": {}}, "b": {"1": needs(c="*")}},
        {"a": "*", "b": Wish(optional=True)},
        {},
        {"a": "1"},
    ),
    ("older game for all", {"a": {"1": {"game_versions": "<4.2"}}}, {"a": "*"}, {}, {"a": "1"}),
)
REFUSED: tuple[tuple[str, Items, dict[str, str | Wish], dict[str, str], str, str], ...] = (
    ("unknown", {"reedlight": {"1": {}}}, {"reedligth": "*"}, {}, "unknown-content", "near it: reedlight"),
    ("other game", {"a": {"1": {}}}, {"gull": "*"}, {}, "unknown-content", "emberline only"),
    (
        "no such release",
        LIB,
        {"lib": ">=7"},
        {},
        "no-solution",
        r"lib >=7, and none of its releases is \(1.0, 1.5, 2.0\)",
    ),
    (
        "excluded need",
        {"a": {"1": needs(lib="*")}, **LIB},
        {"a": "*"},
        {"exclude": "lib"},
        "no-solution",
        "is excluded by the list",
    ),
    (
        "self-conflict",
        {"a": {"1": needs(b="*")}, "b": {"1": {"conflicts": [{"id": "a"}]}}},
        {"a": "*"},
        {},
        "no-solution",
        "beside",
    ),
    ("no target", LIB, {"lib": "*"}, {"game_version": ">=5"}, "no-target", "4.2"),
    ("no build", LIB, {"lib": "*"}, {"loader": "keelson", "loader_build": ">=9"}, "no-target", "keelson 3.1.0"),
    (
        "clash of two needs",
        {"a": {"1": needs(lib=">=2")}, "b": {"1": needs(lib="<2")}, **LIB},
        {"a": "*", "b": "*"},
        {},
        "no-solution",
        "a 1 needs lib >=2 (.|\n)*b 1 needs lib <2",
    ),
)


class Choices(unittest.TestCase):
    def test_rows(self) -> None:
        for what, items, wishes, target, expected in CHOICES:
            with self.subTest(what):
                self.assertEqual(chosen(ask(items, wishes, **target)), expected)

    def test_refused(self) -> None:
        for what, items, wishes, target, code, words in REFUSED:
            with self.subTest(what):
                with self.assertRaises(NoSolutionError) as caught:
                    ask(items, wishes, **target)
                error = caught.exception
                self.assertEqual((error.code, error.exit_code), (code, 3))
                self.assertRegex("\n".join([error.message, *error.details]), words)

    def test_the_target(self) -> None:
        rows = (
            ({}, "4.2 keelson 3.1.0 17"),
            ({"loader": "gunwale"}, "4.2 gunwale 5.1.0 17"),
            ({"game_version": "<4.2"}, "4.1 keelson 3.0.2 17"),
            ({"loader_build": "3.2.0-preview.1"}, "4.2 keelson 3.2.0-preview.1 17"),
            ({"channel": "preview"}, "4.2 keelson 3.1.0 17"),
            ({"runtime": ">=21"}, "4.2 keelson 3.1.0 21"),
            ({"game_version": "4.1", "majors": "25 17"}, "4.1 keelson 3.0.2 17"),
        )
        for target, expected in rows:
            with self.subTest(target=target):
                got = ask(LIB, {"lib": "*"}, **target).lock.target  # type: ignore[arg-type]
                self.assertEqual(f"{got.game_version} {got.loader} {got.loader_build} {got.runtime_major}", expected)

    def test_sides(self) -> None:
        items = {
            "shaders": {"1": {"placement": "player", **needs(paint="*", lib="*")}},
            "paint": {"1": {}},
            "guard": {"1": {"placement": "server", **needs(lib="*")}},
            "map": {"1": {"placement": "any"}},
            **LIB,
        }
        lock = ask(items, {"shaders": "*", "guard": "*", "map": "*"}).lock
        sides = {one.id: (one.on_server, one.for_players) for one in lock.releases}
        expected = {
            "shaders": (False, True),
            "paint": (False, True),
            "guard": (True, False),
            "map": (True, True),
            "lib": (True, True),
        }
        self.assertEqual(sides, expected)
        self.assertEqual({one.id: one.because for one in lock.releases}["lib"], ("guard", "shaders"))

    def test_what_holds_a_release_back(self) -> None:
        items = {"a": {"1": needs(lib="<2")}, "b": {"1": {}, "2": {"runtime": ">=25"}}, **LIB}
        held = {one.id: one.held_back_by for one in ask(items, {"a": "*", "b": "*"}).lock.releases}
        self.assertEqual(held["lib"].reason, "2.0 is outside <2, which a 1 needs")  # type: ignore[union-attr]
        self.assertEqual(held["b"].reason, "2 wants Java >=25")  # type: ignore[union-attr]
        self.assertIsNone(held["a"])

    def test_look_alikes_are_told(self) -> None:
        findings = ask({"peat-fires": {"1": {}}, "peatfires": {"1": {}}}, {"peatfires": "*"}).findings
        self.assertEqual([(one.code, one.subject) for one in findings], [("look-alike", "peatfires")])

    def test_a_deep_chain_and_a_wide_list(self) -> None:
        items = {f"a{n}": {"1": needs(**{f"a{n + 1}": "*"})} for n in range(1500)} | {"a1500": {"1": {}}}
        self.assertEqual(len(ask(items, {"a0": "*"}).lock.releases), 1501)


NAMES = ("a", "b", "c", "d")
RANGES = st.sampled_from(["*", "1", "2", ">=2", "<2", ">=3"])
RELEASES = st.fixed_dictionaries(
    {
        "requires": st.dictionaries(st.sampled_from(NAMES), RANGES, max_size=2).map(
            lambda wanted: [{"id": name, "range": text} for name, text in wanted.items()]
        ),
        "conflicts": st.dictionaries(st.sampled_from(NAMES), RANGES, max_size=1).map(
            lambda wanted: [{"id": name, "range": text} for name, text in wanted.items()]
        ),
    }
)
UNIVERSES = st.fixed_dictionaries(
    {name: st.dictionaries(st.sampled_from(["1", "2", "3"]), RELEASES, min_size=1) for name in NAMES}
)


def fits(universe: Items, choice: Mapping[str, str], wishes: Mapping[str, str]) -> bool:
    """The rules, said once more and differently: every wish and need met, no conflict."""

    def met(name: str, wanted: str) -> bool:
        return name in choice and parse_range(wanted).admits(_v(choice[name]))

    if not all(met(name, wanted) for name, wanted in wishes.items()):
        return False
    for name, version in choice.items():
        release = universe[name][version]
        if not all(met(one["id"], one["range"]) for one in release["requires"]):
            return False
        if any(met(one["id"], one["range"]) for one in release["conflicts"] if one["id"] != name):
            return False
    return True


def _v(text: str) -> Any:
    from rhizon.core.version import parse_version

    return parse_version(text)


class AgainstExhaustiveSearch(unittest.TestCase):
    @settings(max_examples=300, deadline=None)
    @given(UNIVERSES, st.dictionaries(st.sampled_from(NAMES), RANGES, min_size=1, max_size=2))
    def test_the_same_answer_to_whether_it_can_be_done(self, universe: Items, wishes: dict[str, str]) -> None:
        combinations = itertools.product(*([None, *universe[name]] for name in NAMES))
        possible = any(
            fits(universe, {n: v for n, v in zip(NAMES, one, strict=True) if v is not None}, wishes)
            for one in combinations
        )
        try:
            solution = ask(universe, dict(wishes), game_version="4.2", loader="keelson")
        except NoSolutionError:
            self.assertFalse(possible)
            return
        self.assertTrue(fits(universe, chosen(solution), wishes))
        backwards = {
            name: dict(reversed(list(releases.items()))) for name, releases in reversed(list(universe.items()))
        }
        again = ask(backwards, dict(wishes), game_version="4.2", loader="keelson")
        self.assertEqual(encode_json(again.lock), encode_json(solution.lock))
