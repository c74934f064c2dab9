"""A simulated Tarnholt player: reads what the server runs over the game port and moors there.

    python -m rhizon.world.harbour.player HOST PORT NAME [ID=VERSION ...]

The content that the player has is given as ID=VERSION. Prints one JSON object; exit code 0 when the server
let the player in, 1 when it did not, 5 when nothing answered. docs/harbour-lights.md describes the exchange.
"""

import json
import socket
import sys

SECONDS = 5.0
LONGEST = 1 << 20


def ask(host: str, port: int, request: str) -> list[str]:
    """The lines that the server answers to one request line, without the closing ``end``."""
    with socket.create_connection((host, port), timeout=SECONDS) as peer:
        peer.sendall(request.encode() + b"\n")
        data = b""
        while len(data) < LONGEST and (chunk := peer.recv(65536)):
            data += chunk
    lines = data.decode("utf-8", "replace").splitlines()
    if not lines or lines[-1] != "end":
        raise OSError("the answer was cut short")
    return lines[:-1]


def echo(host: str, port: int) -> bool:
    """Whether the UDP side of the game port answers."""
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as peer:
        peer.settimeout(SECONDS)
        peer.sendto(b"ahoy", (host, port))
        return peer.recv(16) == b"ahoy"


def main(arguments: list[str]) -> int:
    host, port, name, *content = arguments
    seen: dict[str, object] = {}
    pieces = []
    try:
        for line in ask(host, int(port), "hail"):
            word, _, rest = line.partition(" ")
            if word == "piece":
                pieces.append(dict(zip(("id", "version", "side"), rest.split(" "), strict=True)))
            else:
                seen[word] = rest
        answer = ask(host, int(port), f"moor {name} - {','.join(content) or '-'}")[0]
        udp = echo(host, int(port))
    except (OSError, IndexError, ValueError) as broken:
        print(json.dumps({"joined": False, "reason": f"no answer: {broken}"}))
        return 5
    joined = answer.startswith("welcome ")
    reason = "" if joined else answer.partition(" ")[2]
    print(json.dumps({"joined": joined, "reason": reason, "udp": udp, "server": seen, "content": pieces}))
    return 0 if joined else 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
