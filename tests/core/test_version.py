"""Order and ranges of versions."""

import itertools
import unittest

from hypothesis import given
from hypothesis import strategies as st

from rhizon.core.version import Version, parse_range, parse_version

IN_ORDER = (
    "0.9",
    "1.0.0-alpha",  # SemVer 11.4: the row from the specification
    "1.0.0-alpha.1",
    "1.0.0-alpha.beta",
    "1.0.0-beta",
    "1.0.0-beta.2",
    "1.0.0-beta.11",
    "1.0.0-rc.1",
    "1.0.0",
    "1.0.0+b7",
    "1.0.0.1",
    "1.2",
    "1.10",
    "4.2.1-3.0.2+b7",
    "4.2.1",
    "2024.11",
)
SAME = (("1", "1.0"), ("1.0", "1.0.0.0"), ("v3", "3"), ("r12", "12.0"), ("build 20417", "20417"))
SAME += (("2024-b", "2024.2"), ("2024-11-03", "2024.11.3"), ("build-7", "7"), ("rev.2024-1-2+x", "2024.1.2+x"))
WRONG = ("", "one", "1..2", ".1", "1.", "1 2", "1.0-", "1.0+", "-1", "1.0-ä", "9" * 65, "1.0\n")
ADMITS = (
    ("*", "0.0.1", True),
    (">=1.2, <2", "1.2", True),
    (">=1.2, <2", "1.9.9", True),
    (">=1.2, <2", "2", False),
    ("<2", "2.0.0-preview.1", False),  # nobody means it
    ("<2-preview.3", "2-preview.1", True),
    ("<=2", "2-preview.1", True),
    (">1.0", "1.0+b1", False),  # a build is looked at only where the range names one
    (">1.0+b1", "1.0+b2", True),
    ("1.4", "1.4.0", True),
    ("=1.4", "1.4.1", False),
    (">=2,<1", "1.5", False),
    ("v3", "3.0", True),
    (">=1, !=1.2", "1.2.0", False),
    (">=1, !=1.2", "1.2.1", True),
    ("!=1.2", "1.2-preview", True),
    ("!=1.2+b1", "1.2+b2", True),
    ("!= 2", "2+b1", False),
    (">=build 20417, <build 20500", "build 20418", True),
    (">=build 20417", "build 9999", False),
    (">=2024, <2025", "2024-b", True),
    ("<2024-b", "2024-a", True),
    ("2024-11-03", "2024-11-03", True),
    ("<=r9", "r12", False),
    (">=dusk", "0.0.1", True),
    ("dusk", "1.0", False),
)
WRONG_RANGES = ("", ",", ">=", "~1.2", "^1", ">=1.x", "1 - 2", ">=1.2 <2", "=>1", "!1", "!=", "<>1")


class Order(unittest.TestCase):
    def test_rows_are_in_order(self) -> None:
        versions = [Version(text) for text in IN_ORDER]
        for lower, higher in itertools.pairwise(versions):
            with self.subTest(lower=lower.text, higher=higher.text):
                self.assertLess(lower, higher)
                self.assertGreater(higher, lower)

    def test_spellings_of_one_version(self) -> None:
        for left, right in SAME:
            with self.subTest(left=left, right=right):
                self.assertEqual(Version(left), Version(right))
                self.assertEqual(hash(Version(left)), hash(Version(right)))

    def test_what_is_no_version(self) -> None:
        for text in WRONG:
            with self.subTest(text=text), self.assertRaises(ValueError):
                parse_version(text)


class Ranges(unittest.TestCase):
    def test_admits(self) -> None:
        for wanted, version, expected in ADMITS:
            with self.subTest(range=wanted, version=version):
                self.assertIs(parse_range(wanted).admits(Version(version)), expected)

    def test_what_is_no_range(self) -> None:
        for text in WRONG_RANGES:
            with self.subTest(text=text), self.assertRaises(ValueError):
                parse_range(text)


NUMBERS = st.lists(st.integers(0, 30), min_size=1, max_size=4).map(lambda n: ".".join(map(str, n)))
PARTS = st.lists(st.sampled_from(["alpha", "rc", "0", "7", "11"]), min_size=1, max_size=3).map(".".join)
VERSIONS = st.builds(
    lambda numbers, pre, build: Version(numbers + (f"-{pre}" if pre else "") + (f"+{build}" if build else "")),
    NUMBERS,
    st.none() | PARTS,
    st.none() | PARTS,
)


class Laws(unittest.TestCase):
    @given(VERSIONS, VERSIONS, VERSIONS)
    def test_a_total_order(self, a: Version, b: Version, c: Version) -> None:
        self.assertEqual((a < b) + (b < a) + (a == b), 1)
        if a <= b <= c:
            self.assertLessEqual(a, c)

    @given(VERSIONS, VERSIONS)
    def test_comparators_agree_with_the_order(self, bound: Version, other: Version) -> None:
        at_least = parse_range(f">={bound.text}").admits(other)
        below = parse_range(f"<{bound.text}").admits(other)
        self.assertFalse(at_least and below)
        self.assertTrue(parse_range(bound.text).admits(bound))

    @given(st.text(max_size=80))
    def test_any_text_is_a_version_or_a_value_error(self, text: str) -> None:
        for parse in (parse_version, parse_range):
            try:
                parse(text)
            except ValueError as wrong:
                self.assertIn("not", str(wrong))
