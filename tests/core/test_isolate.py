"""Finding culprits among content: tries are counted, closures respected, whatever the culprits are."""

import math
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from rhizon.core.isolate import Trial, isolate
from tests import examples

HUNDRED = [f"m{number:02}" for number in range(100)]


class Isolating(unittest.TestCase):
    def test_one_of_a_hundred_in_ten_starts_and_a_pair_in_twenty_five(self) -> None:
        most = {1: 0, 2: 0}
        for number in range(0, 100, 7):
            for culprits in ({HUNDRED[number]}, {HUNDRED[number], HUNDRED[(number * 37 + 11) % 100]}):
                trial = Trial(HUNDRED, {}, lambda chosen, culprits=culprits: culprits <= chosen)
                found = isolate(HUNDRED, trial)
                assert found is not None
                self.assertEqual((set(found.culprits), found.fails_alone, found.rest_works), (culprits, True, True))
                most[len(culprits)] = max(most[len(culprits)], trial.tries)
        self.assertLessEqual(most[1], 10)
        self.assertLessEqual(most[2], 25)

    def test_a_library_that_many_need(self) -> None:
        needs = {one: {"lib"} for one in HUNDRED[:50]}
        trial = Trial([*HUNDRED, "lib"], needs, lambda chosen: "lib" in chosen)
        found = isolate([*HUNDRED, "lib"], trial)
        assert found is not None
        self.assertEqual(found.culprits, ("lib",))
        self.assertTrue(found.rest_works)
        self.assertIsNone(isolate(HUNDRED, Trial(HUNDRED, {}, lambda _: False)))

    @settings(max_examples=examples(100))
    @given(st.data())
    def test_any_culprits_and_needs(self, data: st.DataObject) -> None:
        items = HUNDRED[: data.draw(st.integers(1, 30))]
        culprits = set(data.draw(st.lists(st.sampled_from(items), min_size=1, max_size=3)))
        # needs lead to earlier items only: no circles
        needs = {
            one: set(data.draw(st.lists(st.sampled_from(items[:at]), max_size=2))) for at, one in enumerate(items) if at
        }
        tried: list[frozenset[str]] = []

        def fails(chosen: frozenset[str]) -> bool:
            tried.append(chosen)
            self.assertTrue(
                all(needs.get(one, set()) <= chosen for one in chosen), "something that is needed is missing"
            )
            return culprits <= chosen

        trial = Trial(items, needs, fails)
        found = isolate(items, trial)
        assert found is not None
        self.assertTrue(culprits <= trial.closure(found.culprits))
        for one in found.culprits:  # nothing of it can go
            self.assertFalse(culprits <= trial.closure(set(found.culprits) - {one}))
        self.assertEqual(len(tried), len(set(tried)))
        self.assertLessEqual(len(tried), 8 * (math.log2(len(items)) + 2))


if __name__ == "__main__":
    unittest.main()
