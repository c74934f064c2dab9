"""Collector logs of Java 11 to 25 with three collectors, and what is made of them."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from rhizon.adapters.measured import trend
from rhizon.core.allocate.measured import GcEvent, advice, evidence, process_advice, process_evidence, read_gc_log

LOG = """\
[0.005s][info][gc] Using G1
[0.010s][info][gc,init] Heap Max Capacity: 256M
[0.102s][info][gc,start    ] GC(3) Pause Young (Normal) (G1 Evacuation Pause)
[0.111s][info][gc          ] GC(3) Pause Young (Normal) (G1 Evacuation Pause) 23M->20M(66M) 8.669ms
[0.112s][info][gc,metaspace] GC(3) Metaspace: 79K(320K)->79K(320K)
[0.200s][info][gc,heap     ] GC(4) PSYoungGen: 10K->2K(30K)
[3.047s][info][gc          ] GC(310) Pause Remark 229M->228M(256M) 0.495ms
[3.090s][info][gc             ] GC(314) Pause Full (System.gc()) 242M->116M(256M) 28.717ms
[4,943s][info][gc             ] GC(91) Pause Full (Allocation Failure) 191M->114M(247M) 34.072ms
[5.304s][info][gc             ] GC(6) Pause Full (Ergonomics) 2048K->1024K(4096K) 21.571ms
[6.304s][info][gc             ] GC(7) Pause Young (Normal) (G1 Evacuation Pause) 2G->1G(4G) 1.5ms
[6.400s][info][gc             ] GC(8) Concurrent Mark Cycle 12.000ms
nonsense
"""


def event(at: float, after: float, *, thorough: bool = False) -> GcEvent:
    return GcEvent(at=at, before_mib=after + 50, after_mib=after, capacity_mib=500, pause_ms=2, thorough=thorough)


class Logs(unittest.TestCase):
    def test_every_pause_and_nothing_else(self) -> None:
        events = read_gc_log(LOG.splitlines(keepends=True))
        shown = [(one.at, one.before_mib, one.after_mib, one.thorough) for one in events]
        self.assertEqual(
            shown,
            [
                (0.111, 23, 20, False),
                (3.047, 229, 228, True),
                (3.09, 242, 116, True),
                (4.943, 191, 114, True),
                (5.304, 2, 1, True),
                (6.304, 2048, 1024, False),
            ],
        )
        self.assertEqual(events[2].pause_ms, 28.717)

    def test_what_is_alive(self) -> None:
        young = [event(float(at), 100 + at % 7) for at in range(1, 61)]
        rows = (
            ("thorough ones count alone", [*young, event(61, 80, thorough=True), event(90, 90, thorough=True)], 90),
            ("else the lowest of many", young, 100),
            (
                "what was read while starting does not count",
                [event(1, 900), *[event(9 + at, 50) for at in range(40)]],
                50,
            ),
        )
        for what, run, live in rows:
            with self.subTest(what):
                found = evidence([[], run])
                assert found is not None
                self.assertEqual(found.live_mib, live)
                self.assertEqual(found.longest_pause_ms, 2)
        self.assertIsNone(evidence([[], []]))

    @given(st.floats(1, 20_000), st.integers(0, 500))
    def test_advice_is_in_order(self, live: float, least: int) -> None:
        lowest, recommended, highest = advice(live, least)
        self.assertTrue(least <= lowest <= recommended <= highest)
        self.assertGreaterEqual(lowest, live)

    def test_a_leak_is_seen_through_odd_points(self) -> None:
        points = [(60.0 * n, 100 + n / 2 + (400 if n % 9 == 0 else 0)) for n in range(60)]
        found = trend(tuple(points))
        if found is None:
            self.skipTest("SciPy is not installed")
        slope, low, high = found
        self.assertAlmostEqual(slope, 30, delta=1)
        self.assertTrue(0 < low <= slope <= high)
        flat = trend(tuple((60.0 * n, 100 + n % 3) for n in range(60)))
        assert flat is not None
        self.assertLessEqual(flat[1], 0)
        self.assertIsNone(trend(((0.0, 1.0),) * 3))

    def test_a_process_without_a_bound(self) -> None:
        run = [(5.0 * n, 40.0 + min(n, 10) + (30 if n == 15 else 0)) for n in range(21)]
        found = process_evidence([[], run, [(0.0, 12.0)]])
        assert found is not None
        self.assertEqual((found.samples, found.seconds, found.peak_mib, found.usual_mib), (22, 100.0, 80.0, 50.0))
        self.assertEqual(process_advice(found.peak_mib, 0), (96, 128, 160))
        self.assertIsNone(process_evidence([[]]))
