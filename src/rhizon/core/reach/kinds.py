"""What kind of network an address belongs to (RFC 1918, 3927, 4193, 6598, 5737, 3849)."""

import ipaddress
from typing import Literal

__all__ = ["AddressKind", "address_kind", "is_public", "kind_words"]

AddressKind = Literal["loopback", "link-local", "private", "shared", "documentation", "public", "name", "none"]

_SHARED = ipaddress.ip_network("100.64.0.0/10")  # between a provider and its customers (carrier-grade NAT)
_DOCUMENTATION = [
    ipaddress.ip_network(one)
    for one in ("192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24", "2001:db8::/32", "198.18.0.0/15")
]
_WORDS: dict[AddressKind, str] = {
    "loopback": "this machine alone",
    "link-local": "one cable, without a router",
    "private": "a local network",
    "shared": "the provider's own network (carrier-grade NAT)",
    "documentation": "no network: such addresses are for examples and tests",
    "public": "the internet",
    "name": "a name",
    "none": "no address",
}


def address_kind(text: str) -> AddressKind:
    """The kind of an address; "name" for what is none."""
    try:
        address = ipaddress.ip_address(text.partition("%")[0])
    except ValueError:
        return "name" if text else "none"
    if isinstance(address, ipaddress.IPv6Address) and address.ipv4_mapped is not None:
        address = address.ipv4_mapped
    if address.is_unspecified:
        return "none"
    if address.is_loopback:
        return "loopback"
    if address.is_link_local:
        return "link-local"
    if address.version == 4 and address in _SHARED:
        return "shared"
    if any(address.version == net.version and address in net for net in _DOCUMENTATION):
        return "documentation"
    return "private" if address.is_private or address.is_reserved or address.is_multicast else "public"


def is_public(text: str) -> bool:
    """Whether the internet knows a way to it."""
    return address_kind(text) == "public"


def kind_words(kind: AddressKind) -> str:
    """Where such an address is known, in words."""
    return _WORDS[kind]
