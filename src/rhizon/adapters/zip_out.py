"""A zip that comes out the same, byte for byte, wherever and whenever it is made: stored, in order, without times."""

import hashlib
import os
import tempfile
import zipfile
from collections.abc import Iterable
from pathlib import Path

from rhizon.adapters.files import sync_folder, translated

__all__ = ["write_zip"]

NO_TIME = (1980, 1, 1, 0, 0, 0)  # the first that a zip knows


def write_zip(path: Path, entries: Iterable[tuple[str, bytes]]) -> tuple[str, int]:
    """Writes the entries (path and bytes), and answers the zip's SHA-256 and size. The file is there whole or not at
    all. Nothing is compressed: archives of content are, and compressors differ between machines. Raises StateError."""
    with translated("write the archive", path):
        path.parent.mkdir(parents=True, exist_ok=True)
        handle, coming = tempfile.mkstemp(prefix=f".{path.name}-", dir=path.parent)
        try:
            with os.fdopen(handle, "wb") as file:
                with zipfile.ZipFile(file, "w", zipfile.ZIP_STORED) as made:
                    for name, data in entries:
                        entry = zipfile.ZipInfo(name, NO_TIME)
                        entry.create_system = 3
                        entry.external_attr = 0o100644 << 16
                        made.writestr(entry, data)
                file.flush()
                os.fsync(file.fileno())
            Path(coming).chmod(0o644)
            Path(coming).replace(path)
        except BaseException:
            Path(coming).unlink(missing_ok=True)
            raise
        sync_folder(path.parent)
        with path.open("rb") as written:
            return hashlib.file_digest(written, "sha256").hexdigest(), path.stat().st_size
