"""Rebuild what Gloamwick puts on the shelf from its C# sources with Mono's compiler.

    python samples/gloamwick/build.py            writes it into the shipped catalog
    python samples/gloamwick/build.py --check    compares it with what is committed (exit 1: they differ)

Assemblies carry a time and an identity that compilers draw anew; both are set to fixed values, so that the same sources
give the same bytes.
"""

import hashlib
import pathlib
import shutil
import struct
import subprocess
import sys
import tempfile
import tomllib

sys.path.insert(0, str(pathlib.Path(__file__).parents[1]))
from shelving import packed, put_on_shelf

HERE = pathlib.Path(__file__).parent
SERVERS = ("1.1", "1.2")
LOADERS = {"2.0.0": True, "3.1.0": False}  # build -> whether it is the one before lamps were given a wick
LAMP = """using System.Reflection;
[assembly: AssemblyVersion("{version}.0")]
[assembly: AssemblyTitle("{title}")]
[assembly: AssemblyMetadata("id", "{item}")]
[assembly: AssemblyMetadata("who", "{who}")]
[assembly: AssemblyMetadata("gloamwick", ">=1.1")]
{needs}
public class Lamp : Lampwright.ILamp
{{
    public string[] Light({wick}) {{ return new[] {{ {things} }}; }}
}}
"""


def mcs(out: pathlib.Path, kind: str, *words: str) -> bytes:
    """Compiles one assembly and takes the compiler's dice out of it."""
    subprocess.run(["mcs", "-nologo", f"-target:{kind}", f"-out:{out}", *words], check=True)
    return settled(out.read_bytes())


def settled(data: bytes) -> bytes:
    """The PE time stamp (ECMA-335, II.25.2.2) zeroed, and the module's own GUID (II.22.30) made from the rest."""
    made = bytearray(data)
    pe = struct.unpack_from("<I", made, 0x3C)[0]
    made[pe + 8 : pe + 12] = bytes(4)
    at = made.index(b"#GUID\0\0\0")
    offset, size = struct.unpack_from("<II", made, at - 8)
    begin = made.rindex(b"BSJB", 0, at) + offset
    made[begin : begin + size] = bytes(size)
    made[begin : begin + 16] = hashlib.sha256(made).digest()[:16]
    return bytes(made)


def lamp(work: pathlib.Path, api: pathlib.Path, item: str, facts: dict, release: dict) -> bytes:
    needs = f'[assembly: AssemblyMetadata("needs", "{facts["needs"]}")]' if "needs" in facts else ""
    text = LAMP.format(
        version=release["version"],
        title=facts["title"],
        item=item,
        who=facts.get("who", "everybody"),
        needs=needs,
        wick="" if release.get("old") else "Lampwright.Wick wick",
        things=", ".join(f'"{one}"' for one in facts["things"]),
    )
    source = work / f"{item}.cs"
    source.write_text(text, "utf-8")
    return mcs(work / f"{item}.dll", "library", f"-r:{api}", str(source))


def build() -> dict[str, bytes]:
    made: dict[str, bytes] = {}
    with tempfile.TemporaryDirectory() as scratch:
        work = pathlib.Path(scratch)
        host = [str(HERE / "host" / name) for name in ("Json.cs", "Rules.cs", "Host.cs")]
        bare = mcs(work / "bare.exe", "exe", *host, str(HERE / "host" / "Bare.cs"))
        apis = {}
        for number, old in LOADERS.items():
            folder = work / f"api-{number}"
            folder.mkdir()
            words = ["-define:OLD"] if old else []
            apis[old] = folder / "Lampwright.dll"
            data = mcs(apis[old], "library", *words, str(HERE / "api" / "Lamp.cs"))
            loader = [*words, *host, str(HERE / "lampwright" / "Loader.cs")]
            lit = mcs(work / f"lit-{number}.exe", "exe", f"-r:{apis[old]}", *loader)
            made[f"loaders/lampwright-{number}.zip"] = packed({"GloamHost.exe": lit, "Lampwright.dll": data})
            said = f"lampwright {number}\n".encode()
            made[f"loaders/lampwright-player-{number}.zip"] = packed({"Lampwright.dll": data, "lampwright.txt": said})
        for version in SERVERS:
            made[f"server/gloamwick-{version}.zip"] = packed(
                {"GloamHost.exe": bare, "gloam.version": f"{version}\n".encode()}
            )
        for item, facts in tomllib.loads((HERE / "content.toml").read_text("utf-8")).items():
            for release in facts["release"]:
                data = lamp(work, apis[bool(release.get("old"))], item, facts, release)
                made[f"archives/gloamwick/{item}-{release['version']}.dll"] = data
    return made


if __name__ == "__main__":
    if shutil.which("mcs") is None:
        sys.exit("mcs is needed (Debian: mono-mcs)")
    sys.exit(put_on_shelf(build()))
