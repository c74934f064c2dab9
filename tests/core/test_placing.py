"""Content in its place and order; servers that take content by themselves; branches of server files."""

import unittest

import msgspec
from hypothesis import given
from hypothesis import strategies as st

from rhizon.adapters.games import GAMES, read_game
from rhizon.core.archives.assembly import Assembly, AssemblyReference
from rhizon.core.archives.scan import scan_assembly
from rhizon.core.boot import BootJudge
from rhizon.core.content_paths import content_paths, loaded, place_of
from rhizon.core.errors import NoSolutionError, StateError
from rhizon.core.model.base import dec_hook
from rhizon.core.model.catalog import HostFiles, Item, ItemIndex, Release
from rhizon.core.model.contentlist import ContentList
from rhizon.core.model.decode import decode_json
from rhizon.core.model.lock import Lock
from rhizon.core.model.setting import SettingDefinition
from rhizon.core.settings.content import put_enabled, with_content
from rhizon.core.solve import from_list, solve

EMBERLINE, GLOAMWICK, DROVEMOOR = (
    read_game(GAMES / f"{name}.game.toml") for name in ("emberline", "gloamwick", "drovemoor")
)
Needs = dict[str, list[str]]
ARTEFACT = {"path": "a/x.zip", "sha256": "0" * 64, "size": 1}


class Shelf:
    """Items of one kind with what they need, and server files with their branches."""

    def __init__(
        self, items: dict[str, list[str]], server: dict[str, str], kinds: dict[str, str] | None = None
    ) -> None:
        self._items = items
        self._server = server
        self._kinds = kinds or {}

    def index(self, game: str) -> ItemIndex:
        return ItemIndex(format="rhizon-index/1", items={})

    def item(self, game: str, name: str) -> tuple[str, Item] | None:
        if name not in self._items:
            return None
        requires = [{"id": one} for one in self._items[name]]
        release = {"version": "1.0", "requires": requires, "artefact": {**ARTEFACT, "path": f"a/{name}-1.0.zip"}}
        head = {
            "format": "rhizon-item/1",
            "id": name,
            "game": game,
            "kind": self._kinds.get(name, "mod"),
            "title": name,
        }
        return "shelf", msgspec.convert({**head, "releases": [release]}, Item, dec_hook=dec_hook)

    def prefetch(self, game: str, names: object) -> None:
        pass

    def host(self, game: str) -> tuple[str, HostFiles]:
        server = [{"version": v, "branch": branch, "artefact": ARTEFACT} for v, branch in self._server.items()]
        whole = {"format": "rhizon-host-files/1", "server": server, "loaders": []}
        return "shelf", decode_json(HostFiles, msgspec.json.encode(whole), "shelf", "host files")

    def hidden(self, game: str, name: str) -> list[tuple[str, str, tuple[str, ...]]]:
        return []

    def other_game(self, game: str, name: str) -> str | None:
        return None


def locked(game: str, items: dict[str, list[str]], wishes: list[str], **more: object) -> Lock:
    """Solved for a server that takes content by itself."""
    kinds = more.pop("kinds", None)
    server = more.pop("server", {"1.3": "stable", "1.4": "stable"})
    raw = {"format": "rhizon-list/1", "name": "t", "game": game, "content": dict.fromkeys(wishes, "*"), **more}
    wanted = msgspec.convert(raw, ContentList, dec_hook=dec_hook)
    definition = DROVEMOOR if game == "drovemoor" else EMBERLINE
    return solve(from_list(wanted, (0,), "the list"), definition, Shelf(items, server, kinds)).lock  # type: ignore[arg-type]


class Order(unittest.TestCase):
    def test_what_is_needed_comes_first_and_the_list_decides_the_rest(self) -> None:
        items = {
            "lib": [],
            "cows": ["lib"],
            "ford": ["cows", "lib"],
            "dogs": [],
            "ring-a": ["ring-b"],
            "ring-b": ["ring-a"],
        }
        rows = (
            (["dogs", "cows", "ford"], ["dogs", "lib", "cows", "ford"]),
            (["ford", "dogs", "lib"], ["lib", "cows", "ford", "dogs"]),
            (["ring-b", "ring-a"], ["ring-a", "ring-b"]),
        )
        for wishes, order in rows:
            with self.subTest(wishes=wishes):
                lock = locked("drovemoor", items, wishes)
                self.assertEqual(list(lock.order), order)
                numbered = [f"herds/{10 * n:03}-{name}" for n, name in enumerate(order, 1)]
                self.assertEqual(list(content_paths(DROVEMOOR, lock)), numbered)
                self.assertEqual((lock.loader, lock.target.words), (None, "drovemoor 1.4"))
        self.assertEqual(
            locked("emberline", items, ["cows"], server={"2.3": "stable"}).order, ()
        )  # no order shows there

    @given(st.dictionaries(st.sampled_from("abcdefgh"), st.lists(st.sampled_from("abcdefgh"), max_size=3), min_size=1))
    def test_any_needs(self, needs: dict[str, list[str]]) -> None:
        # only needs of letters before it: no rings
        items = {one: sorted({x for x in needs.get(one, []) if x < one}) for one in "abcdefgh"}
        lock = locked("drovemoor", items, sorted(needs, reverse=True))
        place = {name: number for number, name in enumerate(lock.order)}
        self.assertEqual(set(place), {one.id for one in lock.on_server()})
        for name in place:
            for need in items[name]:
                self.assertLess(place[need], place[name])

    def test_a_long_chain(self) -> None:
        items = {f"n{n:04}": [f"n{n + 1:04}"] if n < 1500 else [] for n in range(1501)}
        lock = locked("drovemoor", items, ["n0000"])
        self.assertEqual((lock.order[0], lock.order[-1]), ("n1500", "n0000"))

    def test_kinds_have_their_places(self) -> None:
        lock = locked("drovemoor", {"moor": [], "cows": []}, ["cows", "moor"], kinds={"moor": "template"})
        moor = next(one for one in lock.releases if one.id == "moor")
        self.assertEqual(place_of(DROVEMOOR, lock, moor), "templates/moor")
        self.assertEqual([one.id for one in loaded(DROVEMOOR, lock)], ["cows"])
        with self.assertRaises(StateError):
            place_of(DROVEMOOR, lock, msgspec.structs.replace(moor, kind="datapack"))

    def test_branches(self) -> None:
        server = {"2.3": "stable", "2.4": "trial"}
        rows: tuple[tuple[dict[str, object], str], ...] = (
            ({}, "2.3"),
            ({"target": {"branch": "trial"}}, "2.4"),
            ({"target": {"branch": "trial", "game_version": "2.3"}}, ""),
            ({"target": {"game_version": "2.4"}}, ""),
        )
        for more, version in rows:
            with self.subTest(more=more):
                if version:
                    lock = locked("emberline", {"a": []}, ["a"], server=server, **more)
                    self.assertEqual(
                        (lock.target.game_version, lock.branch), (version, "stable" if not more else "trial")
                    )
                    continue
                with self.assertRaisesRegex(NoSolutionError, "no target that the list allows") as caught:
                    locked("emberline", {"a": []}, ["a"], server=server, **more)
                self.assertIn("2.4 on its branch trial", caught.exception.details[0])


class Plugins(unittest.TestCase):
    ASSEMBLY = Assembly(
        name="Tallow",
        version="0.5.0.0",
        framework="",
        metadata="v4",
        references=(
            AssemblyReference(name="Lampwright", version="2.0.0.0"),
            AssemblyReference(name="mscorlib", version="4.0.0.0"),
        ),
        attributes={
            "title": "Tallow",
            "metadata id": "tallow",
            "metadata who": "host",
            "metadata needs": "wax >=1; wick",
        },
    )

    def test_an_assembly_says_what_it_is(self) -> None:
        scanned = scan_assembly(self.ASSEMBLY, "Tallow.dll", [DROVEMOOR, GLOAMWICK])
        assert scanned is not None and scanned.facts is not None
        facts = scanned.facts
        self.assertEqual(
            (facts.id, facts.version.text, facts.kind, facts.placement), ("tallow", "0.5.0", "plugin", "server")
        )
        self.assertEqual(facts.loaders["lampwright"].text, ">=2.0.0, <3")
        self.assertEqual([(one.id, one.range.text) for one in facts.requires], [("wax", ">=1"), ("wick", "*")])
        stranger = msgspec.structs.replace(self.ASSEMBLY, references=())
        self.assertIsNone(scan_assembly(stranger, "x.dll", [GLOAMWICK]))
        broken = msgspec.structs.replace(self.ASSEMBLY, attributes={"metadata id": "../not/an/id"})
        found = scan_assembly(broken, "x.dll", [GLOAMWICK])
        assert found is not None
        self.assertEqual([one.code for one in found.findings], ["metadata-broken"])

    def test_settings_of_content_and_what_is_enabled(self) -> None:
        lock = locked("drovemoor", {"a": [], "b": []}, ["b", "a"])
        kind = SettingDefinition(type="integer", meaning="", default=1)
        releases = tuple(msgspec.structs.replace(one, settings={"size": kind}) for one in lock.releases)
        lock = msgspec.structs.replace(lock, releases=releases)
        self.assertEqual(
            with_content(DROVEMOOR, lock).settings.keys() - DROVEMOOR.settings.keys(), {"a.size", "b.size"}
        )
        target = msgspec.structs.replace(lock.target, game="gloamwick", loader="lampwright")
        releases = tuple(msgspec.structs.replace(one, kind="plugin") for one in releases)
        edits: dict[str, tuple[str, dict[str, str | int | bool]]] = {}
        put_enabled(edits, GLOAMWICK, msgspec.structs.replace(lock, target=target, releases=releases))
        self.assertEqual(edits, {"lamps/lit.json": ("json", {"lit/[b]": True, "lit/[a]": True})})
        put_enabled(edits, DROVEMOOR, lock)
        self.assertEqual(len(edits), 1)

    def test_one_that_fails_alone(self) -> None:
        judge = BootJudge(GLOAMWICK)
        dark = "10:00:00 ~ stays dark: tallow: TypeLoadException: no method Light"
        judge.feed("10:00:00 ~ lighting tallow")
        event = judge.feed(dark)
        assert event is not None
        self.assertEqual((event.kind, judge.failure), ("failure", None))
        judge.feed("10:00:00 ~ the cavern glows on port 26170, 0 lamps lit")
        judge.feed(dark.replace("tallow", "fireflies"))
        self.assertTrue(judge.ready)
        self.assertEqual(
            [(one.code, one.culprit) for one in judge.troubles],
            [("content-dark", "tallow"), ("content-dark", "fireflies")],
        )
        hopeless = BootJudge(GLOAMWICK)
        hopeless.feed("Cannot open assembly 'GloamHost.exe': No such file or directory.")
        self.assertEqual(hopeless.verdict(2, 1).code, "archive-missing")


class Versions(unittest.TestCase):
    def test_a_release_has_no_settings_of_its_own_unless_it_says_so(self) -> None:
        raw = msgspec.json.encode({"version": "1", "artefact": ARTEFACT})
        self.assertEqual(decode_json(Release, raw, "x", "release").settings, {})
