"""Reading archives beside the cost of merely unpacking them: python bench/scan/run.py [FOLDER_OF_JARS]

The floor is ``unzip -tqq`` over the same files in the same run. Without a folder the jars inside the pyspark ones
are fetched with pip (about 450 MB) into a temporary folder. CPU seconds are of whole processes, children included.
"As content": each jar has metadata of a mod, whose entry is one of its classes, so that all are judged together.
"""

import json
import os
import re
import resource
import shutil
import subprocess
import sys
import tarfile
import tempfile
import time
import zipfile
from pathlib import Path

SEARCH = """
import sys
from pathlib import Path
from rhizon.core.archives.entries import Archive
from rhizon.core.archives.namespaces import Namespaces
from rhizon.core.archives.classes import ArchiveClasses
client = Namespaces(sys.argv[2:])
found = hits = 0
for file in sorted(Path(sys.argv[1]).glob("*.jar")):
    classes = ArchiveClasses()
    classes.search(classes.add(Archive(file.read_bytes(), file.name), 17), client)
    found += len(classes.where)
    hits += bool(classes.client_in)
print(found, "classes,", hits, "archives with a hit")
"""


def corpus(scratch: Path) -> Path:
    command = [sys.executable, "-m", "pip", "download", "--quiet", "--no-deps", "--no-binary", ":all:", "pyspark"]
    subprocess.run([*command, "-d", str(scratch)], check=True)
    folder = scratch / "jars"
    folder.mkdir()
    with tarfile.open(next(scratch.glob("pyspark-*.tar.gz"))) as packed:
        for member in packed:
            if member.name.endswith(".jar") and member.isfile():
                data = packed.extractfile(member)
                assert data is not None
                (folder / Path(member.name).name).write_bytes(data.read())
    return folder


def as_content(folder: Path, into: Path) -> Path:
    """The same jars as mods of a game."""
    into.mkdir()
    for jar in sorted(folder.glob("*.jar")):
        made = into / jar.name
        shutil.copy(jar, made)
        with zipfile.ZipFile(made, "a") as archive:
            names = [name for name in archive.namelist() if name.endswith(".class") and "$" not in name]
            own = [name for name in names if "META-INF" not in name and "module-info" not in name]
            ident = re.sub(r"[^a-z0-9-]", "-", jar.stem.lower())[:60].rstrip("-")
            about = {"id": ident, "version": "1.0", "form": 2, "keelson": "*"}
            if own:
                about["entry"] = own[len(own) // 2].removesuffix(".class").replace("/", ".")
            archive.writestr("keel/about.json", json.dumps(about))
    return into


def measured(command: list[str], state: str) -> tuple[float, float, int, str]:
    """CPU seconds, wall seconds, peak MB and the first line of what it printed."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    begun = time.perf_counter()
    done = subprocess.run(command, capture_output=True, text=True, env={**os.environ, "RHIZON_STATE": state})
    wall = time.perf_counter() - begun
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    cpu = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    return cpu, wall, after.ru_maxrss // 1024, (done.stdout.splitlines() or [done.stderr[:200]])[0]


def main() -> None:
    with tempfile.TemporaryDirectory() as name:
        scratch = Path(name)
        folder = Path(sys.argv[1]) if len(sys.argv) > 1 else corpus(scratch)
        jars = sorted(folder.glob("*.jar"))
        size = sum(jar.stat().st_size for jar in jars)
        print(f"{len(jars)} jars, {size / 1e6:.0f} MB")
        state = str(scratch / "state")
        floor = ["sh", "-c", 'for f in "$0"/*.jar; do unzip -tqq "$f" || exit 1; done', str(folder)]
        rhizon = [sys.executable, "-m", "rhizon", "inspect", str(folder), "--quiet"]
        content = [sys.executable, "-m", "rhizon", "inspect", str(as_content(folder, scratch / "content")), "--quiet"]
        python = [sys.executable, "-c", SEARCH, str(folder)]
        rows = (
            ("unzip -tqq", floor, ""),
            ("class-file versions alone", python, ""),
            ("and every class searched", [*python, "tarnholt.client", "harbour.screen"], ""),
            ("rhizon inspect, first time", rhizon, state),
            ("rhizon inspect, again", rhizon, state),
            ("as content, first time", content, f"{state}-content"),
            ("as content, again", content, f"{state}-content"),
        )
        unit = 0.0
        print(f"{'':>28} {'CPU s':>7} {'ratio':>6} {'wall s':>7} {'MB':>5}")
        for what, command, where in rows:
            cpu, wall, peak, said = measured(command, where or str(scratch / "none"))
            unit = unit or cpu
            print(f"{what:>28} {cpu:>7.2f} {cpu / unit:>6.2f} {wall:>7.2f} {peak:>5}  {said[:50]}", flush=True)


if __name__ == "__main__":
    main()
