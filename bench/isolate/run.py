"""Starts that `rhizon isolate` needs: python bench/isolate/run.py [MODS]

A real server of Tarnholt with a hundred generated mods (or MODS), of which one fails by itself, two fail only together,
or one fails since a library that half of the others need is broken. The mods are compiled with javac and started on the
real JVM. Prints starts and seconds beside the aims: 10 starts for one culprit of a hundred, 25 for a pair.
"""

import io
import json
import os
import random
import subprocess
import sys
import tempfile
import time
import zipfile
from pathlib import Path

ROOT = Path(__file__).parents[2]
WORLD = ROOT / "src/rhizon/world/harbour"
GOOD = "public void begin(tarnholt.api.Marsh marsh) {}"
BAD = 'public void begin(tarnholt.api.Marsh marsh) { throw new IllegalStateException("no peat"); }'
CLASH = """public void begin(tarnholt.api.Marsh marsh) {
    try { Class.forName("%s.Entry"); } catch (ClassNotFoundException alone) { return; }
    throw new IllegalStateException("two of a kind"); }"""


def compiled(bodies: dict[str, str], work: Path) -> dict[str, bytes]:
    """The entry class of each mod, by its id."""
    server = work / "tarnholt-server.jar"
    with zipfile.ZipFile(WORLD / "catalog/server/tarnholt-server-4.2.zip") as whole:
        server.write_bytes(whole.read("tarnholt-server.jar"))
    files = []
    for name, body in bodies.items():
        file = work / "src" / name / "Entry.java"
        file.parent.mkdir(parents=True)
        file.write_text(f"package {name}; public final class Entry implements tarnholt.api.Content {{ {body} }}")
        files.append(str(file))
    command = ["javac", "--release", "17", "-nowarn", "-cp", str(server), "-d", str(work / "out"), *files]
    subprocess.run(command, check=True, capture_output=True)
    return {name: (work / "out" / name / "Entry.class").read_bytes() for name in bodies}


def jar(name: str, code: bytes, needs: dict[str, str]) -> bytes:
    made = io.BytesIO()
    about = {"id": name, "version": "1.0", "form": 2, "keelson": "*", "entry": f"{name}.Entry", "needs": needs}
    with zipfile.ZipFile(made, "w") as archive:
        archive.writestr("keel/about.json", json.dumps(about))
        archive.writestr(f"{name}/Entry.class", code)
    return made.getvalue()


def scene(count: int, what: str) -> tuple[dict[str, str], dict[str, dict[str, str]], set[str]]:
    """Bodies and needs of the mods, and who is at fault."""
    names = [f"m{number:03}" for number in range(count)]
    order = random.Random(what)
    bodies, needs = dict.fromkeys(names, GOOD), {name: {} for name in names}
    first, second = order.sample(names, 2)
    if what == "one":
        bodies[first] = BAD
        return bodies, needs, {first}
    if what == "pair":
        bodies[first] = CLASH % second
        return bodies, needs, {first, second}
    bodies[first] = BAD
    for name in order.sample([one for one in names if one != first], count // 2):
        needs[name] = {first: "*"}
    return bodies, needs, {first}


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 100
    print(f"{'culprits':>10} {'mods':>5} {'starts':>7} {'aim':>4} {'seconds':>8}  found")
    for what, aim in (("one", 10), ("library", 10), ("pair", 25)):
        with tempfile.TemporaryDirectory() as folder:
            work = Path(folder)
            environment = {**os.environ, "RHIZON_STATE": str(work / "state"), "RHIZON_CONFIG": str(work / "config")}

            def rhizon(*words: str, work: Path = work, environment: dict[str, str] = environment) -> dict[str, object]:
                command = [sys.executable, "-m", "rhizon", *words, "--json"]
                done = subprocess.run(command, cwd=work, env=environment, capture_output=True, text=True)
                return dict(json.loads(done.stdout))

            (work / "x.list.toml").write_text('format = "rhizon-list/1"\nname = "x"\ngame = "tarnholt"\n[content]\n')
            made = rhizon(
                *("provision", "x.list.toml", "x", "--catalog", str(WORLD / "catalog"), "--accept-licence"),
                *("--set", "address=127.0.0.1", "--memory", "512"),
            )
            if not made["ok"]:
                raise SystemExit(f"the server cannot be made: {made['error']}")
            bodies, needs, guilty = scene(count, what)
            (work / "x/mods").mkdir(exist_ok=True)
            for name, code in compiled(bodies, work).items():
                (work / f"x/mods/{name}.jar").write_bytes(jar(name, code, needs[name]))
            begun = time.perf_counter()
            answer = rhizon("isolate", "x")["result"]
            seconds = time.perf_counter() - begun
            assert isinstance(answer, dict)
            found = [set(one["ids"]) for one in answer["found"]]
            right = "right" if found == [guilty] else f"wrong: {found}"
            print(f"{what:>10} {count:>5} {answer['starts']:>7} {aim:>4} {seconds:>8.1f}  {right}", flush=True)


if __name__ == "__main__":
    main()
