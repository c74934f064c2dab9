"""Fetching, laying out, verifying and updating beside what they cost at least: python bench/transact/run.py

Floors in the same run: parallel ``curl`` and ``sha256sum`` for fetching (from a local nginx, without delay and through
a relay that holds every byte back for 20 ms each way), ``cp -al`` for laying out, ``openssl dgst`` for verifying. It
needs nginx, curl and openssl. CPU seconds are of the work alone where "start-up excluded" is said.
"""

import asyncio
import contextlib
import hashlib
import json
import os
import resource
import shutil
import subprocess
import sys
import tempfile
import time
import zipfile
from collections.abc import Callable
from pathlib import Path

ROOT = Path(__file__).parents[2]
NEAR, FAR = 18471, 18472
SHIPPED = ROOT / "src/rhizon/world/harbour/catalog"
NGINX = """
daemon off; pid {0}/nginx.pid; error_log {0}/error.log; worker_processes 1; events {{ worker_connections 512; }}
http {{ access_log off; sendfile on;
server {{ listen 127.0.0.1:18471; root {0}/shelf; }}
client_body_temp_path {0}/t; proxy_temp_path {0}/t;
fastcgi_temp_path {0}/t; uwsgi_temp_path {0}/t; scgi_temp_path {0}/t; }}
"""
FETCH = """
import json, sys, time
from pathlib import Path
from rhizon.adapters.catalogs import open_catalogs
from rhizon.adapters.fetching import fetch_all
from rhizon.adapters.http import Network
from rhizon.adapters.store import Store
from rhizon.core.model.lock import LockedFile
from rhizon.core.names import RelPath
rows = json.loads(Path(sys.argv[1]).read_text())
files = [LockedFile(catalog="bench", path=RelPath(p), sha256=h, size=s) for p, h, s in rows]
catalogs = open_catalogs((f"http://127.0.0.1:{sys.argv[3]}",), Path(), Network())
begun, cpu = time.perf_counter(), time.process_time()
fetch_all(catalogs, files, Store(Path(sys.argv[2])), lambda progress: None)
print(json.dumps([time.perf_counter() - begun, time.process_time() - cpu]))
"""


def measured(work: Callable[[], object]) -> tuple[float, float]:
    """Wall seconds, and CPU seconds of children."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    begun = time.perf_counter()
    work()
    wall = time.perf_counter() - begun
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return wall, after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def said(what: str, ours: float, floor: float, unit: str = "s wall", aim: str = "") -> None:
    print(f"{what:<52} {ours:8.3f} {floor:8.3f} {unit:<7} ratio {ours / floor:5.2f}  {aim}", flush=True)


def shelf(scratch: Path, count: int, size: int, name: str) -> list[tuple[str, str, int]]:
    rows = []
    for number in range(count):
        path = scratch / "shelf" / f"{name}-{number}.bin"
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(os.urandom(size))
        rows.append((path.name, hashlib.sha256(path.read_bytes()).hexdigest(), size))
    return rows


def curl(scratch: Path, rows: list[tuple[str, str, int]], port: int, run: int) -> float:
    out = scratch / f"curl-{run}"
    out.mkdir()
    lines = "".join(f'url = "http://127.0.0.1:{port}/{name}"\noutput = "{out}/{name}"\n' for name, _, _ in rows)
    (scratch / "curl.cfg").write_text(lines)
    (scratch / "sums").write_text("".join(f"{sha256}  {out}/{name}\n" for name, sha256, _ in rows))

    def work() -> None:
        command = ["curl", "-s", "--no-progress-meter", "-Z", "--parallel-max", "16", "-K", str(scratch / "curl.cfg")]
        subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
        subprocess.run(["sha256sum", "--quiet", "-c", str(scratch / "sums")], check=True)

    wall, _ = measured(work)
    shutil.rmtree(out)
    return wall


def rhizon(scratch: Path, rows: list[tuple[str, str, int]], port: int, run: int) -> float:
    (scratch / "files.json").write_text(json.dumps(rows))
    store = scratch / f"store-{run}"
    done = subprocess.run(
        [sys.executable, "-c", FETCH, str(scratch / "files.json"), str(store), str(port)],
        check=True,
        capture_output=True,
    )
    shutil.rmtree(store)
    return float(json.loads(done.stdout)[0])


def fetching(scratch: Path) -> None:
    (scratch / "shelf").mkdir(exist_ok=True)
    (scratch / "shelf/catalog.json").write_text('{"format": "rhizon-catalog/1", "name": "bench", "games": {}}')
    small, large = shelf(scratch, 400, 200_000, "small"), shelf(scratch, 6, 50 << 20, "large")
    (scratch / "nginx.conf").write_text(NGINX.format(scratch))
    command = ["nginx", "-c", str(scratch / "nginx.conf"), "-p", str(scratch)]
    server = subprocess.Popen(command, stderr=subprocess.DEVNULL)
    far = subprocess.Popen([sys.executable, __file__, "--relay"])
    try:
        time.sleep(1)
        for port, delay, sets in ((NEAR, "", (small, large)), (FAR, ", 40 ms", (small,))):
            for rows in sets:
                what = f"{len(rows)} files, {sum(one[2] for one in rows) / 1e6:.0f} MB{delay}"
                pairs = [(rhizon(scratch, rows, port, run), curl(scratch, rows, port, run)) for run in range(3)]
                ours, floor = sorted(pairs, key=lambda one: one[0] / one[1])[1]
                said(f"fetch {what}, beside curl + sha256sum", ours, floor, aim="aim 1.0")
    finally:
        for one in (server, far):
            one.terminate()
            one.wait()
        shutil.rmtree(scratch / "shelf")


async def relay() -> None:
    """Every connection to the second port goes on to nginx, each way 20 ms late."""

    async def late(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        loop = asyncio.get_running_loop()
        waiting: asyncio.Queue[tuple[float, bytes]] = asyncio.Queue()

        async def out() -> None:
            while True:
                due, data = await waiting.get()
                await asyncio.sleep(max(due - loop.time(), 0))
                if not data:
                    writer.close()
                    return
                writer.write(data)
                await writer.drain()

        sender = asyncio.create_task(out())
        with contextlib.suppress(OSError):
            while data := await reader.read(1 << 18):
                waiting.put_nowait((loop.time() + 0.02, data))
        waiting.put_nowait((loop.time() + 0.02, b""))
        with contextlib.suppress(OSError):
            await sender

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        back, forth = await asyncio.open_connection("127.0.0.1", NEAR)
        await asyncio.gather(late(reader, forth), late(back, writer))

    server = await asyncio.start_server(serve, "127.0.0.1", FAR)
    await server.serve_forever()


LAY_OUT = """
import json, sys, time
from pathlib import Path
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.store import Store
from rhizon.adapters.transact import apply
from rhizon.core.model.decode import encode_json
from rhizon.core.names import RelPath
from rhizon.core.plan import WantedFile, make_plan
rows = json.loads(Path(sys.argv[1]).read_text())
store, folder = Store(Path(sys.argv[2])), Path(sys.argv[3])
wanted = {RelPath("mods/" + n): WantedFile(sha256=h, size=s, origin="bench", linked=True) for n, h, s in rows}
home, paths = InstanceFolder(folder), list(wanted)
begun = time.process_time()
plan = make_plan(wanted, home.hashes(paths), None, RelPath("worlds"))
apply(folder, plan, {"inventory.json": encode_json(plan.inventory)}, store)
laid = time.process_time() - begun
begun = time.process_time()
assert len(home.hashes(paths)) == len(wanted)
full = time.process_time() - begun
home.hashes(paths, store.verified)
begun = time.process_time()
assert home.hashes(paths, store.verified) == {path: one.sha256 for path, one in wanted.items()}
print(json.dumps([laid, full, time.process_time() - begun]))
"""


def laying_out(scratch: Path) -> None:
    sys.path.insert(0, str(ROOT / "src"))
    from rhizon.adapters.store import Store

    store = Store(scratch / "store")
    rows = []
    plain = scratch / "plain"
    plain.mkdir()
    for number in range(500):
        data = os.urandom(102_000)
        rows.append((f"{number:03}.jar", store.add(data), len(data)))
        (plain / f"{number:03}.jar").write_bytes(data)
    (scratch / "rows.json").write_text(json.dumps(rows))
    command = [sys.executable, "-c", LAY_OUT, str(scratch / "rows.json"), str(scratch / "store")]
    runs = []
    for run in range(3):
        done = subprocess.run([*command, str(scratch / f"laid-{run}")], check=True, capture_output=True)
        runs.append(json.loads(done.stdout))
    copies = sorted(
        measured(lambda run=run: subprocess.run(["cp", "-al", str(plain), str(scratch / f"cp-{run}")], check=True))[1]
        for run in range(3)
    )
    laid, full, quick = sorted(runs)[1]
    said("lay out 500 files, 51 MB (start-up excluded), cp -al", laid, copies[1], "s CPU", "aim 0.1 s")
    names = sorted(str(one) for one in (scratch / "laid-0/mods").iterdir())
    hashed = sorted(
        measured(lambda: subprocess.run(["openssl", "dgst", "-sha256", *names], check=True, capture_output=True))[1]
        for _ in range(3)
    )
    said("verify every byte of them, openssl dgst -sha256", full, hashed[1], "s CPU", "aim 1.15")
    print(f"verify sizes and stamps of them: {quick:.3f} s CPU")


def instance(scratch: Path) -> None:
    """A real instance with 500 pieces of content."""
    catalog = scratch / "catalog"
    shutil.copytree(SHIPPED / "server", catalog / "server")
    shutil.copytree(SHIPPED / "loaders", catalog / "loaders")
    shutil.copy(SHIPPED / "shelf.toml", catalog)
    (catalog / "archives").mkdir()
    wishes = []
    for number in range(500):
        name = f"bench-{number:03}"
        about = {
            "form": 2, "id": name, "version": "1.0.0", "title": name, "kind": "library", "side": "both",
            "tarnholt": ">=4.2, <4.3", "keelson": ">=3.1", "needs": {},
        }  # fmt: skip
        with zipfile.ZipFile(catalog / f"archives/{name}-1.0.0.jar", "w") as made:
            made.writestr("keel/about.json", json.dumps(about))
            made.writestr("data.bin", os.urandom(100_000))
        wishes.append(f'{name} = "*"')
    head = ['format = "rhizon-list/1"', 'name = "bench"', 'game = "tarnholt"', "[target]", 'game_version = "4.2"']
    head += ['loader = "keelson"', "[content]"]
    (scratch / "bench.list.toml").write_text("\n".join([*head, *wishes]) + "\n")
    environment = {**os.environ, "RHIZON_STATE": str(scratch / "state"), "RHIZON_CONFIG": str(scratch / "config")}
    environment.pop("PYTHONDONTWRITEBYTECODE", None)

    def run(*words: str) -> float:
        begun = time.perf_counter()
        done = subprocess.run(
            [sys.executable, "-m", "rhizon", *words], cwd=scratch, env=environment, capture_output=True
        )
        if done.returncode:
            sys.exit(f"rhizon {' '.join(words)}: {done.stderr.decode()}")
        return time.perf_counter() - begun

    run("catalog", "build", "catalog")
    first = run("provision", "bench.list.toml", "a", "--catalog", "catalog", "--accept-licence")
    print(f"provision 500 pieces from a folder, first start included: {first:.2f} s")
    print(f"update with nothing to do: {min(run('update', 'a') for _ in range(3)):.2f} s (aim 0.4 s)")
    print(f"any command at all (rhizon --version): {min(run('--version') for _ in range(3)):.2f} s")
    run("lock", "a", "--output", "a.lock.json")

    def size(*names: str) -> int:
        command = ["du", "-s", "--block-size=1", "-c", *names]
        shown = subprocess.run(command, cwd=scratch, capture_output=True, check=True).stdout
        return int(shown.decode().splitlines()[-1].split()[0])

    before = size("a", "state/store")
    log = scratch / "a/.rhizon/last-run.log"
    start = float(log.read_text().splitlines()[-1].split()[0])
    second = run("provision", "a.lock.json", "b", "--offline", "--accept-licence")
    more = size("a", "b", "state/store") - before
    print(
        f"a second instance: {second:.2f} s, of which the server's own first start {start:.2f} s (aim 1 s without it)"
    )
    print(f"it takes {more / 1e6:.2f} MB more disk, {100 * more / before:.1f} % (aim 5 %)")


def main() -> None:
    if sys.argv[1:] == ["--relay"]:
        with contextlib.suppress(KeyboardInterrupt):
            asyncio.run(relay())
        return
    with tempfile.TemporaryDirectory() as name:
        scratch = Path(name)
        scratch.chmod(0o755)
        fetching(scratch)
        laying_out(scratch)
        instance(scratch)


main()
