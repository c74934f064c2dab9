"""A simulated player of one of the club's games: reads what the server runs and asks to be let in.

    python -m rhizon.world.harbour.player GAME HOST PORT NAME PASSWORD [ID=VERSION ... | --folder DIR]

The content that the player has is given as ID=VERSION, or is what the game's client finds in a folder; no password is
"-". Prints one JSON object; exit code 0 when the
server let the player in, 1 when it did not, 5 when nothing answered. docs/harbour-lights.md describes the exchanges.
"""

import json
import socket
import sys
from pathlib import Path
from typing import NamedTuple

from rhizon.world.harbour.client import ClientError, started

SECONDS = 5.0
LONGEST = 1 << 20


class Manners(NamedTuple):
    """How a game is spoken to: over which protocol, the word to look, the word to come in, and on which offset from
    the port a UDP datagram is echoed (None: on none)."""

    udp: bool
    look: str
    enter: str
    echo: int | None


GAMES = {
    "tarnholt": Manners(udp=False, look="hail", enter="moor", echo=0),
    "emberline": Manners(udp=False, look="board?", enter="ride", echo=3),
    "gloamwick": Manners(udp=False, look="peek", enter="enter", echo=None),
    "drovemoor": Manners(udp=True, look="sound", enter="join", echo=None),
}


def ask(host: str, port: int, request: str, *, udp: bool) -> list[str]:
    """The lines that the server answers to one request line, without the closing ``end``."""
    data = b""
    if udp:
        with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as peer:
            peer.settimeout(SECONDS)
            peer.sendto(request.encode(), (host, port))
            data = peer.recv(65536)
    else:
        with socket.create_connection((host, port), timeout=SECONDS) as peer:
            peer.sendall(request.encode() + b"\n")
            while len(data) < LONGEST and (chunk := peer.recv(65536)):
                data += chunk
    lines = data.decode("utf-8", "replace").splitlines()
    if not lines or lines[-1] != "end":
        raise OSError("the answer was cut short")
    return lines[:-1]


def echo(host: str, port: int) -> bool:
    """Whether a UDP port sends back what it gets."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as peer:
        peer.settimeout(SECONDS)
        peer.sendto(b"ahoy", (host, port))
        return peer.recv(16) == b"ahoy"


def main(arguments: list[str]) -> int:
    """Joins a server as a player and prints the result as one JSON object: game, host, port, name, password ("" for
    none) and the player's content. Returns 0 if the player joined, 1 if the server refused, 5 if it did not answer."""
    game, host, number, name, password, *content = arguments
    manners, port = GAMES[game], int(number)
    seen: dict[str, object] = {}
    pieces = []
    loader = ""
    if content[:1] == ["--folder"]:
        try:
            found, loader = started(game, Path(content[1]))
        except ClientError as fault:
            print(json.dumps({"joined": False, "reason": f"the client does not start: {fault}"}))
            return 1
        content = [f"{name}={version}" for name, version in found.items()]
    try:
        for line in ask(host, port, manners.look, udp=manners.udp):
            word, _, rest = line.partition(" ")
            if word == "piece":
                pieces.append(dict(zip(("id", "version", "side"), rest.split(" "), strict=True)))
            else:
                seen[word] = rest
        if loader and seen.get("loader", loader) != loader:
            print(json.dumps({"joined": False, "reason": f"the server runs {seen['loader']}, the client {loader}"}))
            return 1
        request = f"{manners.enter} {name} {password or '-'} {','.join(content) or '-'}"
        answer = ask(host, port, request, udp=manners.udp)[0]
        udp = manners.udp if manners.echo is None else echo(host, port + manners.echo)
    except (OSError, IndexError, ValueError) as broken:
        print(json.dumps({"joined": False, "reason": f"no answer: {broken}"}))
        return 5
    joined = answer.startswith("welcome ")
    reason = "" if joined else answer.partition(" ")[2]
    print(json.dumps({"joined": joined, "reason": reason, "udp": udp, "server": seen, "content": pieces}))
    return 0 if joined else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
