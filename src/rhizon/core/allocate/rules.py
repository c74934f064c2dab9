"""What must be opened for the players, as rules of a firewall or as a table for the router."""

import re
from collections.abc import Callable, Sequence

import msgspec

__all__ = ["KINDS", "OpenPort", "rules"]

MOST_COMMENT = 120  # characters; nft takes 128


class OpenPort(msgspec.Struct, frozen=True, kw_only=True):
    """Numbers from ``first`` to ``last`` of one role of a server, on one protocol."""

    server: str
    role: str
    first: int
    last: int
    protocol: str

    @property
    def span(self) -> str:
        """``24000`` or ``24000-24004``."""
        return str(self.first) if self.first == self.last else f"{self.first}-{self.last}"


def rules(kind: str, ports: Sequence[OpenPort], inside: str, closed: Sequence[str] = ()) -> str:
    """Text to run or load (``nftables``, ``ufw``, ``firewalld``), or to type into a router (``table``). ``inside`` is
    this machine's address in the local network; servers that are ``closed`` to it are mentioned as left out."""
    text = KINDS[kind](ports, inside)
    for server in dict.fromkeys(closed):
        text += f"# {_plain(server)} listens on this machine only and is left out; its setting `address` decides\n"
    return text


def _plain(text: str) -> str:
    return re.sub(r"[^A-Za-z0-9 ._()/-]", "", text)


def _comment(port: OpenPort) -> str:
    return _plain(f"{port.server} {port.role}")[-MOST_COMMENT:]


def _nftables(ports: Sequence[OpenPort], _inside: str) -> str:
    """A chain of its own that the firewall's chain for incoming packets is made to look into first. A table of its own
    would open nothing: what one base chain accepts, the next one of the same hook may still drop (nft(8), VERDICT
    STATEMENT)."""
    lines = [
        '# For a firewall that filters incoming packets in the chain "input" of the table "inet filter"; if yours',
        "# has other names (nft list ruleset), put them here. Load it with: nft -f FILE",
        "add chain inet filter rhizon",
        "flush chain inet filter rhizon",
    ]
    lines += [
        f'add rule inet filter rhizon {one.protocol} dport {one.span} accept comment "{_comment(one)}"' for one in ports
    ]
    lines.append("insert rule inet filter input jump rhizon")
    return "\n".join(lines) + "\n"


def _ufw(ports: Sequence[OpenPort], _inside: str) -> str:
    return "".join(
        f"ufw allow {one.span.replace('-', ':')}/{one.protocol} comment '{_comment(one)}'\n" for one in ports
    )


def _firewalld(ports: Sequence[OpenPort], _inside: str) -> str:
    lines = [f"firewall-cmd --permanent --add-port={one.span}/{one.protocol}\n" for one in ports]
    return "".join(lines) + ("firewall-cmd --reload\n" if lines else "")


def _table(ports: Sequence[OpenPort], inside: str) -> str:
    rows = [("from outside", "protocol", "to", "port", "for")]
    rows += [(one.span, one.protocol.upper(), inside, one.span, f"{one.server} {one.role}") for one in ports]
    widths = [max(len(row[column]) for row in rows) for column in range(5)]
    lines = ("  ".join(cell.ljust(width) for cell, width in zip(row, widths, strict=True)) for row in rows)
    return "".join(line.rstrip() + "\n" for line in lines)


KINDS: dict[str, Callable[[Sequence[OpenPort], str], str]] = {
    "nftables": _nftables,
    "ufw": _ufw,
    "firewalld": _firewalld,
    "table": _table,
}
