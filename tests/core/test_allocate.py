"""Ports and memory."""

import os
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from rhizon.core.allocate.memory import HostMemory, budget, grant
from rhizon.core.allocate.port_roles import port_places, port_wishes, spans
from rhizon.core.allocate.ports import PortRoom, PortWish, allocate, parse_pool
from rhizon.core.allocate.rules import KINDS, OpenPort, rules
from rhizon.core.errors import InputError, StateError
from rhizon.core.model.catalog import ExtraPort
from rhizon.core.model.lock import Lock, LockedFile, LockedRelease, Target
from rhizon.core.model.pack import PackMemory
from rhizon.core.names import RelPath
from tests.support import TARNHOLT

GAME = PortWish(role="game", protocols=("tcp", "udp"), default=21640)
QUERY = PortWish(role="query", protocols=("udp",), default=21640)


FILE = LockedFile(catalog="shelf", path=RelPath("a.jar"), sha256="0" * 64, size=1)


def release(name: str, *roles: str, on_server: bool = True, memory_mib: int | None = None) -> LockedRelease:
    """A mod, with ports of these roles."""
    ports = tuple(ExtraPort(role=role, protocols=("udp",), default=21670, store=()) for role in roles)
    return LockedRelease(
        id=name, version="1.0.0", kind="mod", title=name, placement="shared", on_server=on_server, for_players=True,
        because=("list",), ports=ports, memory_mib=memory_mib, file=FILE,
    )  # fmt: skip


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

    def test_blocks_and_offsets(self) -> None:
        block = PortWish(role="game", protocols=("tcp", "udp"), default=30000, count=4)
        late = PortWish(role="late", protocols=("udp",), default=1, offset_of="game", offset=-2)
        other = PortWish(role="other", protocols=("tcp",), default=30001)
        rows: tuple[tuple[dict[str, int], tuple[tuple[int, str], ...], dict[str, int]], ...] = (
            ({}, (), {"game": 30000, "late": 29998, "other": 30004}),
            ({}, ((30003, "udp"),), {"game": 30004, "late": 30002, "other": 30001}),
            ({}, ((29998, "udp"),), {"game": 30001, "late": 29999, "other": 30005}),
            ({"other": 30002}, (), {"game": 30003, "late": 30001, "other": 30002}),
            ({"game": 30100}, (), {"game": 30100, "late": 30098, "other": 30001}),
        )
        for fixed, taken, expected in rows:
            with self.subTest(fixed=fixed, taken=taken):
                self.assertEqual(allocate((block, late, other), fixed, holder(*taken)), expected)
        for fixed, kind in (({"late": 5}, InputError), ({"game": 65534}, InputError), ({"game": 1}, InputError)):
            with self.subTest(fixed=fixed):
                self.assertRaises(kind, allocate, (block, late, other), fixed, holder())

    def test_items_that_want_one_role(self) -> None:
        target = Target(
            game="tarnholt",
            game_version="4.2",
            loader="keelson",
            loader_build="3.1.0",
            runtime="java",
            runtime_major=17,
        )
        releases = (
            release("bracken", "voice", "game"), release("heron", "voice"), release("skipper", "map", on_server=False),
        )  # fmt: skip
        lock = Lock(format="rhizon-lock/1", name="two", target=target, server=FILE, releases=releases)
        self.assertEqual(list(port_places(TARNHOLT, lock)), ["game", "query", "voice", "bracken-game", "heron-voice"])
        self.assertEqual(list(port_places(TARNHOLT, None)), ["game", "query"])
        numbers = allocate(port_wishes(TARNHOLT, lock, {"heron-voice": 29000}), {}, holder())
        self.assertEqual(len(set(numbers.values())), 5)
        self.assertEqual((numbers["voice"], numbers["heron-voice"]), (21670, 29000))
        self.assertEqual(spans({"line": 5, "line+1": 6, "line+2": 7, "gate": 3}), ["gate 3", "line 5-7"])

    def test_pools_and_ephemeral_ports(self) -> None:
        room = PortRoom(pool=parse_pool(["24000-24002", " 24010 "]))
        self.assertEqual(allocate((GAME, QUERY), {}, holder((24000, "udp")), room), {"game": 24001, "query": 24002})
        kept = PortWish(role="game", protocols=("tcp",), default=24010)
        self.assertEqual(allocate((kept,), {}, holder(), room), {"game": 24010})
        block = PortWish(role="b", protocols=("tcp",), default=1, count=3)
        self.assertEqual(allocate((block,), {}, holder(), room), {"b": 24000})
        self.assertRaises(StateError, allocate, (block,), {}, holder((24001, "tcp")), room)
        high = PortWish(role="h", protocols=("tcp",), default=32767)
        ephemeral = PortRoom(ephemeral=(32768, 60999))
        self.assertEqual(allocate((high,), {}, holder(), ephemeral), {"h": 32767})
        self.assertEqual(allocate((high,), {}, holder((32767, "tcp")), ephemeral), {"h": 32768})
        low = PortWish(role="l", protocols=("tcp",), default=900)
        self.assertEqual(allocate((low,), {}, holder((900, "tcp"))), {"l": 1024})
        for wrong in ("x", "1-", "9-8", "0", "65536", "1-2-3", ""):
            with self.subTest(wrong):
                self.assertRaises(ValueError, parse_pool, [wrong])

    def test_rules_for_firewalls(self) -> None:
        ports = [
            OpenPort(server="ma'rsh; rm", role="game", first=24000, last=24003, protocol="udp"),
            OpenPort(server="marsh", role="query", first=24010, last=24010, protocol="tcp"),
        ]
        made = {kind: rules(kind, ports, "192.0.2.7") for kind in KINDS}
        for kind, text in made.items():
            self.assertIn("24010", text)
            if kind != "table":
                self.assertNotIn("ma'rsh", text)
        self.assertIn("24000:24003/udp comment 'marsh rm game'", made["ufw"])
        self.assertIn("24000-24003   UDP       192.0.2.7  24000-24003", made["table"])
        self.assertIn("# marsh listens on this machine only", rules("ufw", ports, "", ["marsh", "marsh"]))

    @unittest.skipUnless(shutil.which("nft") and os.geteuid() == 0, "nft and root are needed")
    def test_a_firewall_that_drops_lets_the_ports_in(self) -> None:
        if subprocess.run(["unshare", "-n", "ip", "link", "set", "lo", "up"], capture_output=True).returncode:
            self.skipTest("this machine does not allow a network of its own")
        own = "type filter hook input priority filter; policy drop;\nct state established,related accept\n"
        ports = [OpenPort(server="marsh", role="game", first=24010, last=24011, protocol="tcp")]
        ours = rules("nftables", ports, "")
        tries = "; ".join(
            f"timeout 0.5 bash -c '</dev/tcp/127.0.0.1/{port}' 2>/dev/null; echo $?" for port in (24009, 24010, 24011)
        )
        with tempfile.TemporaryDirectory() as folder:
            Path(folder, "own").write_text("table inet filter {\nchain input {\n" + own + "}\n}\n")
            Path(folder, "ours").write_text(ours)
            script = f"ip link set lo up && nft -f own || exit 99; nft -f ours && nft -f ours && {{ {tries}; }}"
            done = subprocess.run(["unshare", "-n", "bash", "-c", script], cwd=folder, text=True, capture_output=True)
        if done.returncode == 99:
            self.skipTest(f"this machine cannot filter packets: {done.stderr}")
        # 124: nothing came back; 1: the machine itself said that nobody listens
        self.assertEqual(done.stdout.split(), ["124", "1", "1"], done.stderr)

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

    @given(
        st.lists(st.tuples(st.booleans(), st.none() | st.integers(0, 400)), max_size=6),
        st.integers(1, 3000),
        st.integers(0, 3000),
    )
    def test_only_what_is_on_the_server_counts_and_no_pack_gets_less_than_it_needs(
        self, content: list[tuple[bool, int | None]], least: int, more: int
    ) -> None:
        releases = tuple(
            release(f"m{number}", on_server=here, memory_mib=mib) for number, (here, mib) in enumerate(content)
        )
        pack = PackMemory(least_mib=least, recommended_mib=least + more)
        made = budget(TARNHOLT, releases, {}, pack)
        counted = [TARNHOLT.memory.per_content_mib if mib is None else mib for here, mib in content if here]
        self.assertEqual(made.content_mib, sum(counted))
        self.assertGreaterEqual(made.heap_mib, max(made.parts_mib, least + more, TARNHOLT.memory.least_mib))
        self.assertLess(made.heap_mib, max(made.parts_mib, least + more, TARNHOLT.memory.least_mib) + 32)

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
