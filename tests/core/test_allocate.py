"""Ports and memory."""

import unittest

from hypothesis import given
from hypothesis import strategies as st

from rhizon.core.allocate.memory import HostMemory, budget, grant
from rhizon.core.allocate.ports import PortWish, allocate
from rhizon.core.errors import StateError
from rhizon.core.model.pack import PackMemory
from tests.support import TARNHOLT

GAME = PortWish(role="game", protocols=("tcp", "udp"), default=21640)
QUERY = PortWish(role="query", protocols=("udp",), default=21640)


def holder(*taken: tuple[int, str]):
    return lambda number, protocol: "somebody" if (number, protocol) in taken else None


class Ports(unittest.TestCase):
    def test_rows(self) -> None:
        rows = (
            ("free", {}, (), {"game": 21640, "query": 21641}),
            ("one protocol is enough", {}, ((21640, "udp"),), {"game": 21641, "query": 21642}),
            ("another protocol is not", {}, ((21641, "tcp"),), {"game": 21640, "query": 21641}),
            ("fixed comes first", {"query": 21640}, (), {"game": 21641, "query": 21640}),
        )
        for what, fixed, taken, expected in rows:
            with self.subTest(what):
                self.assertEqual(allocate((GAME, QUERY), fixed, holder(*taken)), expected)

    def test_a_fixed_port_is_honoured_or_refused(self) -> None:
        for fixed, taken in (({"game": 21700}, ((21700, "tcp"),)), ({"game": 1, "query": 1}, ())):
            with self.subTest(fixed=fixed):
                with self.assertRaises(StateError) as caught:
                    allocate((GAME, QUERY), fixed, holder(*taken))
                self.assertEqual(caught.exception.code, "port-taken")

    def test_none_free(self) -> None:
        with self.assertRaises(StateError) as caught:
            allocate((PortWish(role="game", protocols=("tcp",), default=65530),), {}, lambda _n, _p: "all")
        self.assertEqual(caught.exception.code, "ports-exhausted")

    @given(st.sets(st.tuples(st.integers(21640, 21660), st.sampled_from(["tcp", "udp"]))), st.integers(1, 6))
    def test_no_number_twice_and_none_that_is_held(self, taken: set[tuple[int, str]], count: int) -> None:
        wishes = tuple(
            PortWish(role=f"r{n}", protocols=("tcp", "udp")[: n % 2 + 1], default=21640) for n in range(count)
        )
        given_ports = allocate(wishes, {}, holder(*taken))
        self.assertEqual(len(set(given_ports.values())), count)
        for wish in wishes:
            self.assertFalse({(given_ports[wish.role], protocol) for protocol in wish.protocols} & taken)


class Memory(unittest.TestCase):
    def test_the_parts_add_up(self) -> None:
        made = budget(TARNHOLT, (), {"max_players": 10, "world_size": 2})
        self.assertEqual((made.base_mib, made.players_mib, made.content_mib, made.settings_mib), (48, 20, 0, 32))
        self.assertEqual(made.heap_mib, 128)  # 100, rounded up to a step
        pack = PackMemory(least_mib=100, recommended_mib=500)
        self.assertEqual(budget(TARNHOLT, (), {}, pack).heap_mib, 512)

    def test_what_the_host_does_not_have_is_not_granted(self) -> None:
        wanted = budget(TARNHOLT, (), {})
        host = HostMemory(total_mib=4096)
        self.assertEqual(host.reserve_mib, 512)
        self.assertEqual(grant(TARNHOLT, wanted, host), wanted.heap_mib)
        self.assertEqual(grant(TARNHOLT, wanted, host, 900), 900)
        for fixed, granted, code in (
            (4000, 0, "memory-short"),
            (None, 3500, "memory-short"),
            (20, 0, "memory-too-small"),
        ):
            with self.subTest(fixed=fixed, granted=granted):
                with self.assertRaises(StateError) as caught:
                    grant(TARNHOLT, wanted, HostMemory(total_mib=4096, granted_mib=granted), fixed)
                self.assertEqual(caught.exception.code, code)
