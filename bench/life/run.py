"""What a keeper costs and what it survives: python bench/life/run.py [--quick]

Real keepers of a small server (a Python program that prints what it is told to): resident memory, processor time at
100 and at 10,000 lines a second, time to attach, twenty servers at once, and tries in which keeper, server or all are
killed at any moment while the server counts: what it wrote must be in the log to the last line. Then the four games
of the club, killed and started again.
"""

import contextlib
import gzip
import itertools
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import rhizon
from rhizon.adapters.console import ConsoleClient
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.keepers import adopt, life_of, start_keeper
from rhizon.core.errors import StateError
from rhizon.keeper.job import Job

SERVER = """
import os, sys, threading, time
rate = float(sys.argv[1])
print("open", flush=True)
def count():
    number, begun, world = 0, time.monotonic(), open("world", "w")
    while True:
        due = int((time.monotonic() - begun) * rate)
        if due > number:
            text = "".join(f"line {n}\\n" for n in range(number, due))
            sys.stdout.write(text); sys.stdout.flush()
            world.seek(0); world.write(str(due)); world.flush()
            number = due
        time.sleep(0.005)
if rate: threading.Thread(target=count, daemon=True).start()
for line in sys.stdin:
    print("heard", line.strip(), flush=True)
    if line.strip() == "stop": os._exit(0)
"""


class Kept:
    """A server with its keeper in a folder of its own."""

    def __init__(self, folder: Path, rate: float) -> None:
        self.home = InstanceFolder(folder)
        (self.home.own / "measured").mkdir(parents=True)
        script = folder / "server.py"
        script.write_text(SERVER)
        self.job = Job("x", [sys.executable, str(script), str(rate)], {}, ready="^open$", stop="stop", restart="never")
        self.life = start_keeper(self.home, self.job)

    @property
    def keeper(self) -> int:
        life = life_of(self.home)
        assert life is not None
        return life.keeper.pid

    def until(self, state: str) -> None:
        while (life := life_of(self.home)) is None or life.state != state:
            time.sleep(0.005)

    def stop(self) -> None:
        mark = self.home.running()
        assert mark is not None
        with ConsoleClient(self.home, mark) as client:
            client.stop()
        self.until("stopped")


def used(pid: int) -> tuple[float, float]:
    """Processor seconds, and resident MiB."""
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    seconds = (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")
    return seconds, int(fields[21]) * os.sysconf("SC_PAGE_SIZE") / (1 << 20)


def cost(folder: Path, rate: float, seconds: float) -> None:
    kept = Kept(folder, rate)
    kept.until("ready")
    time.sleep(1)
    before, _ = used(kept.keeper)
    time.sleep(seconds)
    after, resident = used(kept.keeper)
    kept.stop()
    lines = [line for line in (kept.home.own / "last-run.log").read_text().splitlines() if line.startswith("line ")]
    whole = lines == [f"line {number}" for number in range(len(lines))]
    share = 100 * (after - before) / seconds
    print(
        f"{rate:>8.0f} lines/s  keeper {resident:5.1f} MiB  {share:5.2f} % of a core  "
        f"{len(lines)} lines, {'none' if whole else 'SOME'} lost",
        flush=True,
    )


def attach(folder: Path) -> None:
    kept = Kept(folder, 0)
    kept.until("ready")
    times = []
    for number in range(50):
        begun = time.perf_counter()
        mark = kept.home.running()
        assert mark is not None
        with ConsoleClient(kept.home, mark) as client:
            client.send(f"hello {number}")
        times.append(time.perf_counter() - begun)
    kept.stop()
    times.sort()
    print(f"attach and type: median {1000 * times[25]:.1f} ms, longest {1000 * times[-1]:.1f} ms", flush=True)


def twenty(folder: Path) -> None:
    begun = time.perf_counter()
    servers = [Kept(folder / str(number), 10) for number in range(20)]
    for one in servers:
        one.until("ready")
    up = time.perf_counter() - begun
    before = [used(one.keeper)[0] for one in servers]
    time.sleep(5)
    share = sum(used(one.keeper)[0] - was for one, was in zip(servers, before, strict=True)) / 5
    resident = sum(used(one.keeper)[1] for one in servers)
    for one in servers:
        one.stop()
    load = f"keepers {resident:.0f} MiB and {100 * share:.1f} % of a core in all"
    print(f"20 servers: up after {up:.1f} s, {load}", flush=True)


def kills(folder: Path, tries: int) -> None:
    """The server counts into its log and its world; whatever is killed, the log has every line that the world knows."""
    order = random.Random(19)
    lost = 0
    for number in range(tries):
        kept = Kept(folder / str(number), 500)
        kept.until("ready")
        time.sleep(order.random() * 0.3)
        what = order.choice(("keeper", "server", "all", "stopped keeper"))
        if what == "stopped keeper":
            os.kill(kept.keeper, signal.SIGSTOP)
            time.sleep(0.1)
        for pid in {"keeper": [kept.keeper], "server": [kept.life.pid]}.get(what, [kept.keeper, kept.life.pid]):
            os.kill(pid, signal.SIGKILL)
        if what == "keeper":
            time.sleep(0.1)
            with contextlib.suppress(StateError):
                adopt(kept.home)
            kept.stop()
        time.sleep(0.15)
        known = int((kept.home.folder / "world").read_text() or 0)
        lines = [line for line in (kept.home.own / "last-run.log").read_text().splitlines() if line.startswith("line ")]
        good = len(lines) >= known and lines == [f"line {n}" for n in range(len(lines))]
        lost += not good
    print(f"{tries} kills of keeper, server or both: {lost} with a line lost", flush=True)


def games(folder: Path, tries: int) -> None:
    """The four games of the club, each killed at any moment while it runs: it must become ready again on its world, and
    the log must have what it had before."""
    harbour = Path(rhizon.__file__).parent / "world/harbour"
    folder.mkdir()
    environment = {**os.environ, "RHIZON_STATE": f"{folder}/state", "RHIZON_CONFIG": f"{folder}/config"}

    def program(*words: str) -> int:
        command = [sys.executable, "-m", "rhizon", *words, "-q"]
        done = subprocess.run(command, cwd=folder, env=environment, capture_output=True, check=False)
        return done.returncode

    order = random.Random(4)
    ready = kept = 0
    names = [one.name.partition(".")[0] for one in sorted(harbour.glob("*.list.toml"))]
    for name in names:
        source = (str(harbour / f"{name}.list.toml"), name, "--name", name, "--catalog", str(harbour / "catalog"))
        program("provision", *source, "--accept-licence", "--set", "address=127.0.0.1", "--start")
        own = folder / name / ".rhizon"
        for _ in range(tries):
            time.sleep(order.random() * 0.5)
            life = life_of(InstanceFolder(folder / name))
            assert life is not None
            what = order.choice(("keeper", "server", "all"))
            for pid in {"keeper": [life.keeper.pid], "server": [life.pid]}.get(what, [life.keeper.pid, life.pid]):
                os.kill(pid, signal.SIGKILL)
            before = (own / "last-run.log").read_bytes()
            if what == "server":  # its keeper starts it again, or calls it a crash loop
                while (now := life_of(InstanceFolder(folder / name))) is not None and (now.pid, now.state) == (
                    life.pid,
                    "ready",
                ):
                    time.sleep(0.05)
                again = program("wait", name, "ready", "--wait", "60") == 0
                ready += again or program("start", name, "--wait", "60") == 0
            else:
                ready += program("start", name, "--wait", "60") == 0
            logs = [(own / "last-run.log").read_bytes()]
            logs += [gzip.decompress(one.read_bytes()) for one in (own / "runs").glob("*.log.gz")]
            kept += any(one.startswith(before) for one in logs)
        program("stop", name)
    total = tries * len(names)
    print(f"{total} kills of {', '.join(names)}: {ready} ready again on their worlds, {kept} with the whole log")


def main() -> None:
    quick = "--quick" in sys.argv
    with tempfile.TemporaryDirectory() as room:
        places = (Path(room, str(number)) for number in itertools.count())
        for rate in (0, 100, 10_000):
            cost(next(places), rate, 5 if quick else 20)
        attach(next(places))
        twenty(next(places))
        kills(next(places), 20 if quick else 200)
        games(next(places), 3 if quick else 15)


if __name__ == "__main__":
    main()
