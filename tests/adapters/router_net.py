"""A real router for tests: miniupnpd between a local network and another one, each a network of its own."""

import contextlib
import os
import shutil
import subprocess
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

__all__ = ["NO_ROUTER", "RouterNet", "router_net"]

RULES = """
table inet filter {
  chain forward {
    type filter hook forward priority 0; policy drop;
    ct state established,related accept
    iifname "lr" accept
    jump miniupnpd
  }
  chain miniupnpd {
  }
}
table inet nat {
  chain prerouting {
    type nat hook prerouting priority -100; policy accept;
    jump prerouting_miniupnpd
  }
  chain postrouting {
    type nat hook postrouting priority 100; policy accept;
    jump postrouting_miniupnpd
    oifname "wr" masquerade
  }
  chain prerouting_miniupnpd {
  }
  chain postrouting_miniupnpd {
  }
}
"""
CONF = """
ext_ifname=wr
{ext_ip}
listening_ip=lr
http_port=0
enable_natpmp=yes
enable_upnp=yes
secure_mode=yes
uuid=227ad077-e36b-4b21-be54-9098e8df09cc
min_lifetime=60
max_lifetime=86400
upnp_table_name=filter
upnp_nat_table_name=nat
upnp_forward_chain=miniupnpd
upnp_nat_chain=prerouting_miniupnpd
upnp_nat_postrouting_chain=postrouting_miniupnpd
allow 1024-65535 192.168.77.0/24 1024-65535
deny 0-65535 0.0.0.0/0 0-65535
"""
LINKS = (
    "link add lr netns {r} type veth peer name ll netns {l}",
    "link add wr netns {r} type veth peer name ww netns {w}",
    "-n {r} addr add 192.168.77.1/24 dev lr",
    "-n {r} addr add 203.0.113.1/24 dev wr",
    "-n {r} link set lr up",
    "-n {r} link set wr up",
    "-n {r} link set lo up",
    "-n {l} addr add 192.168.77.2/24 dev ll",
    "-n {l} link set ll up",
    "-n {l} link set lo up",
    "-n {l} route add default via 192.168.77.1",
    "-n {l} route add 239.0.0.0/8 dev ll",
    "-n {w} link set ww up",
)


def _usable() -> str:
    """Why there can be no such router here; "" where there can."""
    if os.geteuid() != 0:
        return "networks of their own need root"
    lacking = [name for name in ("miniupnpd", "nft", "ip") if shutil.which(name) is None]
    if lacking:
        return f"{', '.join(lacking)} is not installed"
    name = f"rz-try-{os.getpid()}"
    if subprocess.run(["ip", "netns", "add", name], capture_output=True).returncode:
        return "this machine makes no networks of their own"
    subprocess.run(["ip", "netns", "del", name], capture_output=True)
    return ""


NO_ROUTER = _usable()


class RouterNet:
    """``inside`` runs a command in the local network."""

    gateway = "192.168.77.1"
    own = "192.168.77.2"

    def __init__(self, names: dict[str, str], room: str) -> None:
        self.names = names
        self._room = room
        self._daemon: subprocess.Popen[bytes] | None = None

    def start(self) -> None:
        """Starts the router's program; one that has forgotten everything."""
        pid = Path(self._room, "pid")
        pid.unlink(missing_ok=True)
        router = ["ip", "netns", "exec", self.names["r"]]
        command = [*router, "miniupnpd", "-d", "-f", f"{self._room}/router.conf", "-P", str(pid)]
        self._daemon = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        until = time.monotonic() + 20
        while not pid.exists() and time.monotonic() < until:
            time.sleep(0.05)
        time.sleep(0.3)

    def stop(self) -> None:
        """Ends it, and takes away what it forwarded."""
        if self._daemon is not None:
            self._daemon.kill()
            self._daemon.wait()
            flush = ["nft", "flush", "chain", "inet", "nat", "prerouting_miniupnpd"]
            subprocess.run(["ip", "netns", "exec", self.names["r"], *flush], check=True)

    def inside(self, *words: str) -> list[str]:
        """A command as one of the local network."""
        return ["ip", "netns", "exec", self.names["l"], *words]

    def rules(self) -> str:
        """What the router forwards, by its own table."""
        command = [
            "ip",
            "netns",
            "exec",
            self.names["r"],
            "nft",
            "list",
            "chain",
            "inet",
            "nat",
            "prerouting_miniupnpd",
        ]
        return subprocess.run(command, capture_output=True, text=True, check=True).stdout


@contextlib.contextmanager
def router_net(ext_ip: str = "11.22.33.44") -> Iterator[RouterNet]:
    """Without ``ext_ip`` the router has an address that is none of the internet, and refuses."""
    names = {one: f"rz-{one}-{os.getpid()}-{time.monotonic_ns() % 10**6}" for one in "rlw"}
    with tempfile.TemporaryDirectory(prefix="rhizon-router-") as room, contextlib.ExitStack() as stack:
        for name in names.values():
            subprocess.run(["ip", "netns", "add", name], check=True)
            stack.callback(subprocess.run, ["ip", "netns", "del", name], check=False)
        for line in LINKS:
            subprocess.run(["ip", *line.format(**names).split()], check=True)
        router = ["ip", "netns", "exec", names["r"]]
        subprocess.run([*router, "nft", "-f", "-"], input=RULES, text=True, check=True)
        conf = Path(room) / "router.conf"
        conf.write_text(CONF.format(ext_ip=f"ext_ip={ext_ip}" if ext_ip else ""))
        net = RouterNet(names, room)
        stack.callback(net.stop)
        net.start()
        yield net
