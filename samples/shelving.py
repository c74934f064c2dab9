"""What the build scripts of the stand-ins share: archives without a clock in them, and the way onto the shelf."""

import io
import pathlib
import sys
import zipfile

CATALOG = pathlib.Path(__file__).parents[1] / "src" / "rhizon" / "world" / "harbour" / "catalog"
FIXED_TIME = (2020, 1, 1, 0, 0, 0)


def packed(entries: dict[str, bytes], programs: tuple[str, ...] = ()) -> bytes:
    """A zip of stored entries with one fixed time: neither the compressor nor the clock shows in its bytes."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_STORED) as made:
        for name in sorted(entries, key=lambda one: (one != "META-INF/MANIFEST.MF", one)):
            info = zipfile.ZipInfo(name, FIXED_TIME)
            info.create_system = 3
            info.external_attr = (0o100755 if name in programs else 0o100644) << 16
            made.writestr(info, entries[name])
    return out.getvalue()


def put_on_shelf(made: dict[str, bytes], programs: tuple[str, ...] = ()) -> int:
    """Writes each file into the shipped catalog, or with ``--check`` says which differ; the exit code."""
    if "--check" in sys.argv[1:]:
        different = [name for name, data in made.items() if not _same(CATALOG / name, data)]
        print("\n".join(different) or f"{len(made)} files are as committed")
        return 1 if different else 0
    for name, data in made.items():
        path = CATALOG / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
        if path.name in programs:
            path.chmod(0o755)
    print(f"{len(made)} files, {sum(map(len, made.values())) / 1e6:.2f} MB")
    return 0


def _same(path: pathlib.Path, data: bytes) -> bool:
    return path.exists() and path.read_bytes() == data
