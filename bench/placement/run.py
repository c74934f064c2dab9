"""Verdicts from code beside what really happens.

    python bench/placement/run.py [--keep FOLDER] [--java PROGRAM]... [--only PREFIX]...


Compiles every mod of mods.py with javac, asks Rhizon for its verdict, starts each alone on the real JVM with the
Tarnholt server and the Keelson loader, and prints a confusion table. A mod "fails" when the server ends with an error
before its gates open. ``--keep`` writes the archives and what happened into a folder. Needs javac and java 17; with
``--java`` (more than once) the servers run on these instead, one table for each.
"""

import concurrent.futures
import functools
import io
import itertools
import json
import socket
import subprocess
import sys
import tempfile
import time
import zipfile
from collections import Counter
from pathlib import Path

from mods import Mod, mods

from rhizon.adapters.games import GAMES, read_game
from rhizon.core.archives.classes import archive_classes
from rhizon.core.archives.entries import Archive
from rhizon.core.archives.judge_together import judge_together
from rhizon.core.archives.scan import scan
from rhizon.core.model.game import GameDefinition

ROOT = Path(__file__).parents[2]
CATALOG = ROOT / "src/rhizon/world/harbour/catalog"
VERDICTS = ("certain", "possible", "clean")
START_SECONDS = 60
LOAD_FAILURES = ("entry-missing", "entry-unusable", "class-broken")


def javac(sources: list[Path], out: Path, classpath: str, release: int = 17) -> None:
    command = ["javac", "--release", str(release), "-g:none", "-nowarn", "-proc:none", "-d", str(out), "-cp", classpath]
    done = subprocess.run([*command, *map(str, sources)], stderr=subprocess.PIPE, text=True)
    if done.returncode:
        raise SystemExit(done.stderr[:5000])


def zipped(entries: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        for name in sorted(entries):
            made.writestr(zipfile.ZipInfo(name, (2020, 1, 1, 0, 0, 0)), entries[name])
    return out.getvalue()


def compiled(every: list[Mod], work: Path) -> dict[str, dict[str, bytes]]:
    """Archives by file name and mod id, out of three runs of javac."""
    client, server = work / "client", work / "server"
    sample = ROOT / "samples/tarnholt/src"
    for out, below in ((server, "server"), (client, "client")):
        out.mkdir()
        javac(sorted((sample / below).rglob("*.java")), out, str(server))
    classpath = f"{server}:{client}"
    classes = _compile([mod.sources for mod in every], work / "base", classpath, 17)
    versioned = [sources for mod in every for sources in mod.versioned.values()]
    again = _compile(versioned, work / "versioned", classpath, 11)
    return {mod.id: _archives(mod, classes, again) for mod in every}


def _archives(mod: Mod, classes: dict[str, bytes], again: dict[str, bytes]) -> dict[str, bytes]:
    """The archives of a mod by file name: its own, and the library beside it."""
    own = {path.rpartition("/")[0] + "/" for path in mod.sources}
    mine = {name: data for name, data in classes.items() if name.rpartition("/")[0] + "/" in own}
    beside = (mod.library,) if mod.library else ()
    made = {f"{mod.id}.jar": _archive(mod, {n: d for n, d in mine.items() if not _inside(n, beside)}, again)}
    if mod.library:
        side = "player" if mod.for_players else "both"
        about = {"form": 2, "id": f"{mod.id}-lib", "version": "1.0.0", "keelson": "*", "kind": "library", "side": side}
        lib = {n: d for n, d in mine.items() if _inside(n, beside)}
        made[f"{mod.id}-lib.jar"] = zipped(lib | {"keel/about.json": json.dumps(about).encode()})
    return made


def _archive(mod: Mod, mine: dict[str, bytes], again: dict[str, bytes]) -> bytes:
    entries = {name: data for name, data in mine.items() if not _inside(name, mod.carried)}
    about: dict[str, object] = {"form": 2, "id": mod.id, "version": "1.0.0", "entry": mod.entry, "keelson": "*"}
    if mod.carried:
        entries["inside/lib.jar"] = zipped({n: d for n, d in mine.items() if _inside(n, mod.carried)})
        about["carries"] = ["inside/lib.jar"]
    entries |= {f"META-INF/services/{name}": f"{value}\n".encode() for name, value in mod.services.items()}
    manifest = "Manifest-Version: 1.0\r\n"
    for release, sources in mod.versioned.items():
        names = [path.removesuffix(".java") + ".class" for path in sources]
        entries |= {f"META-INF/versions/{release}/{name}": again[name] for name in names}
        manifest += "Multi-Release: true\r\n"
    entries["META-INF/MANIFEST.MF"] = f"{manifest}\r\n".encode()
    entries["keel/about.json"] = json.dumps(about).encode()
    return zipped(entries)


def _compile(sources: list[dict[str, str]], home: Path, classpath: str, release: int) -> dict[str, bytes]:
    files = []
    for path, text in ((path, text) for one in sources for path, text in one.items()):
        file = home / "src" / path
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(text)
        files.append(file)
    out = home / "out"
    out.mkdir(parents=True)
    if files:
        javac(files, out, classpath, release)
    return {file.relative_to(out).as_posix(): file.read_bytes() for file in sorted(out.rglob("*.class"))}


def _inside(name: str, packages: tuple[str, ...]) -> bool:
    return any(name.startswith(package.replace(".", "/") + "/") for package in packages)


def unzip(archive: Path, into: Path) -> None:
    with zipfile.ZipFile(archive) as found:
        found.extractall(into)


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def happens(java: str, name: str, archives: dict[str, bytes], for_players: bool, work: Path) -> str:
    """ "runs" when the gates open with the mod, else the error that the JVM gave."""
    home = Path(tempfile.mkdtemp(prefix=f"run-{name}-", dir=work))
    unzip(CATALOG / "server/tarnholt-server-4.2.zip", home)
    unzip(CATALOG / "loaders/keelson-3.1.0.zip", home)
    (home / "mods").mkdir()
    for file, data in archives.items():
        if not (for_players and file.endswith("-lib.jar")):
            (home / "mods" / file).write_bytes(data)
    (home / "licence/answer.txt").write_text("answer = accepted\n")
    ports = f"net.bind = 127.0.0.1\nnet.game = {free_port()}\nnet.query = {free_port()}\n"
    (home / "marsh.properties").write_text(f"{ports}marsh.span = 1\nmarsh.seed = 7\n")
    command = [java, "-Xmx96m", "-XX:+UseSerialGC", "-XX:TieredStopAtLevel=1", "-Xshare:auto"]
    command += ["-cp", "loader/keelson.jar:tarnholt-server.jar", "keelson.Boot"]
    done = subprocess.run(
        command,
        cwd=home,
        input="stop\n",
        text=True,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        timeout=START_SECONDS,
    )
    if "gates open" in done.stdout:
        return "runs"
    errors = [line for line in done.stdout.splitlines() if "Error" in line or "Exception" in line]
    if not errors:
        raise SystemExit(f"{name} did not fail for what is looked for here:\n{done.stdout}")
    return errors[0].split(":")[0].split()[-1].rpartition(".")[2]


def verdict(name: str, archives: dict[str, bytes], game: GameDefinition) -> str:
    """What Rhizon says of a mod beside its library."""
    scanned = {file: scan(Archive(data, file), [game]) for file, data in archives.items()}
    judged = judge_together(scanned, lambda file: archive_classes(Archive(archives[file], file)), {game.id: game})
    mine = judged[f"{name}.jar"]
    if any(one.code in LOAD_FAILURES for one in mine.findings):
        return "certain"
    assert mine.code.evidence is not None
    return mine.code.evidence.verdict


def main() -> None:
    game = read_game(GAMES / "tarnholt.game.toml")
    only = tuple(after for before, after in itertools.pairwise(sys.argv) if before == "--only") or ("",)
    every = [mod for mod in mods() if mod.pattern.startswith(only)]
    patterns = dict.fromkeys(mod.pattern for mod in every)
    print(f"{len(every)} mods in {len(patterns)} patterns", flush=True)
    with tempfile.TemporaryDirectory() as scratch:
        work = Path(scratch)
        archives = compiled(every, work)
        verdicts = {}
        begun = time.process_time()
        for mod in every:
            verdicts[mod.id] = verdict(mod.id, archives[mod.id], game)
        print(f"verdicts: {(time.process_time() - begun) / len(every) * 1000:.2f} ms of CPU each", flush=True)
        javas = [after for before, after in itertools.pairwise(sys.argv) if before == "--java"] or ["java"]
        for java in javas:
            with concurrent.futures.ThreadPoolExecutor(2) as pool:
                run = functools.partial(happens, java)
                runs = pool.map(lambda mod, run=run: run(mod.id, archives[mod.id], mod.for_players, work), every)
                outcomes = dict(zip(archives, runs, strict=True))
            print(f"\n{java}")
            report(every, verdicts, outcomes)
        if "--keep" in sys.argv:
            keep(Path(sys.argv[sys.argv.index("--keep") + 1]), every, archives, verdicts, outcomes)


def keep(
    folder: Path,
    every: list[Mod],
    archives: dict[str, dict[str, bytes]],
    verdicts: dict[str, str],
    outcomes: dict[str, str],
) -> None:
    """One archive of each pattern and verdict, with what happened to it."""
    folder.mkdir(parents=True, exist_ok=True)
    seen = {}
    for mod in every:
        key = (mod.pattern, verdicts[mod.id], outcomes[mod.id] == "runs")
        if key not in seen:
            seen[key] = mod.id
            for file, data in archives[mod.id].items():
                (folder / file).write_bytes(data)
    facts = {name: {"verdict": verdicts[name], "happened": outcomes[name]} for name in sorted(seen.values())}
    (folder / "happened.json").write_text(json.dumps(facts, indent=1) + "\n")


def report(every: list[Mod], verdicts: dict[str, str], outcomes: dict[str, str]) -> None:
    counts = Counter((verdicts[mod.id], outcomes[mod.id] == "runs") for mod in every)
    print(f"\n{'':>10} {'fails':>6} {'runs':>6}")
    for verdict in VERDICTS:
        print(f"{verdict:>10} {counts[verdict, False]:>6} {counts[verdict, True]:>6}")
    print()
    rows = Counter((mod.pattern, verdicts[mod.id], outcomes[mod.id]) for mod in every)
    for (pattern, verdict, outcome), count in sorted(rows.items()):
        print(f"{pattern:>20} {verdict:>9} {outcome:>24} {count:>3}")
    wrong = [m.id for m in every if (verdicts[m.id], outcomes[m.id] == "runs") in (("certain", True), ("clean", False))]
    print(f"\ncertain and runs, or clean and fails: {len(wrong)} {' '.join(wrong)}")


if __name__ == "__main__":
    main()
