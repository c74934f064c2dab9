"""A machines file from disk, and its servers' places written back into it."""

from collections.abc import Mapping
from pathlib import Path

from rhizon.adapters.files import read_bytes, write_atomic
from rhizon.core.model.documents import decode
from rhizon.core.model.machines import MachinesFile

__all__ = ["read_machines", "write_places"]

LARGEST_FILE = 16 << 20


def read_machines(path: Path) -> MachinesFile:
    """The file as a typed document. Raises DocumentError, StateError."""
    return decode(MachinesFile, read_bytes(path, "machines file", LARGEST_FILE), str(path))


def write_places(path: Path, places: Mapping[str, str]) -> None:
    """Writes ``machine = "..."`` of each server; comments and layout stay. Raises StateError."""
    import tomlkit

    document = tomlkit.parse(path.read_text("utf-8"))
    for name, machine in places.items():
        document["servers"][name]["machine"] = machine
    write_atomic(path, tomlkit.dumps(document).encode(), path.stat().st_mode & 0o777)
