"""Plans: what would be done to a folder, and what is never done."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from rhizon.core.errors import StateError
from rhizon.core.model.game_world import WorldRule
from rhizon.core.model.instance import Inventory, OwnedFile
from rhizon.core.names import RelPath
from rhizon.core.plan import Plan, WantedFile, make_plan

WORLD = WorldRule(folder=RelPath("worlds"))
OLD, NEW, EDIT = "a" * 64, "b" * 64, "c" * 64


def wanted(sha256: str, *, edited: bool = False) -> WantedFile:
    return WantedFile(sha256=sha256, size=1, origin="shelf", edited=edited)


def planned(want: str | None, there: str | None, owned: str | None, *, edited: bool = False) -> Plan:
    """The plan for one file ``f``."""
    path = RelPath("f")
    files = {path: OwnedFile(sha256=owned, size=1, origin="shelf", edited=edited)} if owned else {}
    return make_plan(
        {path: wanted(want, edited=edited)} if want else {},
        {path: there} if there else {},
        Inventory(format="rhizon-inventory/1", files=dict(files)),
        WORLD,
    )


class OneFile(unittest.TestCase):
    def test_rows(self) -> None:
        # wanted, there, owned, edited -> action, findings
        rows = (
            (NEW, None, None, False, "place", 0),
            (NEW, NEW, None, False, "keep", 0),
            (NEW, OLD, OLD, False, "replace", 0),
            (NEW, EDIT, OLD, False, "keep", 1),
            (NEW, None, OLD, False, "place", 0),
            (NEW, OLD, OLD, True, "keep", 0),
            (NEW, EDIT, OLD, True, "keep", 0),
            (NEW, EDIT, None, True, "keep", 0),
            (None, OLD, OLD, False, "remove", 0),
            (None, EDIT, OLD, False, None, 1),
            (None, OLD, OLD, True, "remove", 0),
            (None, EDIT, OLD, True, None, 0),
            (None, None, OLD, False, None, 0),
        )
        for want, there, owned, edited, action, found in rows:
            with self.subTest(want=want, there=there, owned=owned, edited=edited):
                plan = planned(want, there, owned, edited=edited)
                self.assertEqual([step.action for step in plan.steps], [action] if action else [])
                self.assertEqual(len(plan.findings), found)

    def test_a_strangers_file_is_never_overwritten(self) -> None:
        with self.assertRaises(StateError) as caught:
            planned(NEW, EDIT, None)
        self.assertEqual(caught.exception.code, "file-in-the-way")

    def test_paths_that_nobody_may_want(self) -> None:
        for paths, code in (
            (("worlds/fen/x",), "overlay-in-world"),
            (("Worlds/x",), "overlay-in-world"),
            ((".rhizon/lock.json",), "reserved-path"),
            (("mods/A.jar", "mods/a.jar"), "names-clash"),
        ):
            with self.subTest(paths=paths):
                with self.assertRaises(StateError) as caught:
                    make_plan({RelPath(path): wanted(NEW) for path in paths}, {}, None, WORLD)
                self.assertEqual(caught.exception.code, code)


HASHES = st.sampled_from([OLD, NEW, EDIT])
FOLDERS = st.dictionaries(st.sampled_from([RelPath("a"), RelPath("b"), RelPath("m/c")]), HASHES, max_size=3)


class Laws(unittest.TestCase):
    @given(FOLDERS, FOLDERS, FOLDERS)
    def test_carried_out_it_is_what_it_says_and_then_there_is_nothing_to_do(
        self, want: dict[RelPath, str], there: dict[RelPath, str], owned: dict[RelPath, str]
    ) -> None:
        inventory = Inventory(
            format="rhizon-inventory/1",
            files={path: OwnedFile(sha256=one, size=1, origin="o") for path, one in owned.items()},
        )
        wishes = {path: wanted(one) for path, one in want.items()}
        try:
            plan = make_plan(wishes, there, inventory, WORLD)
        except StateError as wrong:
            self.assertEqual(wrong.code, "file-in-the-way")
            return
        after = dict(there)
        for step in plan.steps:
            if step.action == "remove":
                self.assertEqual(there[step.path], owned[step.path])
                del after[step.path]
            elif step.wanted is not None and step.action != "keep":
                self.assertTrue(step.path not in there or there[step.path] == owned.get(step.path))
                after[step.path] = step.wanted.sha256
        again = make_plan(wishes, after, plan.inventory, WORLD)
        self.assertEqual(again.changes, ())
