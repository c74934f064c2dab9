"""Collector logs of Java 11 to 25 with three collectors, and what is made of them."""

import random
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path

import msgspec
from hypothesis import given
from hypothesis import strategies as st

from rhizon.core.allocate.measured import (
    GcEvent,
    advice,
    evidence,
    process_advice,
    process_evidence,
    read_gc_log,
    thinned,
)
from rhizon.core.allocate.trend import trend
from tests.support import java17

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


LOAD = """
import java.util.*;
public class Load {
    public static void main(String[] words) throws Exception {
        List<byte[]> stays = new ArrayList<>();
        for (int i = 0; i < 48 * 16; i++) stays.add(new byte[65520]);
        ArrayDeque<byte[]> late = new ArrayDeque<>();
        Random chance = new Random(1);
        long end = System.currentTimeMillis() + 5000;
        while (System.currentTimeMillis() < end) {
            for (int i = 0; i < 80; i++) {
                byte[] one = new byte[4096];
                if (chance.nextInt(6) == 0) late.add(one);
                if (late.size() > 4000) late.poll();
                if (chance.nextInt(200) == 0) stays.set(chance.nextInt(stays.size()), new byte[65520]);
            }
            Thread.sleep(1);
        }
    }
}
"""


def event(at: float, after: float, *, thorough: bool = False, marked: bool = False) -> GcEvent:
    return GcEvent(
        at=at, before_mib=after + 50, after_mib=after, capacity_mib=500, pause_ms=2, thorough=thorough, marked=marked
    )


class Logs(unittest.TestCase):
    def test_every_pause_and_nothing_else(self) -> None:
        events = read_gc_log(LOG.splitlines(keepends=True))
        shown = [(one.at, one.before_mib, one.after_mib, one.thorough) for one in events]
        self.assertEqual(
            shown,
            [
                (0.111, 23, 20, False),
                (3.047, 229, 228, False),
                (3.09, 242, 116, True),
                (4.943, 191, 114, True),
                (5.304, 2, 1, True),
                (6.304, 2048, 1024, False),
            ],
        )
        self.assertEqual((events[2].pause_ms, events[1].marked, events[2].marked), (28.717, True, False))

    @unittest.skipUnless(java17() and shutil.which("javac"), "a Java 17 and its compiler are needed")
    def test_a_real_heap_that_is_known(self) -> None:
        """48 MiB that stay, 16 that are always let go late, and far more that goes at once."""
        with tempfile.TemporaryDirectory() as folder:
            Path(folder, "Load.java").write_text(LOAD)
            subprocess.run(["javac", "Load.java"], cwd=folder, check=True, capture_output=True)
            running = {
                name: subprocess.Popen(
                    [java17() or "", "-Xmx192m", f"-XX:+Use{name}GC", f"-Xlog:gc:{name}.log", "Load"], cwd=folder
                )
                for name in ("G1", "Serial", "Parallel")
            }
            for name, process in running.items():
                with self.subTest(name):
                    self.assertEqual(process.wait(60), 0)
                    found = evidence([read_gc_log(Path(folder, f"{name}.log").read_text().splitlines())])
                    assert found is not None
                    self.assertGreater(found.live_mib, 60)
                    self.assertLess(found.live_mib, 64 * 1.7)
                    self.assertGreater(found.peak_mib, 90)

    def test_what_is_alive(self) -> None:
        cycle = [event(0, 90, marked=True), event(0, 95), event(0, 60), event(0, 70)]
        cycles = [msgspec.structs.replace(cycle[at % 4], at=10.0 + at) for at in range(17)]
        young = [event(float(at), 100 + at % 7) for at in range(1, 61)]
        rows = (
            ("thorough ones count alone", [*young, event(61, 80, thorough=True), event(90, 90, thorough=True)], 90),
            ("else the lowest of each whole cycle", [event(1, 20), *cycles, event(30, 200), event(31, 20)], 60),
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
        assert found is not None
        slope, low, high = found
        self.assertAlmostEqual(slope, 30, delta=1)
        self.assertTrue(0 < low <= slope <= high)
        flat = trend(tuple((60.0 * n, 100 + n % 3) for n in range(60)))
        assert flat is not None
        self.assertLessEqual(flat[1], 0)
        self.assertIsNone(trend(((0.0, 1.0),) * 3))

    @given(
        st.lists(st.integers(0, 10_000), min_size=8, max_size=40),
        st.integers(-500, 500),
        st.lists(st.integers(-9, 9), min_size=40, max_size=40),
        st.randoms(use_true_random=False),
    )
    def test_laws_of_a_trend(self, times: list[int], slope: int, noise: list[int], chance: random.Random) -> None:
        line = [(float(at), slope * at + 7.0) for at in times]
        if len(set(times)) == 1:
            self.assertIsNone(trend(line))
            return
        self.assertEqual(trend(line), (slope * 3600, slope * 3600, slope * 3600))
        rough = [(at, value + more) for (at, value), more in zip(line, noise, strict=False)]
        found = trend(rough)
        assert found is not None
        self.assertTrue(found[1] <= found[0] <= found[2])
        self.assertEqual(found, trend(chance.sample(rough, len(rough))))
        steeper = trend([(at, value + 5 * at) for at, value in rough])
        assert steeper is not None
        self.assertAlmostEqual(steeper[0], found[0] + 5 * 3600, places=3)  # ties, and so the interval, differ

    def test_a_process_without_a_bound(self) -> None:
        run = [(5.0 * n, 40.0 + min(n, 10) + (30 if n == 15 else 0)) for n in range(21)]
        found = process_evidence([[], run, [(0.0, 12.0)]])
        assert found is not None
        self.assertEqual((found.samples, found.seconds, found.peak_mib, found.usual_mib), (22, 100.0, 80.0, 50.0))
        self.assertEqual(process_advice(found.peak_mib, 0), (96, 128, 160))
        self.assertIsNone(process_evidence([[]]))

    def test_days_of_points_are_thinned_and_their_slope_stays(self) -> None:
        days = [(5.0 * n, 100 + n / 3600 + (300 if n % 50 == 0 else n % 7)) for n in range(40_000)]
        found = process_evidence([days, days[:9000]])
        assert found is not None
        self.assertLessEqual(len(found.points), 600)
        self.assertLess(max(mib for _, mib in found.points), 130)
        slope = trend(found.points)
        assert slope is not None
        self.assertAlmostEqual(slope[0], 0.2, delta=0.02)  # a step of 5 s is 1/720 of an hour
        self.assertEqual(thinned(days[:600]), tuple(days[:600]))
        self.assertEqual(thinned(()), ())
