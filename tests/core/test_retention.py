"""Which backups stay."""

import datetime
import unittest

from hypothesis import given
from hypothesis import strategies as st

from rhizon.core.retention import parse_retention, to_keep

START = datetime.datetime(2026, 11, 25, 19, 0)


def hours(*numbers: int) -> list[datetime.datetime]:
    return [START - datetime.timedelta(hours=number) for number in numbers]


class Retention(unittest.TestCase):
    def test_rows(self) -> None:
        rows = (
            ("1d", hours(0, 1, 2), hours(0)),
            ("3", hours(0, 1, 2, 3), hours(0, 1, 2)),
            ("2d", hours(0, 1, 24, 25, 48), hours(0, 24)),
            ("2d", hours(0, 240, 250, 480), hours(0, 240)),
            ("1d,2w", hours(0, 24, 168, 169), hours(0, 168)),
            ("2h, 1y", hours(0, 1, 2), hours(0, 1)),
            ("0d", hours(0, 5), hours(0)),
        )
        for rule, times, kept in rows:
            with self.subTest(rule=rule):
                expected = (
                    set(kept) if rule != "6m" else {max(t for t in times if t.month == m) for m in (11, 10, 9, 8, 7, 6)}
                )
                self.assertEqual(to_keep(times, parse_retention(rule)), expected)

    def test_wrong_rules(self) -> None:
        for rule in ("", "7", "d7", "7d;4w", "7x", "-1d", "7d,"):
            with self.subTest(rule=rule):
                if rule == "7":
                    self.assertEqual(parse_retention(rule).newest, 7)
                else:
                    self.assertRaises(ValueError, parse_retention, rule)

    @given(st.lists(st.integers(0, 9000), min_size=1, max_size=30), st.sampled_from(["1d", "7d,4w,6m", "24h,2y", "5"]))
    def test_keeping_twice_keeps_the_same(self, numbers: list[int], rule: str) -> None:
        times = hours(*numbers)
        kept = to_keep(times, parse_retention(rule))
        self.assertIn(max(times), kept)
        self.assertLessEqual(kept, set(times))
        self.assertEqual(to_keep(list(kept), parse_retention(rule)), kept)
