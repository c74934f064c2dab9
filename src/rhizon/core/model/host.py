"""``host.toml``: what this machine gives to game servers. Everything in it may be left out."""

from typing import Literal

from rhizon.core.allocate.ports import parse_pool
from rhizon.core.model.base import Line, Mib, Strict

__all__ = ["HostLimits"]


class HostLimits(Strict, frozen=True, kw_only=True):
    """The whole file. ``memory_mib`` is the most that all servers may have together, ``reserve_mib`` what is left to
    the machine, ``ports`` the only numbers that may be taken (ranges and single ones), ``address`` how the internet
    reaches this machine, ``linked`` the only folders outside an instance that links in it may lead to, ``encrypt_to``
    the age public keys that every backup is encrypted to."""

    format: Literal["rhizon-host/1"]
    memory_mib: Mib | None = None
    reserve_mib: Mib | None = None
    ports: tuple[Line, ...] = ()
    address: Line = ""
    linked: tuple[Line, ...] = ()
    encrypt_to: tuple[Line, ...] = ()

    def __post_init__(self) -> None:
        try:
            parse_pool(self.ports)
        except ValueError as wrong:
            raise ValueError(f"ports: {wrong}") from None
        for one in self.linked:
            if not one.startswith("/") and not one[1:3] == ":\\":
                raise ValueError(f"linked: {one!r} is not an absolute path")
