"""Rebuild every Tarnholt archive from its Java sources, byte for byte the same each time.

    python samples/tarnholt/build.py            writes the archives into the shipped catalog
    python samples/tarnholt/build.py --check    compares them with what is committed (exit 1: they differ)

Needs a JDK whose javac knows --release 17. Archives hold stored entries with one fixed time, so that
neither the compressor nor the clock shows in the bytes; class bytes depend on javac's major alone.
"""

import io
import json
import pathlib
import re
import shutil
import subprocess
import sys
import tempfile
import tomllib
import zipfile
from xml.sax.saxutils import quoteattr

HERE = pathlib.Path(__file__).parent
CATALOG = HERE.parents[1] / "src" / "rhizon" / "world" / "harbour" / "catalog"
OUTS = ("server", "client", "keelson", "gunwale", "twinhull", "installer")
FIXED_TIME = (2020, 1, 1, 0, 0, 0)

SERVERS = ("4.0", "4.1", "4.2")
KEELSON = {
    "2.8.0": 1,
    "3.0.2": 1,
    "3.1.0": 2,
    "3.2.0-preview.1": 2,
}  # build -> oldest form of content it takes
GUNWALE = {"5.0.4": 1, "5.1.0": 2}
GUNWALE_INSTALLER = {"6.0.0": 2}
TWINHULL = {"1.2.0": 1, "1.4.0": 2}


def archive(entries: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as made:
        for name in sorted(entries, key=lambda n: (n != "META-INF/MANIFEST.MF", n)):
            info = zipfile.ZipInfo(name, FIXED_TIME)
            info.create_system = 3
            info.external_attr = 0o100644 << 16
            made.writestr(info, entries[name])
    return out.getvalue()


def manifest(**attributes: str) -> bytes:
    lines = ["Manifest-Version: 1.0", *(f"{k.replace('_', '-')}: {v}" for k, v in attributes.items())]
    return ("\r\n".join(lines) + "\r\n\r\n").encode()


def javac(sources: pathlib.Path, out: pathlib.Path, *classpath: pathlib.Path) -> dict[str, bytes]:
    """Compile a folder for Java 17; answer class files by their name in an archive."""
    files = sorted(str(p) for p in sources.rglob("*.java"))
    command = ["javac", "--release", "17", "-g:none", "-Xlint:all,-serial,-path", "-Werror", "-d", str(out)]
    if classpath:
        command += ["-cp", ":".join(map(str, classpath))]
    subprocess.run([*command, *files], check=True)
    return {p.relative_to(out).as_posix(): p.read_bytes() for p in sorted(out.rglob("*.class"))}


def for_java(major: int, data: bytes) -> bytes:
    """The class file marked as compiled for another class-file major (JVMS 4.1: bytes 6 and 7)."""
    return data[:6] + major.to_bytes(2, "big") + data[8:]


def about_json(item: str, facts: dict, release: dict) -> bytes:
    about = {
        "form": release.get("form", 2),
        "id": item,
        "version": release["version"],
        "title": facts["title"],
        "kind": facts.get("kind", "mod"),
        "side": release.get("side", "both"),
        "tarnholt": release["tarnholt"],
        "keelson": release["keelson"],
        "needs": release.get("needs", {}),
    }
    if "twinhull" in release:
        about["twinhull"] = release["twinhull"]
    if "entry" in facts:
        about["entry"] = facts["entry"]
    if "clashes" in release:
        about["clashes"] = release["clashes"]
    return (json.dumps(about, indent=2) + "\n").encode()


def plate_xml(item: str, facts: dict, release: dict) -> bytes:
    attributes = {
        "form": str(release.get("form", 2)),
        "id": item,
        "version": release["version"],
        "title": facts["title"],
        "kind": facts.get("kind", "mod"),
        "where": release.get("side", "both"),
        "entry": facts.get("entry", ""),
        "tarnholt": release["tarnholt"],
        "gunwale": release["gunwale"],
    }
    head = " ".join(f"{key}={quoteattr(value)}" for key, value in attributes.items())
    needs = "".join(
        f"  <need id={quoteattr(other)} range={quoteattr(wanted)}/>\n"
        for other, wanted in release.get("needs", {}).items()
    )
    return f"<plate {head}>\n{needs}</plate>\n".encode()


def hull_manifest(item: str, facts: dict, release: dict) -> bytes:
    needs = ";".join(f"{other}@{wanted}" for other, wanted in release.get("needs", {}).items())
    return manifest(
        Hull_Id=item,
        Hull_Version=release["version"],
        Hull_Title=facts["title"],
        Hull_Entry=facts["entry"],
        Hull_Tarnholt=release["tarnholt"],
        Hull_Twinhull=release["twinhull"],
        **({"Hull_Needs": needs} if needs else {}),
    )


def content(work: pathlib.Path, server: pathlib.Path, client: pathlib.Path) -> dict[str, bytes]:
    described = tomllib.loads((HERE / "content.toml").read_text("utf-8"))
    compiled = javac(HERE / "content", work / "content", server, client)
    made = {}
    for item, facts in described.items():
        sources = sorted((HERE / "content" / item).rglob("*.java"))
        names = {source.relative_to(HERE / "content" / item).with_suffix(".class").as_posix() for source in sources}
        for release in facts["release"]:
            major = release.get("major", 61)
            entries = {name: for_java(major, compiled[name]) for name in names}
            entries["META-INF/MANIFEST.MF"] = manifest(Implementation_Version=release["version"])
            if facts.get("kind") == "plugin":
                entries["META-INF/MANIFEST.MF"] = hull_manifest(item, facts, release)
            elif "keelson" in release:
                entries["keel/about.json"] = about_json(item, facts, release)
            if "gunwale" in release:
                entries["gunwale-plate.xml"] = plate_xml(item, facts, release)
            made[f"archives/{item}-{release['version']}.jar"] = archive(entries)
    return made


def build() -> dict[str, bytes]:
    made: dict[str, bytes] = {}
    with tempfile.TemporaryDirectory() as scratch:
        work = pathlib.Path(scratch)
        outs = {name: work / name for name in (*OUTS, "content")}
        for out in outs.values():
            out.mkdir()
        sources = HERE / "src"
        server = javac(sources / "server", outs["server"])
        javac(sources / "client", outs["client"])
        keelson = javac(sources / "keelson", outs["keelson"], outs["server"])
        gunwale = javac(sources / "gunwale", outs["gunwale"], outs["server"])
        twinhull = keelson | javac(sources / "twinhull", outs["twinhull"], outs["server"], outs["keelson"])
        installer = javac(sources / "installer", outs["installer"])
        terms = (HERE / "terms.txt").read_bytes()
        for version in SERVERS:
            jar = archive(
                server
                | {
                    "META-INF/MANIFEST.MF": manifest(Main_Class="tarnholt.server.Main", Tarnholt_Version=version),
                    "tarnholt/release.properties": f"version = {version}\n".encode(),
                    "tarnholt/terms.txt": terms,
                }
            )
            made[f"server/tarnholt-server-{version}.zip"] = archive(
                {"tarnholt-server.jar": jar, "licence/terms.txt": terms}
            )
        for build_number, oldest in KEELSON.items():
            jar = loader_jar(keelson, "keelson", build_number, oldest)
            made[f"loaders/keelson-{build_number}.zip"] = archive({"loader/keelson.jar": jar})
            said = f"keelson {build_number}\n".encode()
            made[f"loaders/keelson-player-{build_number}.zip"] = archive(
                {"hull/keelson-player.jar": jar, "hull/about.txt": said}
            )
        for build_number, oldest in GUNWALE.items():
            jar = loader_jar(gunwale, "gunwale", build_number, oldest)
            made[f"loaders/gunwale-{build_number}.zip"] = archive({"loader/gunwale.jar": jar})
        for build_number, oldest in GUNWALE_INSTALLER.items():
            jar = loader_jar(gunwale, "gunwale", build_number, oldest)
            made[f"loaders/gunwale-{build_number}-installer.jar"] = archive(
                installer
                | {
                    "META-INF/MANIFEST.MF": manifest(Main_Class="gunwale.install.Main"),
                    "payload/gunwale.jar": jar,
                }
            )
        for build_number, oldest in TWINHULL.items():
            jar = loader_jar(twinhull, "twinhull", build_number, oldest)
            made[f"loaders/twinhull-{build_number}.zip"] = archive({"loader/twinhull.jar": jar})
        made |= content(work, outs["server"], outs["client"])
    return made


def loader_jar(classes: dict[str, bytes], loader: str, build_number: str, oldest: int) -> bytes:
    facts = f"build = {build_number}\noldest-form = {oldest}\n".encode()
    return archive(
        classes
        | {
            "META-INF/MANIFEST.MF": manifest(Main_Class=f"{loader}.Boot"),
            f"{loader}/build.properties": facts,
        }
    )


def main() -> int:
    version = subprocess.run(["javac", "-version"], capture_output=True, text=True, check=True).stdout
    if not re.match(r"javac 17\b", version):
        print(f"note: {version.strip()} may write other class bytes than javac 17", file=sys.stderr)
    made = build()
    if "--check" in sys.argv[1:]:
        different = [name for name, data in made.items() if not same(CATALOG / name, data)]
        print("\n".join(different) or f"{len(made)} archives are as committed")
        return 1 if different else 0
    for folder in ("archives", "server", "loaders"):
        for old in (CATALOG / folder).glob("*.jar"):
            old.unlink()
    for name, data in made.items():
        (CATALOG / name).parent.mkdir(parents=True, exist_ok=True)
        (CATALOG / name).write_bytes(data)
    print(f"{len(made)} archives, {sum(map(len, made.values())) / 1e6:.1f} MB")
    return 0


def same(path: pathlib.Path, data: bytes) -> bool:
    return path.exists() and path.read_bytes() == data


if __name__ == "__main__":
    if shutil.which("javac") is None:
        sys.exit("javac is needed (Debian: openjdk-17-jdk-headless)")
    sys.exit(main())
