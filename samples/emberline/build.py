"""Rebuild what Emberline puts on the shelf: the file trees of its branches and every carriage, byte for byte the same.

python samples/emberline/build.py            writes them into the shipped catalog
python samples/emberline/build.py --check    compares them with what is committed (exit 1: they differ)
"""

import pathlib
import random
import sys
import tomllib
from xml.sax.saxutils import quoteattr

sys.path.insert(0, str(pathlib.Path(__file__).parents[1]))
from shelving import packed, put_on_shelf

HERE = pathlib.Path(__file__).parent
# branch -> version: what is to come is tried on its own branch
LINES = {"stable": "2.3", "trial": "2.4"}


def tree(version: str) -> dict[str, bytes]:
    """The server's own files. The track is the same in both but for its last part, as updates are."""
    track = bytearray(random.Random("track").randbytes(48_000))
    track[-len(version) :] = version.encode()
    return {
        "emberline-host": (HERE / "tree" / "emberline-host").read_bytes(),
        "emberline.xml": (HERE / "tree" / "emberline.xml").read_bytes(),
        "line.txt": f"{version}\n".encode(),
        "track/base.trk": bytes(track),
        "track/lamps.trk": random.Random(f"lamps {version}").randbytes(4_000),
    }


def carriage(item: str, facts: dict, release: dict) -> bytes:
    head = {
        "id": item,
        "version": release["version"],
        "title": facts["title"],
        "line": release["line"],
        "rides": facts.get("rides", "all"),
    }
    lines = [f"<carriage {' '.join(f'{key}={quoteattr(value)}' for key, value in head.items())}>"]
    lines += [f"  <needs id={quoteattr(k)} in={quoteattr(v)}/>" for k, v in release.get("needs", {}).items()]
    lines += [f"  <stock name={quoteattr(one)}/>" for one in facts.get("stock", ())]
    entries = {"carriage.xml": ("\n".join([*lines, "</carriage>", ""])).encode()}
    draw = random.Random(f"{item} {release['version']}")
    entries["body/shape.dat"] = draw.randbytes(1200)
    return packed(entries)


def build() -> dict[str, bytes]:
    made = {f"server/emberline-{branch}/{name}": data for branch, v in LINES.items() for name, data in tree(v).items()}
    for item, facts in tomllib.loads((HERE / "content.toml").read_text("utf-8")).items():
        for release in facts["release"]:
            made[f"archives/emberline/{item}-{release['version']}.zip"] = carriage(item, facts, release)
    return made


if __name__ == "__main__":
    sys.exit(put_on_shelf(build(), programs=("emberline-host",)))
