"""Asking the router of this network: PCP, then NAT-PMP, then UPnP IGD (by miniupnpc, an extra). Only when told to."""

import contextlib
import importlib
import os
import socket
import struct
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any, Literal, NamedTuple, TypeVar

from rhizon.core.errors import RemoteError, StateError
from rhizon.core.names import printable
from rhizon.core.reach.mapping_protocols import (
    PORT,
    Answer,
    MapWish,
    ProtocolError,
    natpmp_address_request,
    natpmp_request,
    pcp_request,
    read_natpmp,
    read_natpmp_address,
    read_pcp,
)

__all__ = ["Forwarded", "How", "Router", "RouterSays", "find_router"]

How = Literal["PCP", "NAT-PMP", "UPnP IGD"]
WAITS = (0.25, 0.5, 1.0, 2.0)  # RFC 6886, 3.1: each time twice as long
DISCOVER_MS = 1500
NONCE = 12
T = TypeVar("T")


class RouterSays(NamedTuple):
    """A router that answers: its address here, its address on the internet ("" where it does not say), and by which
    protocol; ``epoch`` are the seconds since it was started (0: unknown)."""

    gateway: str
    outside: str
    how: How
    epoch: int


class Forwarded(NamedTuple):
    """A port that it forwards."""

    external: int
    seconds: int
    how: How
    nonce: str
    epoch: int
    outside: str


class Router:
    """The router at ``gateway``; ``own`` is this machine's address towards it. Its protocols are tried in their order,
    and the first that it speaks is kept to."""

    def __init__(self, gateway: str, own: str, port: int = PORT) -> None:
        self.gateway = gateway
        self.own = own
        self._port = port
        self._device: Any = None

    def says(self) -> RouterSays:
        """What it tells of itself. Raises RemoteError where it answers by no protocol."""
        refusals = []
        try:
            answer = self._asked(natpmp_address_request(), read_natpmp_address)
            return RouterSays(self.gateway, answer.address, "NAT-PMP", answer.epoch)
        except (ProtocolError, OSError) as refused:
            refusals.append(f"NAT-PMP: {_words(refused)}")
        try:
            device = self._igd()
            return RouterSays(self.gateway, str(device.externalipaddress() or ""), "UPnP IGD", 0)
        except _NoDeviceError as none:
            refusals.append(f"UPnP IGD: {none}")
        raise _silent(self.gateway, refusals)

    def forward(self, wish: MapWish, words: str, known: "Forwarded | None" = None) -> Forwarded:
        """Asks it to forward a port; ``known`` is an earlier answer that is renewed. Raises RemoteError with what each
        protocol said."""
        refusals = []
        for how in (known.how,) if known is not None else ("PCP", "NAT-PMP", "UPnP IGD"):
            try:
                return self._by(how, wish, words, known)
            except (ProtocolError, OSError, _NoDeviceError) as refused:
                refusals.append(f"{how}: {_words(refused)}")
                if isinstance(refused, ProtocolError) and refused.code is not None and _is_no(how, refused.code):
                    break  # it understood, and does not want to: another protocol says the same
        raise _silent(self.gateway, refusals, f"does not forward {wish.protocol} port {wish.internal}")

    def close(self, wish: MapWish, known: Forwarded) -> None:
        """Asks it to forward a port no more. Raises RemoteError."""
        try:
            if known.how == "UPnP IGD":
                device = self._igd()
                with contextlib.suppress(Exception):  # it is gone already
                    device.deleteportmapping(known.external, wish.protocol.upper())
                return
            self._by(known.how, wish._replace(seconds=0, external=known.external), "", known)
        except (ProtocolError, OSError, _NoDeviceError) as refused:
            raise _silent(self.gateway, [f"{known.how}: {_words(refused)}"], "did not close a port") from None

    def _by(self, how: How, wish: MapWish, words: str, known: Forwarded | None) -> Forwarded:
        if how == "PCP":
            nonce = bytes.fromhex(known.nonce) if known is not None and known.nonce else os.urandom(NONCE)
            answer = self._asked(pcp_request(wish, self.own, nonce), lambda data: read_pcp(data, wish, nonce))
            return Forwarded(answer.external, answer.seconds, how, nonce.hex(), answer.epoch, answer.address)
        if how == "NAT-PMP":
            answer = self._asked(natpmp_request(wish), lambda data: read_natpmp(data, wish))
            return Forwarded(answer.external, answer.seconds, how, "", answer.epoch, "")
        device = self._igd()
        try:
            lease = wish.seconds if wish.seconds < 1 << 31 else 0
            device.addportmapping(wish.external, wish.protocol.upper(), self.own, wish.internal, words[:60], "", lease)
        except Exception as refused:
            raise ProtocolError(printable(str(refused), 120)) from None
        return Forwarded(wish.external, lease, how, "", 0, "")

    def _asked(self, request: bytes, read: Callable[[bytes], Answer]) -> Answer:
        """Sends a request until it is answered; what is no answer to it is not heard. Raises ProtocolError, OSError."""
        family = socket.AF_INET6 if ":" in self.gateway else socket.AF_INET
        strange: ProtocolError | None = None
        with socket.socket(family, socket.SOCK_DGRAM) as asking:
            asking.connect((self.gateway, self._port))  # only it is heard then
            for seconds in WAITS:
                asking.send(request)
                until = time.monotonic() + seconds
                while (left := until - time.monotonic()) > 0:
                    asking.settimeout(left)
                    try:
                        return read(asking.recv(1100))
                    except TimeoutError:
                        break
                    except ProtocolError as wrong:
                        if wrong.code is not None:
                            raise
                        strange = wrong
        if strange is not None:
            raise strange
        raise TimeoutError("no answer")

    def _igd(self) -> Any:
        """The internet gateway device of the network. Raises _NoDeviceError."""
        if self._device is None:
            try:
                miniupnpc = importlib.import_module("miniupnpc")  # an extra, without types
            except ImportError:
                raise _NoDeviceError("it needs the extra: pip install 'rhizon[router]'") from None
            device = miniupnpc.UPnP()
            device.discoverdelay = DISCOVER_MS
            try:
                if not device.discover():
                    raise _NoDeviceError("no device answers")
                device.selectigd()
            except _NoDeviceError:
                raise
            except Exception as broken:
                said = str(broken)
                none = said in ("", "Success")  # what the library says where nothing answered
                raise _NoDeviceError("no device answers" if none else printable(said, 120)) from None
            self._device = device
        return self._device


class _NoDeviceError(Exception):
    pass


def _is_no(how: How, code: int) -> bool:
    """Whether a result is a refusal of the wish, not of the protocol."""
    return code in ((2, 8, 10, 12) if how == "PCP" else (2, 3, 4))


def _words(refused: Exception) -> str:
    if isinstance(refused, ProtocolError):
        return refused.words
    if isinstance(refused, ConnectionRefusedError):
        return "nothing listens there"
    return "no answer" if isinstance(refused, TimeoutError) else printable(str(refused), 120)


def _silent(gateway: str, refusals: list[str], what: str = "answers by no protocol") -> RemoteError:
    return RemoteError(
        "router-refused",
        f"the router {gateway} {what}",
        details=refusals,
        hint="Allow forwarding by programs (PCP, NAT-PMP or UPnP) in its settings, or forward the port there by hand: "
        "rhizon ports --rules table",
    )


def find_router(port: int = PORT) -> Router:
    """The router by which this machine reaches the internet. Raises StateError where there is none."""
    gateway = os.environ.get("RHIZON_ROUTER") or _default_gateway()
    if gateway is None:
        raise StateError(
            "no-router",
            "this machine has no default route over IPv4",
            hint="Without a router nothing has to be forwarded; see: rhizon address",
        )
    family = socket.AF_INET6 if ":" in gateway else socket.AF_INET
    with socket.socket(family, socket.SOCK_DGRAM) as looking:
        try:
            looking.connect((gateway, 9))
            own = str(looking.getsockname()[0])
        except OSError as broken:
            raise StateError(
                "no-router", f"{gateway} cannot be reached: {broken.strerror}", hint="Check the network."
            ) from None
    return Router(gateway, own, port)


def _default_gateway() -> str | None:
    """The gateway of the default route with the lowest metric (proc(5), /proc/net/route)."""
    best: tuple[int, str] | None = None
    with contextlib.suppress(OSError, ValueError, IndexError):
        for line in Path("/proc/net/route").read_text("ascii").splitlines()[1:]:
            fields = line.split()
            if fields[1] == "00000000" and int(fields[3], 16) & 2:
                found = (int(fields[6]), socket.inet_ntoa(struct.pack("<I", int(fields[2], 16))))
                best = min(best, found) if best is not None else found
    return best[1] if best is not None else None
