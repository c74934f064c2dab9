"""Coverage-guided fuzzing of what reads archives: python bench/fuzz/run.py TARGET [SECONDS]

TARGET is class, metadata, archive or assembly. Any bytes must give facts or the reader's own error; anything else is a
bug, and atheris leaves the bytes that showed it in the current folder. Seeds are the archives of tests/placement/.
Needs: pip install atheris (Linux).
"""

import sys
import tempfile
from pathlib import Path

import atheris

with atheris.instrument_imports(include=["rhizon.core.archives", "rhizon.core.names", "rhizon.core.version"]):
    from rhizon.adapters.games import GAMES, read_game
    from rhizon.core.archives.assembly import read_assembly
    from rhizon.core.archives.classfile import ClassFileError, parse_class
    from rhizon.core.archives.entries import Archive
    from rhizon.core.archives.evidence import Namespaces, judge_code
    from rhizon.core.archives.metadata import READERS, MetadataError
    from rhizon.core.archives.scan import scan
    from rhizon.core.errors import TrustError

ROOT = Path(__file__).parents[2]
GAME = read_game(GAMES / "tarnholt.game.toml")
FORMATS = sorted(READERS)


def one_class(data: bytes) -> None:
    try:
        parse_class(data)
    except ClassFileError:
        return
    judge_code(lambda name: data if name == "a/B" else None, ["a.B"], Namespaces(["tarnholt.client"]), {})


def one_metadata(data: bytes) -> None:
    rule = GAME.loaders["keelson"].metadata[0]
    if not data:
        return
    try:
        fields = READERS[FORMATS[data[0] % len(FORMATS)]](data[1:])
        for expression in ("id", "needs"):
            fields.texts(expression)
            fields.pairs(expression, rule)
    except MetadataError:
        return


def one_archive(data: bytes) -> None:
    try:
        scan(Archive(data, "fuzzed.jar"), [GAME])
    except TrustError:
        return


def one_assembly(data: bytes) -> None:
    read_assembly(data)


TARGETS = {"class": one_class, "metadata": one_metadata, "archive": one_archive, "assembly": one_assembly}


def seeds(target: str, folder: Path) -> None:
    for jar in sorted((ROOT / "tests/placement").glob("*.jar")):
        archive = Archive(jar.read_bytes(), jar.name)
        if target == "archive":
            (folder / jar.name).write_bytes(jar.read_bytes())
        for number, name in enumerate(archive.names()):
            if target == "class" and name.endswith(".class"):
                (folder / f"{jar.stem}-{number}").write_bytes(archive.read(name))
            if target == "metadata" and name.endswith((".json", ".MF")):
                (folder / f"{jar.stem}-{number}").write_bytes(b"\0" + archive.read(name))
    if target == "assembly":
        for file in sorted((ROOT / "tests/assemblies").glob("*.dll")):
            (folder / file.name).write_bytes(file.read_bytes())


def main() -> None:
    target = sys.argv[1]
    seconds = sys.argv[2] if len(sys.argv) > 2 else "600"
    with tempfile.TemporaryDirectory() as corpus:
        seeds(target, Path(corpus))
        options = [f"-max_total_time={seconds}", "-timeout=10", "-rss_limit_mb=1500", "-max_len=20000", corpus]
        atheris.Setup([sys.argv[0], *options], TARGETS[target])
        atheris.Fuzz()


if __name__ == "__main__":
    main()
