"""Ports of many instances and round trips of settings files: python bench/settle/run.py

200 instances in a ledger; 16 processes that ask for ports at once, with no double grant; ``rhizon ports`` over as many
real ones; a file of 5,000 lines in every dialect, read and edited. Times are of whole commands where one is named, else
of the work alone; the peer for a dialect is a library that only reads such a file.
"""

import configparser
import json
import multiprocessing
import os
import re
import subprocess
import sys
import tempfile
import time
import tomllib
import xml.etree.ElementTree as ElementTree
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[2] / "src"))

from rhizon.adapters.ledger import Entry, Ledger
from rhizon.core.allocate.ports import PortRoom, PortWish, allocate
from rhizon.core.settings.dialects import DIALECTS

INSTANCES = 200
PROCESSES = 16
LINES = 5_000
ROOM = PortRoom(pool=tuple(range(22000, 24000)))
WISHES = (
    PortWish(role="game", protocols=("tcp", "udp"), default=22000, count=2),
    PortWish(role="query", protocols=("udp",), default=22000),
)
SHIPPED = Path(__file__).parents[2] / "src/rhizon/world/harbour"


def take(folder: Path, number: int) -> dict[str, int]:
    """One instance's ports, as provisioning takes them: look and record in one claim."""
    (folder / f"i{number}/.rhizon").mkdir(parents=True, exist_ok=True)
    ledger = Ledger(folder / "ledger.sqlite3", write=True)
    try:
        with ledger.claim():
            held = {port for entry in ledger.entries() for port in entry.ports.values()}
            ports = allocate(WISHES, {}, lambda one, _protocol: "somebody" if one in held else None, ROOM)
            every = {**ports, "game+1": ports["game"] + 1}
            entry = Entry(
                folder=str(folder / f"i{number}"), name=f"i{number}", game="bench", note="", memory_mib=1, ports=every
            )
            ledger.put(entry)
    finally:
        ledger.close()
    return every


def ports(folder: Path) -> None:
    for number in range(INSTANCES - PROCESSES):
        take(folder, number)
    begun = time.perf_counter()
    with multiprocessing.get_context("spawn").Pool(PROCESSES) as pool:
        late = pool.starmap(take, [(folder, INSTANCES - PROCESSES + number) for number in range(PROCESSES)])
    ledger = Ledger(folder / "ledger.sqlite3")
    numbers = [port for entry in ledger.entries() for port in entry.ports.values()]
    ledger.close()
    seconds = time.perf_counter() - begun
    print(
        f"{PROCESSES} processes at once beside {INSTANCES - PROCESSES} instances: {seconds:.2f} s, {len(late)} served"
    )
    print(f"{len(numbers)} numbers, {len(numbers) - len(set(numbers))} granted twice")


def command(folder: Path) -> None:
    """``rhizon ports`` over 200 folders: one instance that was really laid out, and copies of it."""
    environment = {**os.environ, "RHIZON_STATE": str(folder / "state"), "RHIZON_CONFIG": str(folder / "config")}
    environment.pop("PYTHONDONTWRITEBYTECODE", None)

    def run(*words: str) -> float:
        begun = time.perf_counter()
        done = subprocess.run(
            [sys.executable, "-m", "rhizon", *words], cwd=folder, env=environment, capture_output=True, text=True
        )
        if done.returncode and "licence" not in done.stderr:
            sys.exit(done.stdout + done.stderr)
        return time.perf_counter() - begun

    run("provision", str(SHIPPED / "packs/marsh-evening"), "s0", "--catalog", str(SHIPPED / "catalog"))
    first = (folder / "s0/.rhizon/instance.toml").read_text()
    for number in range(1, INSTANCES):
        subprocess.run(["cp", "-al", str(folder / "s0"), str(folder / f"s{number}")], check=True)
        text = re.sub(r"(?m)^game = \d+$", f"game = {25000 + 2 * number}", first)
        text = re.sub(r"(?m)^query = \d+$", f"query = {25001 + 2 * number}", text)
        for name in ("instance.toml", "copies/instance.toml"):
            file = folder / f"s{number}/.rhizon" / name
            file.unlink()
            file.write_text(text)
    run("host", "--rebuild", *(f"s{number}" for number in range(INSTANCES)))
    for words in (("ports",), ("ports", "--json"), ("list",), ("host",), ("--version",)):
        aim = " (aim 0.3 s)" if words[0] == "ports" else ""
        print(f"rhizon {' '.join(words)}, {INSTANCES} instances: {min(run(*words) for _ in range(3)):.2f} s{aim}")


def files() -> dict[str, tuple[str, Callable[[str], object]]]:
    """For each dialect a file and what only reads it."""
    many = range(LINES)
    ini = "[S]\n" + "".join(f"key{n} = value {n}\n" for n in many)
    plain = json.dumps({f"key{n}": f"value {n}" for n in many}, indent=1)
    toml = "".join(f'key{n} = "value {n}"\n' for n in many)
    tree = "<s>\n" + "".join(f"<key{n}>value {n}</key{n}>\n" for n in many) + "</s>\n"

    def read_ini(text: str) -> object:
        parser = configparser.RawConfigParser()
        parser.read_string(text)
        return parser

    def read_lines(text: str) -> object:
        return dict(line.partition("=")[::2] for line in text.splitlines())

    def read_yaml(text: str) -> object:
        import yaml

        return yaml.load(text, Loader=getattr(yaml, "CBaseLoader", yaml.BaseLoader))

    return {
        "properties": ("".join(f"key{n} = value {n}\n" for n in many), read_lines),
        "ini": (ini, read_ini),
        "json": (plain, json.loads),
        "toml": (toml, tomllib.loads),
        "yaml": ("".join(f"key{n}: value {n}\n" for n in many), read_yaml),
        "xml": (tree, ElementTree.fromstring),
        "semicolon": ("".join(f'key{n} = "value {n}";\n' for n in many), read_lines),
    }


def dialects() -> None:
    for name, (text, reader) in files().items():
        dialect, data = DIALECTS[name], text.encode()
        key = sorted(dialect.read(data))[7]

        def timed(work: Callable[[], object]) -> float:
            best = 9.0
            for _ in range(3):
                begun = time.perf_counter()
                work()
                best = min(best, time.perf_counter() - begun)
            return best * 1000

        read = timed(lambda d=dialect, b=data: d.read(b))
        edit = timed(lambda d=dialect, b=data, k=key: d.edit(b, {k: "another"}))
        peer = timed(lambda r=reader, t=text: r(t))
        ours = f"{name:<11} read {read:6.0f} ms, edit {edit:6.0f} ms (aim 50)"
        print(f"{ours}, only reading {peer:6.0f} ms, ratio {read / peer:5.1f}")


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        (Path(name) / "ledger").mkdir()
        ports(Path(name) / "ledger")
        dialects()
        command(Path(name))


if __name__ == "__main__":
    main()
