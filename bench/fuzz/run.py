"""Coverage-guided fuzzing of what reads archives and settings: python bench/fuzz/run.py TARGET [SECONDS]

TARGET is class, verifier, metadata, archive, assembly, signature, spelling, kind, or the name of a settings dialect.
Any bytes must give facts or the
reader's own error; a settings file must keep all that an edit does not name. Anything else is a bug, and atheris leaves
the bytes that showed it in the current folder. Seeds are the archives of tests/placement/ and the files of SETTINGS.
Needs: pip install atheris (Linux).
"""

import contextlib
import functools
import io
import sys
import tempfile
import zipfile
from pathlib import Path

import atheris

OURS = ["rhizon.core.archives", "rhizon.core.names", "rhizon.core.version", "rhizon.core.settings"]
with atheris.instrument_imports(include=OURS):
    from rhizon.adapters.games import GAMES, read_game
    from rhizon.core.archives.assembly import read_assembly
    from rhizon.core.archives.bytecode import check_methods, refs_of
    from rhizon.core.archives.classfile import ClassFileError, parse_class
    from rhizon.core.archives.entries import Archive
    from rhizon.core.archives.evidence import VisibleCode, judge_code
    from rhizon.core.archives.kind import HEAD_BYTES, kind_of_bytes
    from rhizon.core.archives.metadata import READERS, MetadataError
    from rhizon.core.archives.namespaces import Namespaces
    from rhizon.core.archives.scan import scan
    from rhizon.core.archives.side_checks import SideChecks
    from rhizon.core.archives.signature import signature_findings
    from rhizon.core.archives.signature_block import verify_block
    from rhizon.core.archives.spelling import read_id, read_version, version_in_name, with_read_versions
    from rhizon.core.archives.verifier import loads_of_verification
    from rhizon.core.errors import TrustError
    from rhizon.core.settings.dialects import DIALECTS

ROOT = Path(__file__).parents[2]
GAME = read_game(GAMES / "tarnholt.game.toml")
FORMATS = sorted(READERS)


def one_class(data: bytes) -> None:
    try:
        check_methods(parse_class(data))
    except ClassFileError:
        return
    judge_code(VisibleCode(lambda name: data if name == "a/B" else None, {}), ["a.B"], Namespaces(["tarnholt.client"]))


def one_verifier(data: bytes) -> None:
    loads_of_verification(data, lambda name: len(name) % 2 == 0)
    try:
        parsed = parse_class(data)
    except ClassFileError:
        return
    for method in parsed.methods:
        checks = SideChecks({("tarnholt/api/Marsh", "dedicated"): True}, lambda *_: parsed.methods[0])
        live = checks.live(method)
        refs_of(method, live)


def one_signature(data: bytes) -> None:
    """The first byte says how much of the rest is the block; the others are the signature file and the manifest."""
    if len(data) < 2:
        return
    at = 1 + data[0] * (len(data) - 1) // 255
    verify_block(data[1:at], data[at:])
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w") as out:
        for name, part in (("A.RSA", data[1:at]), ("A.SF", data[at:]), ("MANIFEST.MF", data[at:])):
            out.writestr(f"META-INF/{name}", part)
        out.writestr("a/B.class", data[1:at])
    signature_findings(Archive(made.getvalue(), "signed.jar"))


def one_spelling(data: bytes) -> None:
    """Whatever is accepted as a version is the same when it is read again."""
    text = data.decode("utf-8", "replace")
    for read in (read_id, read_version, with_read_versions):
        with contextlib.suppress(ValueError):
            read(text)
    with contextlib.suppress(ValueError):
        version = read_version(text)
        if read_version(version.text) != version:
            raise LostError(f"{text!r} is {version}, and that is {read_version(version.text)}")
    version_in_name(text)


def one_kind(data: bytes) -> None:
    kind_of_bytes(data[:HEAD_BYTES], len(data), has_end=len(data) % 2 == 0)


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


VALUES = ("x", "7", 7, -1, False, "a b", "#;'\"\\", " ", "", "// x", "\u2028", "]]>&<", "\u00e6", "=", "a: b")


class LostError(Exception):
    """An edit did more or less than it was asked for."""


def alike(one: bytes, other: bytes) -> int:
    """How many bytes both begin with."""
    return next((at for at, (a, b) in enumerate(zip(one, other, strict=False)) if a != b), min(len(one), len(other)))


def settings(name: str, data: bytes) -> None:
    """The first two bytes choose a key and a value, the others are the file."""
    dialect = DIALECTS[name]
    chosen, data = data[:2], data[2:]
    if not data.isascii():
        return  # what is taken out or added may look like a byte order mark, or make whole what was no text
    try:
        there = dialect.read(data)
    except ValueError:
        return
    # positions in a list of different kinds are no keys: they change when one of them goes
    keys = sorted(key for key in there if not any(part.isdecimal() for part in key.split("/")))
    if not keys or len(chosen) < 2:
        return
    with contextlib.suppress(ValueError):
        if dialect.edit(data, there) != data:
            raise LostError("an edit that changes nothing changed the file")
    key = keys[chosen[0] % len(keys)]
    for value in (None, True, VALUES[chosen[1] % len(VALUES)]):
        try:
            edited = dialect.edit(data, {key: value})
        except ValueError:
            continue
        what = f"{key!r} = {value!r}: {data!r} became {edited!r}"
        now = dialect.read(edited)
        below = f"{key}/" if value is None else "\n"
        wanted = {one: text for one, text in there.items() if one != key and not one.startswith(below)}
        if value is not None:
            wanted[key] = dialect.spell(value)
        if value in ("", False) and key not in now:
            del wanted[key]  # an argument that is not there says it
        if name == "xml":  # where several ways lead to one element, the others may lead elsewhere now
            wanted = {one: text for one, text in wanted.items() if one == key}
        if {one: text for one, text in now.items() if one in wanted or one == key} != wanted:
            raise LostError(f"{what}: {wanted!r} was wanted, {now!r} came")
        begin = alike(data, edited)
        end = alike(data[begin:][::-1], edited[begin:][::-1])
        touched = data[begin : len(data) - end]
        most = there[key].count("\n") + data.count(b"\\\n") + data.count(b"\\\r\n") + data.count(b'"""')
        in_lines = name not in ("yaml", "xml") and data.count(key.split("/")[-1].encode()) == 1
        if value not in (None, "", False) and in_lines and touched.count(b"\n") > most:
            raise LostError(f"{what}: {touched!r} was touched")


TARGETS = {
    "class": one_class,
    "verifier": one_verifier,
    "metadata": one_metadata,
    "archive": one_archive,
    "assembly": one_assembly,
    "signature": one_signature,
    "spelling": one_spelling,
    "kind": one_kind,
}
TARGETS |= {name: functools.partial(settings, name) for name in DIALECTS}
SETTINGS = (
    b"a = 1\n# c\nb: two \\\n  more\n",
    b"[A]\na = 1 ; c\n[B]\nb = 2\n",
    b'{"a": 1, "b": {"c": [true, "x"], "d": {}}, "e": "f"}',
    b'a = 1\n[t]\nb = "x" # c\nc = ["y", "z"]\n[[u]]\nd = 2\n',
    b"a: 1\nb:\n  - x\n  - y\nc: {d: e} # f\n",
    b'<a b="c"><d>e</d><!-- f --><g h="i"/></a>',
    b'a = "b"; // c\nd = 1;\n/* e */',
    b"x\n# y\nz\n",
    b"-a=b\n--c d\ne\n",
)


def seeds(target: str, folder: Path) -> None:
    for jar in sorted((ROOT / "tests/placement").glob("*.jar")):
        archive = Archive(jar.read_bytes(), jar.name)
        if target == "archive":
            (folder / jar.name).write_bytes(jar.read_bytes())
        for number, name in enumerate(archive.names()):
            if target in ("class", "verifier") and name.endswith(".class"):
                (folder / f"{jar.stem}-{number}").write_bytes(archive.read(name))
            if target == "metadata" and name.endswith((".json", ".MF")):
                (folder / f"{jar.stem}-{number}").write_bytes(b"\0" + archive.read(name))
    if target in DIALECTS:
        for number, data in enumerate(SETTINGS):
            (folder / str(number)).write_bytes(b"\0\0" + data)
    if target == "signature":
        for number, file in enumerate(sorted((ROOT / "tests/signed").glob("*.jar"))):
            archive = Archive(file.read_bytes(), file.name)
            for block in (one for one in archive.names() if one.endswith((".RSA", ".EC", ".DSA"))):
                signed = archive.read(f"{block.rpartition('.')[0]}.SF")
                both = archive.read(block) + signed
                begin = 255 * len(archive.read(block)) // len(both)
                (folder / f"{number}").write_bytes(bytes([begin]) + both)
    if target == "spelling":
        for number, text in enumerate(
            ("4.2.13.Final", "1.2_3", "1.2.3 beta 2", "2024-11-03", ">=1.2, <2", "ReedLight")
        ):
            (folder / str(number)).write_text(text)
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
