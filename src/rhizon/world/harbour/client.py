"""The clients of the club's games, as far as joining goes: what each finds in its folder when it starts.

A client that cannot start says why. It knows nothing of kits or locks: it opens every archive in its folder of content,
as the real ones do, and tells the server what it has.
"""

import hashlib
import json
import re
import struct
import zipfile
from collections.abc import Iterator
from pathlib import Path

__all__ = ["ClientError", "Content", "started"]

Content = dict[str, str]  # versions by id


class ClientError(Exception):
    """The client does not start."""


def started(game: str, folder: Path) -> tuple[Content, str]:
    """What the client of a game loads from its folder, and its loader with the build ("" for none). Raises
    ClientError."""
    read = {"tarnholt": _tarnholt, "emberline": _emberline, "gloamwick": _gloamwick, "drovemoor": _drovemoor}[game]
    found: Content = {}
    clashes: dict[str, list[str]] = {}
    for name, version, against in read(folder):
        if name in found:
            raise ClientError(f"{name} is there twice: {found[name]} and {version}")
        found[name] = version
        clashes[name] = against
    for name, against in clashes.items():
        for one in against:
            if one in found:
                raise ClientError(f"{name} clashes with {one}")
    return found, _loader(game, folder)


def _loader(game: str, folder: Path) -> str:
    places = {"tarnholt": "hull/about.txt", "gloamwick": "lampwright.txt"}
    if game not in places:
        return ""
    try:
        text = (folder / places[game]).read_text("utf-8").strip()
    except OSError:
        raise ClientError("no loader is installed") from None
    program = {"tarnholt": "hull/keelson-player.jar", "gloamwick": "Lampwright.dll"}[game]
    if not (folder / program).is_file():
        raise ClientError(f"the loader lacks {program}")
    return text


def _tarnholt(folder: Path) -> Iterator[tuple[str, str, list[str]]]:
    for file in sorted((folder / "mods").glob("*.jar")):
        try:
            with zipfile.ZipFile(file) as jar:
                if jar.testzip() is not None:
                    raise ClientError(f"{file.name} is damaged")
                about = json.loads(jar.read("keel/about.json"))
        except (zipfile.BadZipFile, OSError, ValueError) as broken:
            raise ClientError(f"{file.name}: {broken}") from None
        except KeyError:
            continue  # none of ours
        yield about["id"], about["version"], sorted(about.get("clashes", {}))


def _emberline(folder: Path) -> Iterator[tuple[str, str, list[str]]]:
    for plate in sorted((folder / "carriages").glob("*/carriage.xml")):
        match = re.search(r'<carriage id="([^"]+)" version="([^"]+)"', plate.read_text("utf-8", "replace"))
        if match is None or "</carriage>" not in plate.read_text("utf-8", "replace"):
            raise ClientError(f"{plate.parent.name}: its papers are torn")
        if not (plate.parent / "body/shape.dat").is_file():
            raise ClientError(f"{plate.parent.name} has no body")
        yield match[1], match[2], []


def _gloamwick(folder: Path) -> Iterator[tuple[str, str, list[str]]]:
    for file in sorted((folder / "lamps").glob("*.dll")):
        data = file.read_bytes()
        _whole_program(file.name, data)
        name, _, version = file.stem.rpartition("-")
        yield name, version, []


def _whole_program(name: str, data: bytes) -> None:
    """Sees that every section of a PE file is there (Microsoft's PE Format, "Section Table"). Raises ClientError."""
    try:
        at = struct.unpack_from("<I", data, 0x3C)[0]
        count, optional = struct.unpack_from("<H", data, at + 6)[0], struct.unpack_from("<H", data, at + 20)[0]
        for number in range(count):
            size, place = struct.unpack_from("<II", data, at + 24 + optional + 40 * number + 16)
            if place + size > len(data):
                raise ClientError(f"{name} is cut short")
    except struct.error:
        raise ClientError(f"{name} is no lamp") from None


def _drovemoor(folder: Path) -> Iterator[tuple[str, str, list[str]]]:
    for plate in sorted((folder / "herds").glob("*/plate.txt")):
        said = dict(line.split(": ", 1) for line in plate.read_text("utf-8", "replace").splitlines() if ": " in line)
        seal = plate.parent / "seal.sum"
        whole = hashlib.sha256()
        for file in sorted(plate.parent.rglob("*")):
            if file.is_file() and file != seal:
                whole.update(file.relative_to(plate.parent).as_posix().encode() + file.read_bytes())
        if not seal.is_file() or seal.read_text("utf-8", "replace").strip() != whole.hexdigest():
            raise ClientError(f"{plate.parent.name}: its seal is broken")
        yield said.get("herd", "?"), said.get("version", "?"), []
