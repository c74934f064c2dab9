"""Three-way merges: what only one side changed is taken, what both changed stays the person's and is told."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from rhizon.core.settings.dialects import DIALECTS
from rhizon.core.settings.dialects.spans import NotWritableError
from rhizon.core.settings.merge import merge_keys, merge_lines

PROPERTIES = DIALECTS["properties"]


class BySetting(unittest.TestCase):
    def test_one_key(self) -> None:
        # shipped before, there, shipped now, insisted -> then there, clash (None: no; else: was it shipped before?)
        rows: tuple[tuple[str | None, str | None, str | None, bool, str | None, bool | None], ...] = (
            ("5", "5", "5", False, "5", None),
            ("5", "5", "6", False, "6", None),
            ("5", "9", "5", False, "9", True),
            ("5", "9", "6", False, "9", False),
            ("5", "6", "6", False, "6", None),
            ("5", "9", "6", True, "6", None),
            (None, "9", "6", False, "6", None),
            (None, None, "6", False, "6", None),
            ("5", None, "5", False, None, None),
            ("5", None, "6", False, "6", None),
            ("5", "5", None, False, None, None),
            ("5", "9", None, False, "9", None),
            ("5", " 5 ", "6", False, "6", None),
        )
        for before, there, shipped, insist, then, clash in rows:
            with self.subTest(before=before, there=there, shipped=shipped, insist=insist):
                tables = [{} if value is None else {"k": value} for value in (before, shipped)]
                mine = PROPERTIES.edit(b"# mine\nother = 1\n", {} if there is None else {"k": there})
                merged = merge_keys(PROPERTIES, mine, tables[0], tables[1], tables[1] if insist else {})
                self.assertEqual(PROPERTIES.read(merged.data).get("k"), then)
                self.assertTrue(merged.data.startswith(b"# mine\nother = 1\n"))
                self.assertEqual([one.shipped_before for one in merged.clashes], [] if clash is None else [clash])

    def test_what_a_file_cannot_take_does_not_hold_up_the_rest(self) -> None:
        mine = b"a: |\n  two\n  lines\nb: 1\nc: &k 1\n"
        merged = merge_keys(DIALECTS["yaml"], mine, {"b": 1, "c": "1"}, {"a": "x", "b": 2, "c": "2", "d": 3})
        self.assertEqual(merged.data, b"a: |\n  two\n  lines\nb: 2\nc: &k 1\nd: 3\n")
        self.assertEqual([(one.key, one.shipped) for one in merged.clashes], [("a", "x"), ("c", "2")])
        self.assertEqual(merged.taken, ("b", "d"))
        with self.assertRaises(NotWritableError):
            merge_keys(DIALECTS["yaml"], mine, {}, {"b": 2}, {"c": "2"})

    TABLES = st.dictionaries(st.sampled_from("abcd"), st.sampled_from("123"), max_size=4)

    @given(TABLES, TABLES, TABLES)
    def test_every_key_is_somebodys(
        self, before: dict[str, str], mine: dict[str, str], shipped: dict[str, str]
    ) -> None:
        merged = merge_keys(PROPERTIES, PROPERTIES.edit(b"", mine), before, shipped)
        then = PROPERTIES.read(merged.data)
        for key in {*before, *mine, *shipped}:
            self.assertIn(then.get(key), (mine.get(key), shipped.get(key)))
            if mine.get(key) != before.get(key) and key in mine and key in before:
                self.assertEqual(then[key], mine[key])
        again = merge_keys(PROPERTIES, merged.data, shipped, shipped)
        self.assertEqual(again.data, merged.data)


LINES = st.lists(st.sampled_from([b"reed\n", b"lamp\n", b"fog\n", b"\n"]), max_size=8).map(b"".join)


class ByLine(unittest.TestCase):
    def test_rows(self) -> None:
        base = b"one\ntwo\nthree\nfour\n"
        # mine, shipped -> merged, clashes
        rows = (
            (base, base, base, 0),
            (base, b"zero\n" + base, b"zero\n" + base, 0),
            (base + b"five\n", b"zero\n" + base, b"zero\n" + base + b"five\n", 0),
            (b"one\n2\nthree\nfour\n", b"one\ntwo\nthree\n4\n", b"one\n2\nthree\n4\n", 0),
            (b"one\n2\nthree\nfour\n", b"one\nII\nthree\nfour\n", b"one\n2\nthree\nfour\n", 1),
            (b"one\n2\nthree\nfour\n", b"one\n2\nthree\nfour\n", b"one\n2\nthree\nfour\n", 0),
            (b"", base + b"five\n", b"", 1),
            (b"one\r\ntwo\nthree\nfour\n", base + b"e", b"one\r\ntwo\nthree\nfour\ne", 0),
        )
        for mine, shipped, then, clashes in rows:
            with self.subTest(mine=mine, shipped=shipped):
                merged = merge_lines(base, mine, shipped)
                assert merged is not None
                self.assertEqual((merged.data, len(merged.clashes)), (then, clashes))

    def test_what_cannot_be_merged(self) -> None:
        self.assertIsNone(merge_lines(b"a", b"a\0", b"b"))
        self.assertIsNone(merge_lines(b"a\n" * 9000, b"b\n" * 9000, b"c\n" * 9000))

    @given(LINES, LINES, LINES)
    def test_laws(self, base: bytes, mine: bytes, shipped: bytes) -> None:
        def merged(*sides: bytes) -> bytes:
            one = merge_lines(*sides)
            assert one is not None
            return one.data

        self.assertEqual(merged(base, mine, base), mine)
        self.assertEqual(merged(base, base, shipped), shipped)
        self.assertEqual(merged(base, mine, mine), mine)
        self.assertLessEqual(set(merged(base, mine, shipped).splitlines()), {*mine.splitlines(), *shipped.splitlines()})
