"""Rebuild what Drovemoor puts on the shelf: servers, herds and a moor to begin on, byte for byte the same each time.

python samples/drovemoor/build.py            writes them into the shipped catalog
python samples/drovemoor/build.py --check    compares them with what is committed (exit 1: they differ)
"""

import hashlib
import pathlib
import random
import sys
import tomllib

sys.path.insert(0, str(pathlib.Path(__file__).parents[1]))
from shelving import packed, put_on_shelf

HERE = pathlib.Path(__file__).parent
SERVERS = ("1.3", "1.4")


def plate(item: str, facts: dict, release: dict) -> bytes:
    said = {
        "herd": item,
        "version": release["version"],
        "title": facts["title"],
        "kind": "template" if facts.get("template") else "herd",
        "for": facts.get("for", "all"),
        "moor": release["moor"],
        "after": " ".join(release.get("after", ())),
    }
    return "".join(f"{key}: {value}\n" for key, value in said.items() if value).encode()


def herd(item: str, facts: dict, release: dict) -> bytes:
    draw = random.Random(f"{item} {release['version']}")
    entries = {"plate.txt": plate(item, facts, release), "kine/breed.dat": draw.randbytes(1500)}
    if facts.get("template"):
        deed = f"moor {release['moor']}\nmade {item} {release['version']}\nseed 1907\ndrives 0\n"
        entries = {"plate.txt": entries["plate.txt"], "deed.txt": deed.encode()}
        entries |= {f"heath-{number}.lie": draw.randbytes(3000) for number in range(1, 5)}
    if release.get("sealed", True):
        whole = hashlib.sha256()
        for name in sorted(entries):
            whole.update(name.encode() + entries[name])
        entries["seal.sum"] = whole.hexdigest().encode() + b"\n"
    return packed(entries)


def build() -> dict[str, bytes]:
    program = (HERE / "drovemoor-server").read_bytes()
    made = {
        f"server/drovemoor-{version}.zip": packed(
            {"drovemoor-server": program, "VERSION": f"{version}\n".encode()}, ("drovemoor-server",)
        )
        for version in SERVERS
    }
    for item, facts in tomllib.loads((HERE / "content.toml").read_text("utf-8")).items():
        for release in facts["release"]:
            made[f"archives/drovemoor/{item}-{release['version']}.zip"] = herd(item, facts, release)
    return made


if __name__ == "__main__":
    sys.exit(put_on_shelf(build()))
