"""Asking a router: the messages, routers that lie, and a real one."""

import contextlib
import socket
import struct
import subprocess
import sys
import threading
import time
import unittest
from collections.abc import Callable, Iterator

from rhizon.adapters.routers import Forwarded, Router
from rhizon.core.errors import RemoteError
from rhizon.core.reach.kinds import address_kind
from rhizon.core.reach.mapping_protocols import (
    MapWish,
    ProtocolError,
    has_forgotten,
    natpmp_request,
    pcp_request,
    read_natpmp,
    read_natpmp_address,
    read_pcp,
)
from tests.adapters.router_net import NO_ROUTER, RouterNet, router_net
from tests.support import PROGRAM, Case, not_fast

WISH = MapWish("udp", 21640, 21640, 7200)
NONCE = bytes(range(12))
RENEW = """
import pathlib, sys
from rhizon.app.host import this_host
from rhizon.app.reach.opened import renew_ports
assert renew_ports(this_host(), pathlib.Path(sys.argv[1]))
"""
ASK = "import sys; from rhizon.adapters.routers import *; from rhizon.core.reach.mapping_protocols import MapWish; "


def pcp_answer(request: bytes, *, external: int = 21640, result: int = 0, seconds: int = 3600) -> bytes:
    """As RFC 6887, 11.1 has it."""
    return (
        struct.pack("!BBxBII12x", 2, 0x81, result, seconds, 77)
        + request[24:42]
        + struct.pack("!H", external)
        + (b"\0" * 10 + b"\xff\xff" + bytes([11, 22, 33, 44]))
    )


class Messages(unittest.TestCase):
    def test_requests_byte_for_byte(self) -> None:
        request = pcp_request(WISH, "192.168.77.2", NONCE)
        self.assertEqual(len(request), 60)
        self.assertEqual(request[:8], bytes([2, 1, 0, 0]) + (7200).to_bytes(4, "big"))
        self.assertEqual(request[8:24], b"\0" * 10 + b"\xff\xff" + bytes([192, 168, 77, 2]))
        self.assertEqual(request[24:44], NONCE + b"\x11\0\0\0" + struct.pack("!HH", 21640, 21640))
        self.assertEqual(natpmp_request(WISH), bytes.fromhex("0001 0000 5488 5488 00001c20"))
        self.assertEqual(natpmp_request(MapWish("tcp", 21640, 21640, 0)), bytes.fromhex("0002 0000 5488 0000 00000000"))

    def test_answers_that_are_believed(self) -> None:
        request = pcp_request(WISH, "192.168.77.2", NONCE)
        self.assertEqual(read_pcp(pcp_answer(request), WISH, NONCE), (21640, "11.22.33.44", 3600, 77))
        self.assertEqual(read_pcp(pcp_answer(request, external=4000), WISH, NONCE).external, 4000)
        mapped = struct.pack("!BBHIHHI", 0, 129, 0, 9, 21640, 4000, 60)
        self.assertEqual(read_natpmp(mapped, WISH), (4000, "", 60, 9))
        self.assertEqual(read_natpmp_address(struct.pack("!BBHI4B", 0, 128, 0, 9, 1, 2, 3, 4)).address, "1.2.3.4")

    def test_answers_that_are_not(self) -> None:
        request = pcp_request(WISH, "192.168.77.2", NONCE)
        good = pcp_answer(request)
        for data in (b"", b"\0" * 7, good[:30], good[:59], b"\2\1" + good[2:], good[:24] + b"x" * 12 + good[36:],
                     good[:40] + b"\0\1" + good[42:], pcp_answer(request, external=0)):  # fmt: skip
            with self.subTest(data), self.assertRaises(ProtocolError) as caught:
                read_pcp(data, WISH, NONCE)
            self.assertIsNone(caught.exception.code)
        for result in (*range(1, 15), 255):
            with self.subTest(result), self.assertRaises(ProtocolError) as caught:
                read_pcp(pcp_answer(request, result=result), WISH, NONCE)
            self.assertEqual(caught.exception.code, result)
        other_protocol = struct.pack("!BBHIHHI", 0, 130, 0, 9, 21640, 1, 60)
        other_port = struct.pack("!BBHIHHI", 0, 129, 0, 9, 21641, 1, 60)
        for data in (b"", b"\0\x81\0\0", other_protocol, other_port, struct.pack("!BBHI", 0, 129, 0, 9)):
            with self.subTest(data), self.assertRaises(ProtocolError):
                read_natpmp(data, WISH)

    def test_a_router_that_was_started_again(self) -> None:
        for then, elapsed, now, lost in ((100, 10, 110, False), (100, 1000, 980, False), (100, 1000, 3, True),
                                         (0, 0, 0, False), (5, 4, 1, True), (5, 4, 7, False)):  # fmt: skip
            self.assertEqual(has_forgotten(then, elapsed, now), lost, (then, elapsed, now))

    def test_kinds_of_addresses(self) -> None:
        rows = {"127.0.0.1": "loopback", "::1": "loopback", "10.1.2.3": "private", "100.64.9.9": "shared",
                "203.0.113.1": "documentation", "8.8.4.4": "public", "fe80::1%eth0": "link-local", "fd00::2": "private",
                "2a00::1": "public", "0.0.0.0": "none", "": "none", "harbour.example": "name",
                "::ffff:100.64.0.1": "shared", "169.254.1.1": "link-local"}  # fmt: skip
        self.assertEqual({one: address_kind(one) for one in rows}, rows)


@contextlib.contextmanager
def lying(answer: Callable[[bytes], list[bytes]]) -> Iterator[Router]:
    """A router here that answers each request as ``answer`` says."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as own:
        own.bind(("127.0.0.1", 0))
        own.settimeout(0.1)
        over = threading.Event()

        def serve() -> None:
            while not over.is_set():
                with contextlib.suppress(TimeoutError):
                    data, who = own.recvfrom(2000)
                    for one in answer(data):
                        own.sendto(one, who)

        thread = threading.Thread(target=serve)
        thread.start()
        try:
            yield Router("127.0.0.1", "127.0.0.1", own.getsockname()[1])
        finally:
            over.set()
            thread.join()


class Liars(unittest.TestCase):
    def test_strange_answers_before_the_right_one(self) -> None:
        def answer(request: bytes) -> list[bytes]:
            return [b"", b"hello", pcp_answer(request)[:40], pcp_answer(request, external=22000)]

        with lying(answer) as router:
            got = router.forward(WISH, "x")
        self.assertEqual((got.external, got.how, got.seconds), (22000, "PCP", 3600))

    def test_a_refusal_is_told_and_not_asked_for_elsewhere(self) -> None:
        asked: list[bytes] = []

        def answer(request: bytes) -> list[bytes]:
            asked.append(request)
            return [pcp_answer(request, result=10)]

        with lying(answer) as router, self.assertRaises(RemoteError) as caught:
            router.forward(WISH, "x")
        self.assertIn("too many ports", caught.exception.details[0])
        self.assertEqual(len(asked), 1)

    def test_one_that_speaks_the_older_protocol(self) -> None:
        def answer(request: bytes) -> list[bytes]:
            if request[0] == 2:
                return [struct.pack("!BBHI", 0, 0x81, 1, 5)]  # RFC 6886, 9
            return [struct.pack("!BBHIHHI", 0, request[1] | 0x80, 0, 5, 21640, 21640, 900)]

        with lying(answer) as router:
            self.assertEqual(router.forward(WISH, "x").how, "NAT-PMP")


@not_fast
@unittest.skipIf(NO_ROUTER, NO_ROUTER)
class RealRouter(Case):
    def ask(self, net: RouterNet, code: str) -> str:
        """Runs code in the local network, with ``router`` and ``WISH``."""
        text = f"{ASK}router = find_router(); WISH = MapWish('udp', 21640, 21640, 7200); {code}"
        done = subprocess.run(net.inside(sys.executable, "-c", text), capture_output=True, text=True, timeout=60)
        self.assertEqual(done.returncode, 0, done.stderr)
        return done.stdout.strip()

    def test_by_each_protocol(self) -> None:
        """It is asked by all three; what it forwards is in its own table, and gone after it was closed."""
        with router_net() as net:
            self.assertEqual(self.ask(net, "print(router.gateway, router.own)"), f"{net.gateway} {net.own}")
            self.assertEqual(self.ask(net, "s = router.says(); print(s.outside, s.how)"), "11.22.33.44 NAT-PMP")
            for how in ("PCP", "NAT-PMP", "UPnP IGD"):
                with self.subTest(how):
                    code = f"k = router._by('{how}', WISH, 'rhizon test', None); print(k.how, k.external, k.nonce); "
                    said = self.ask(net, code)
                    if "IGD" not in said and how == "UPnP IGD":
                        self.fail(said)
                    self.assertIn("21640", net.rules())
                    nonce = said.split()[-1] if how == "PCP" else ""
                    known = Forwarded(21640, 7200, how, nonce, 0, "")  # type: ignore[arg-type]
                    self.ask(net, f"router.close(WISH, Forwarded{tuple(known)!r})")
                    self.assertNotIn("21640", net.rules())

    def test_by_the_program(self) -> None:
        server = self.provisioned()
        with router_net() as net:
            done = self.inside(net, "ports", server, "--open", "--lease", "2h", "--json")
            self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
            self.assertEqual(net.rules().count("dnat"), 8)  # four numbers, tcp and udp
            shown = self.inside(net, "address", server, "--ask-router")
            self.assertIn("11.22.33.44 23860", shown.stdout)
            self.assertIn("the router forwards the line port", shown.stdout)
            self.assertIn("forwards these ports", self.inside(net, "reach", server, "--ask-router").stdout)
            time.sleep(4)
            net.stop()
            net.start()  # its epoch goes back
            lost = self.inside(net, "reach", server, "--ask-router")
            self.assertIn("was restarted", lost.stdout)
            renew = net.inside(sys.executable, "-c", RENEW, server)  # as its keeper does
            done = subprocess.run(renew, env=self.environment(), timeout=120)
            self.assertEqual((done.returncode, net.rules().count("dnat")), (0, 8))
            self.assertNotIn("was restarted", self.inside(net, "reach", server, "--ask-router").stdout)
            closed = self.inside(net, "ports", server, "--close")
            self.assertIn("8 ports closed", closed.stdout)
            self.assertEqual(net.rules().count("dnat"), 0)
        with router_net(ext_ip="") as net:
            refused = self.inside(net, "ports", server, "--open", "--json")
            self.assertEqual(refused.returncode, 5, refused.stdout)
            self.assertIn("internet", refused.stdout)
            told = self.inside(net, "address", server, "--ask-router", "--json")
            self.assertIn("not-reachable", told.stdout)  # over UPnP it tells an address that is none of the internet

    def provisioned(self) -> str:
        from tests.support import CATALOG

        listed = CATALOG.parent / "emberline.list.toml"
        self.assertEqual(self.rhizon("provision", listed, "line", "--catalog", CATALOG, "--name", "line").code, 0)
        return str(self.folder / "line")

    def inside(self, net: RouterNet, *words: str) -> "subprocess.CompletedProcess[str]":
        command = net.inside(*PROGRAM, *words)
        return subprocess.run(
            command, cwd=self.folder, env=self.environment(), capture_output=True, text=True, timeout=120
        )
