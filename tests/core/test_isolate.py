"""Finding culprits among content: tries are counted, closures respected, whatever the culprits are."""

import math
import unittest
from collections.abc import Sequence

from hypothesis import given, settings
from hypothesis import strategies as st

from rhizon.core.isolate import Isolated, Trial, evidence, isolate, repeats_for
from tests import examples

HUNDRED = [f"m{number:02}" for number in range(100)]


class Isolating(unittest.TestCase):
    def test_one_of_a_hundred_in_ten_starts_and_a_pair_in_twenty_five(self) -> None:
        most = {1: 0, 2: 0}
        for number in range(0, 100, 7):
            for culprits in ({HUNDRED[number]}, {HUNDRED[number], HUNDRED[(number * 37 + 11) % 100]}):
                trial = Trial(HUNDRED, {}, lambda sets, culprits=culprits: [culprits <= one for one in sets])
                found = isolate(HUNDRED, trial)
                self.assertEqual([(set(one.culprits), *one[1:]) for one in found], [(culprits, True, True)])
                most[len(culprits)] = max(most[len(culprits)], trial.tries)
        self.assertLessEqual(most[1], 10)
        self.assertLessEqual(most[2], 25)

    def test_a_library_that_many_need(self) -> None:
        needs = {one: {"lib"} for one in HUNDRED[:50]}
        trial = Trial([*HUNDRED, "lib"], needs, lambda sets: ["lib" in one for one in sets])
        found = isolate([*HUNDRED, "lib"], trial)
        self.assertEqual(found, [Isolated(("lib",), True, True)])
        for fails, expected in ((False, []), (True, [Isolated((), True, False)])):  # none of it; also without any
            trial = Trial(HUNDRED, {}, lambda sets, fails=fails: [fails for _ in sets])
            self.assertEqual(isolate(HUNDRED, trial), expected)

    def test_two_that_fail_by_themselves(self) -> None:
        trial = Trial(HUNDRED, {}, lambda sets: [bool({"m07", "m70"} & one) for one in sets])
        self.assertEqual([one.culprits for one in isolate(HUNDRED, trial)], [("m07",), ("m70",)])
        self.assertLessEqual(trial.tries, 20)

    def test_a_failure_that_comes_and_goes(self) -> None:
        """It shows in every second start; once that is seen, sets are tried until it would have shown."""
        for first in (0, 1):
            starts = [first]
            often = [1]

            def start(chosen: frozenset[str], starts: list[int] = starts) -> bool:
                starts[0] += 1
                return "m40" in chosen and starts[0] % 2 == 1

            def try_sets(sets: Sequence[frozenset[str]], often: list[int] = often) -> list[bool]:
                return [any(start(one) for _ in range(often[0])) for one in sets]

            def again(chosen: frozenset[str], often: list[int] = often) -> bool:
                if start(chosen) and start(chosen):
                    return True
                often[0] = 2
                return False

            found = isolate(HUNDRED, Trial(HUNDRED, {}, try_sets, again))
            self.assertIn(found, ([], [Isolated(("m40",), True, True)]))

    def test_how_sure_it_is(self) -> None:
        with_it, without, both = frozenset("ab"), frozenset("b"), frozenset("abc")
        always = [(with_it, True)] * 4 + [(without, False)] * 2
        self.assertEqual(evidence("a", (), always)[:4], (4, 4, 2, 0))
        self.assertAlmostEqual(evidence("a", (), always).confidence, 1 - (1 / 6) ** 2)
        self.assertEqual(evidence("a", (), always * 9).confidence, 0.99)
        self.assertEqual(evidence("a", ("c",), [*always, (both, False)])[:4], (4, 4, 2, 0))
        self.assertEqual(evidence("a", (), [*always, (without, True)]).confidence, 0)
        self.assertEqual([repeats_for(*one) for one in ((3, 3), (1, 2), (1, 4), (0, 5))], [1, 6, 10, 12])

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

        def fails(sets: Sequence[frozenset[str]]) -> list[bool]:
            tried.extend(sets)
            for chosen in sets:
                self.assertTrue(
                    all(needs.get(one, set()) <= chosen for one in chosen), "something that is needed is missing"
                )
            return [culprits <= chosen for chosen in sets]

        trial = Trial(items, needs, fails)
        (found,) = isolate(items, trial)
        self.assertTrue(culprits <= trial.closure(found.culprits))
        for one in found.culprits:  # nothing of it can go
            self.assertFalse(culprits <= trial.closure(set(found.culprits) - {one}))
        if len(found.culprits) == 1:  # where more are, it is made sure that the failure does not come and go
            self.assertEqual(len(tried), len(set(tried)))
        self.assertLessEqual(len(tried), 8 * (math.log2(len(items)) + 2))


if __name__ == "__main__":
    unittest.main()
