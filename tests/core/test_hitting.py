"""Minimum hitting sets against trying every set."""

import itertools
import random
import unittest
from collections.abc import Sequence

from rhizon.core.solve.hitting import HittingSets, least_size
from rhizon.core.solve.reasons import natural
from rhizon.core.solve.watch import GaveUpError, Watch


def best(cores: Sequence[frozenset[int]], count: int) -> frozenset[int]:
    """The smallest set that meets every core; of those the one whose members are the latest."""
    for size in range(count + 1):
        found = [one for one in itertools.combinations(range(count), size) if all(core & set(one) for core in cores)]
        if found:
            return frozenset(max(found))
    raise AssertionError


class Hitting(unittest.TestCase):
    def test_against_every_set(self) -> None:
        chance = random.Random(1)
        for _ in range(800):
            count = chance.randint(1, 8)
            cores = [
                frozenset(chance.sample(range(count), min(count, chance.choice((1, 2, 2, 2, 3, 4)))))
                for _ in range(chance.randint(0, 12))
            ]
            hitting = HittingSets(Watch())
            for some in range(0, len(cores) + 1, 3):  # lists grow
                hitting.preferred(cores[:some])
            found, expected = hitting.preferred(cores), best(cores, count)
            self.assertEqual(found, expected, cores)
            self.assertLessEqual(least_size(sum(1 << one for one in core) for core in cores), len(expected))

    def test_shapes(self) -> None:
        """Cliques, pairs that share nothing, and a graph of which trying everything would take for ever."""
        chance = random.Random(40)
        pairs = list(itertools.combinations(range(40), 2))
        for cores, size in (
            ([frozenset(one) for one in itertools.combinations(range(20), 2)], 19),
            ([frozenset((2 * one, 2 * one + 1)) for one in range(60)], 60),
            ([frozenset(one) for one in pairs if chance.random() < 0.5], 33),
        ):
            found = HittingSets(Watch()).preferred(cores)
            self.assertEqual(len(found), size)
            self.assertTrue(all(core & found for core in cores))

    def test_names_are_ordered_as_people_count(self) -> None:
        self.assertEqual(sorted(("a10", "a2", "b", "a1b10", "a1b2"), key=natural), ["a1b2", "a1b10", "a2", "a10", "b"])

    def test_an_end(self) -> None:
        class Over(Watch):
            def over(self) -> bool:
                return True

        chance = random.Random(3)
        cores = [frozenset(one) for one in itertools.combinations(range(120), 2) if chance.random() < 0.06]
        with self.assertRaises(GaveUpError):
            HittingSets(Over()).preferred(cores)
