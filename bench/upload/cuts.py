"""Pushes that are cut at random: python bench/upload/cuts.py [--cuts 200] [--seed N]

A server is pushed to a rented one that has an older version of it, over a real OpenSSH (SFTP) and a real vsftpd (FTPS)
in turn, through a line that ends for good after a random number of bytes; the program is killed right after. Then:

- if the start file is there, the files are those of the old server or of the new one, all of them
- if it is not, the mark says that it is incomplete
- the world there is untouched
- the next push ends it, and leaves the new server
- every tenth is taken back by `rhizon undo --on` instead, and leaves the old one

Prints how many of each; exits with 1 when one is wrong. Needs what bench/upload/run.py needs.
"""

import argparse
import contextlib
import getpass
import random
import shutil
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from pathlib import Path

from run import Place

MARK = ".rhizon-push/incomplete"
OWN = ".rhizon-push"


class Line:
    """Carries bytes to a port of loopback until so many have gone by, then ends every connection and takes no more."""

    def __init__(self, to: int, most: int) -> None:
        self._to, self._left = to, most
        self._lock = threading.Lock()
        self.over = threading.Event()
        self.count = 0
        self._open: list[socket.socket] = []
        self._server = socket.create_server(("127.0.0.1", 0))
        self.port: int = self._server.getsockname()[1]
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        while True:
            try:
                near, _ = self._server.accept()
            except OSError:
                return
            if self.over.is_set():
                near.close()
                continue
            far = socket.create_connection(("127.0.0.1", self._to))
            self._open += [near, far]
            for source, target in ((near, far), (far, near)):
                threading.Thread(target=self._carry, args=(source, target), daemon=True).start()

    def _carry(self, source: socket.socket, target: socket.socket) -> None:
        try:
            while data := source.recv(1 << 14):
                with self._lock:
                    self.count += len(data)
                    self._left -= len(data)
                    if self._left < 0:
                        self.over.set()
                if self.over.is_set():
                    break
                target.sendall(data)
        except OSError:
            pass
        if self.over.is_set():
            self.close()
        else:
            for one in (source, target):
                try:
                    one.shutdown(socket.SHUT_RDWR)
                except OSError:
                    continue

    def close(self) -> None:
        for one in (*self._open, self._server):
            with contextlib.suppress(OSError):
                one.shutdown(socket.SHUT_RDWR)
            one.close()


def contents(there: Path, world: str) -> dict[str, bytes]:
    """What is there, without worlds and what a push keeps for itself."""
    return {
        path.relative_to(there).as_posix(): path.read_bytes()
        for path in there.rglob("*")
        if path.is_file() and path.relative_to(there).parts[0] not in (OWN, world)
    }


def remote(place: Place, way: str, name: str, port: int) -> None:
    """Another definition of the rented server, at a port."""
    (place.room / "config/remotes" / f"{name}.remote.toml").unlink(missing_ok=True)
    if way == "sftp":
        place.run("remote", "new", name, "--sftp", f"{getpass.getuser()}@127.0.0.1:{port}", "--folder", place.there,
                  "--key", place.room / "user")  # fmt: skip
    else:
        place.run("remote", "new", name, "--ftps", f"anonymous@127.0.0.1:{port}", "--folder", "/there",
                  "--password-file", place.room / "password", "--certificate", place.room / "crt")  # fmt: skip


def one_cut(place: Place, way: str, port: int, most: int) -> tuple[bool, int]:
    """A push whose line is cut; whether it was, and how many bytes went by."""
    line = Line(port, most)
    remote(place, way, "cut", line.port)
    if way == "sftp":
        known = place.room / "config/known-hosts"
        text = known.read_text()
        key = next(one for one in text.splitlines() if f":{port} " in one).split(" ", 1)[1]
        known.write_text(f"{text}[127.0.0.1]:{line.port} {key}\n")
    push = subprocess.Popen(
        [sys.executable, "-m", "rhizon", "push", "moor", "cut"], env=place.environment, cwd=place.room,
        stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    while push.poll() is None and not line.over.is_set():
        time.sleep(0.005)
    cut = line.over.is_set()
    if cut:
        time.sleep(0.05)
        push.kill()
    push.wait(60)
    line.close()
    return cut, line.count


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--cuts", type=int, default=200)
    parser.add_argument("--seed", type=int, default=17)
    asked = parser.parse_args()
    chance = random.Random(asked.seed)
    found: Counter[str] = Counter()
    with tempfile.TemporaryDirectory(prefix="cuts-", dir="/var/tmp") as folder:
        place = Place(Path(folder))
        try:
            cuts(place, asked.cuts, chance, found)
        finally:
            place.close()
    for name, count in sorted(found.items()):
        print(f"{count:5} {name}")
    wrong = sum(count for name, count in found.items() if name.startswith("WRONG"))
    print(f"{sum(found[one] for one in ('sftp cut', 'ftps cut'))} cuts, {wrong} wrong")
    sys.exit(1 if wrong else 0)


def cuts(place: Place, count: int, chance: random.Random, found: Counter[str]) -> None:
    place.server("moor", [chance.randrange(1, 60_000) for _ in range(120)])
    place.empty()
    ports = {"sftp": place.sshd(), "ftps": place.vsftpd()}
    (place.room / "password").write_text("tove@harbour.example\n")
    for way, port in ports.items():
        remote(place, way, f"real-{way}", port)
    place.run("remote", "probe", "real-sftp", "--accept-key")
    place.run("push", "moor", "real-sftp")
    world = "moors"
    (place.there / world).mkdir(exist_ok=True)
    (place.there / world / "w.dat").write_bytes(b"a world")
    before = place.room / "before"
    own(place.there)
    shutil.copytree(place.there, before, symlinks=True)
    old = contents(place.there, world)
    change(place, chance)
    place.run("push", "moor", "real-sftp")
    new = contents(place.there, world)
    whole = {}
    for number in range(count):
        way = ("sftp", "ftps")[number % 2]
        shutil.rmtree(place.there)
        shutil.copytree(before, place.there, symlinks=True, copy_function=shutil.copy2)
        own(place.there)
        if way not in whole:  # how many bytes a whole push is
            _, whole[way] = one_cut(place, way, ports[way], 1 << 40)
            continue
        most = chance.randrange(whole[way])
        if chance.random() < 0.5:  # most bytes are those of files on their way; what comes after matters as much
            most = whole[way] - chance.randrange(whole[way] // 8)
        cut, _ = one_cut(place, way, ports[way], most)
        found[f"{way} cut" if cut else f"{way} ended before it was cut"] += 1
        judge(place, found, old, new, world, way, undo=number % 10 == 9)


def judge(
    place: Place, found: Counter[str], old: dict[str, bytes], new: dict[str, bytes], world: str, way: str, *, undo: bool
) -> None:
    now = contents(place.there, world)
    startable = "start.sh" in now
    found["startable" if startable else "not startable"] += 1
    if startable and now not in (old, new):
        found["WRONG: startable, and neither the old server nor the new one"] += 1
    if not startable and not (place.there / MARK).exists():
        found["WRONG: not startable, and not marked"] += 1
    if (place.there / world / "w.dat").read_bytes() != b"a world":
        found["WRONG: the world"] += 1
    if undo and (place.there / MARK).exists():
        place.run("undo", "moor", "--on", f"real-{way}")
        found["taken back"] += 1
        if contents(place.there, world) != old:
            found["WRONG: taken back, and not the old server"] += 1
        return
    place.run("push", "moor", f"real-{way}")
    if contents(place.there, world) != new or (place.there / MARK).exists():
        found["WRONG: not the new server after the next push"] += 1


def own(there: Path) -> None:
    """Guests of the FTP server may write there, too."""
    for path in (there, *there.rglob("*")):
        shutil.chown(path, "daemon")
        path.chmod(0o777 if path.is_dir() else 0o666)


def change(place: Place, chance: random.Random) -> None:
    """Another version of the pack: some files more, some fewer, some other."""
    files = place.room / "pack-moor/files/server/extra"
    every = sorted(one for one in files.rglob("*") if one.is_file())
    for number, file in enumerate(every):
        if number % 3 == 0:
            file.write_bytes(chance.randbytes(chance.randrange(1, 60_000)))
        elif number % 7 == 0:
            file.unlink()
    for number in range(10):
        (files / f"new{number}.dat").write_bytes(chance.randbytes(20_000))
    manifest = place.room / "pack-moor/rhizon-pack.toml"
    manifest.write_text(manifest.read_text().replace('version = "1.0.0"', 'version = "1.1.0"'))
    place.run("update", "moor", "--catalog", Path(__file__).parents[2] / "src/rhizon/world/harbour/catalog")


if __name__ == "__main__":
    main()
