"""The messages of two protocols by which a router is asked to forward a port: PCP (RFC 6887) and NAT-PMP (RFC 6886).

Bytes in and out; who sends them is :mod:`rhizon.adapters.routers`. An answer is checked in everything that the request
said, since anybody in the network can send one.
"""

import ipaddress
import struct
from typing import Literal, NamedTuple

__all__ = [
    "PORT",
    "Answer",
    "MapWish",
    "ProtocolError",
    "has_forgotten",
    "natpmp_address_request",
    "natpmp_request",
    "pcp_request",
    "read_natpmp",
    "read_natpmp_address",
    "read_pcp",
]

PORT = 5351  # of both, on the router
_NUMBERS = {"tcp": 6, "udp": 17}
_PCP_RESULTS = {
    1: "it does not speak this version of PCP",
    2: "it does not allow that",
    3: "it found the request malformed",
    4: "it does not know how to forward ports",
    5: "it does not know an option",
    7: "it has a network failure now; try again later",
    8: "it has no free port, or no address of its own on the internet",
    9: "it does not forward this protocol",
    10: "too many ports are forwarded for this machine already",
    11: "that number on the internet cannot be had",
    12: "it is behind another router that changes addresses",
    13: "too many peers were named",
}
_NATPMP_RESULTS = {
    1: "it does not speak this version of NAT-PMP",
    2: "it does not allow that: forwarding by programs is switched off",
    3: "it has no address of its own on the internet",
    4: "it has no free port left",
    5: "it does not know how to forward ports",
}


class ProtocolError(Exception):
    """An answer that refuses (``code``, in words), or one that is not to be believed (``code`` None)."""

    def __init__(self, words: str, code: int | None = None) -> None:
        super().__init__(words)
        self.words = words
        self.code = code


class MapWish(NamedTuple):
    """A port to forward: on this machine, the number that is wanted outside, for so many seconds (0: no more)."""

    protocol: Literal["tcp", "udp"]
    internal: int
    external: int
    seconds: int


class Answer(NamedTuple):
    """What the router did: the number outside, its address ("" where the protocol does not say), for how long, and the
    seconds since it was started (its epoch)."""

    external: int
    address: str
    seconds: int
    epoch: int


def pcp_request(wish: MapWish, own_address: str, nonce: bytes) -> bytes:
    """A MAP request (RFC 6887, 7.1 and 11.1); ``nonce`` has twelve bytes."""
    client = _sixteen(own_address)
    head = struct.pack("!BBHI16s", 2, 1, 0, wish.seconds, client)
    outside = _sixteen("0.0.0.0" if ipaddress.ip_address(own_address).version == 4 else "::")
    body = struct.pack("!12sB3xHH16s", nonce, _NUMBERS[wish.protocol], wish.internal, wish.external, outside)
    return head + body


def read_pcp(data: bytes, wish: MapWish, nonce: bytes) -> Answer:
    """The answer to such a request. Raises ProtocolError."""
    if len(data) >= 8 and data[0] == 0:
        raise ProtocolError("it speaks NAT-PMP, not PCP", 1)
    if len(data) < 24 or data[0] != 2 or data[1] != 0x81:
        raise ProtocolError("its answer is no answer to a PCP request")
    _, _, result, seconds, epoch = struct.unpack_from("!BBxBII", data)
    if result != 0:
        raise ProtocolError(_PCP_RESULTS.get(result, f"it refused (PCP result {result})"), result)
    if len(data) < 60:
        raise ProtocolError("its answer is cut short")
    got, number, internal, external, address = struct.unpack_from("!12sB3xHH16s", data, 24)
    if got != nonce or number != _NUMBERS[wish.protocol] or internal != wish.internal:
        raise ProtocolError("its answer is to another request")
    if wish.seconds and not external:
        raise ProtocolError("its answer names no port")
    outside = ipaddress.IPv6Address(address)
    said = str(outside.ipv4_mapped or outside)
    return Answer(external, "" if said in ("0.0.0.0", "::") else said, seconds, epoch)


def natpmp_request(wish: MapWish) -> bytes:
    """A mapping request (RFC 6886, 3.3)."""
    operation = 1 if wish.protocol == "udp" else 2
    external = wish.external if wish.seconds else 0
    return struct.pack("!BBHHHI", 0, operation, 0, wish.internal, external, wish.seconds)


def read_natpmp(data: bytes, wish: MapWish) -> Answer:
    """The answer to it. Raises ProtocolError."""
    operation = 129 if wish.protocol == "udp" else 130
    result, epoch = _natpmp_head(data, operation)
    if result != 0:
        raise ProtocolError(_NATPMP_RESULTS.get(result, f"it refused (NAT-PMP result {result})"), result)
    if len(data) < 16:
        raise ProtocolError("its answer is cut short")
    internal, external, seconds = struct.unpack_from("!HHI", data, 8)
    if internal != wish.internal:
        raise ProtocolError("its answer is to another request")
    if wish.seconds and not external:
        raise ProtocolError("its answer names no port")
    return Answer(external, "", seconds, epoch)


def natpmp_address_request() -> bytes:
    """Asks for the address on the internet (RFC 6886, 3.2)."""
    return struct.pack("!BB", 0, 0)


def read_natpmp_address(data: bytes) -> Answer:
    """The answer to it. Raises ProtocolError."""
    result, epoch = _natpmp_head(data, 128)
    if result != 0:
        raise ProtocolError(_NATPMP_RESULTS.get(result, f"it refused (NAT-PMP result {result})"), result)
    if len(data) < 12:
        raise ProtocolError("its answer is cut short")
    return Answer(0, str(ipaddress.IPv4Address(data[8:12])), 0, epoch)


def has_forgotten(epoch_then: int, elapsed: float, epoch_now: int) -> bool:
    """Whether a router has been started again since, by its two epochs and the seconds between them on this machine:
    it has then forgotten what it forwarded (RFC 6886, 3.6: clocks may differ by an eighth and two seconds)."""
    return epoch_now + 2 < epoch_then + elapsed * 7 / 8


def _natpmp_head(data: bytes, operation: int) -> tuple[int, int]:
    if len(data) < 8 or data[0] != 0 or data[1] != operation:
        raise ProtocolError("its answer is no answer to a NAT-PMP request")
    result, epoch = struct.unpack_from("!HI", data, 2)
    return int(result), int(epoch)


def _sixteen(address: str) -> bytes:
    """An address as PCP writes it: IPv4 mapped into IPv6."""
    known = ipaddress.ip_address(address)
    return known.packed if known.version == 6 else ipaddress.ip_address(f"::ffff:{known}").packed
