"""The log of a run, ``.rhizon/last-run.log``: what a server prints, bounded, and never a reason to end the server."""

import gzip
import os
import zlib
from pathlib import Path

from rhizon.adapters.files import translated
from rhizon.adapters.inside import Inside
from rhizon.adapters.transact import RHIZON
from rhizon.core.errors import StateError
from rhizon.keeper.output import archive_run
from rhizon.keeper.places import OUTPUT, RUNS

__all__ = ["LOG", "RunLog", "earlier_log"]

LOG = OUTPUT
MOST_BYTES = 32 << 20


class RunLog:
    """Open from the start of a run to its end. Raises StateError where it cannot be begun."""

    def __init__(self, folder: Path, most_bytes: int = MOST_BYTES) -> None:
        self._folder = folder
        self.path = folder / RHIZON / LOG
        self._most = most_bytes
        self._begin()

    def _begin(self) -> None:
        self._written = 0
        with translated("write the log", self.path), Inside(self._folder) as inside:
            archive_run(self._folder)
            self._file = os.fdopen(inside.open_write(f"{RHIZON}/{LOG}"), "wb", buffering=0)

    def write(self, line: str) -> str:
        """Adds a line; why it could not be, "" where it was. The next one is tried again: disks are cleared."""
        data = line.encode("utf-8", "replace") + b"\n"
        try:
            if self._file.closed or self._written + len(data) > self._most:
                self._file.close()
                self._begin()
            self._written += self._file.write(data)
        except OSError as broken:
            return broken.strerror or str(broken)
        except StateError as broken:
            return broken.message
        return ""

    def close(self) -> None:
        """Gives the file back."""
        self._file.close()


def earlier_log(folder: Path) -> bytes | None:
    """The log of the run before the last one, at most as much as a log has; None where there is none."""
    newest = max((folder / RHIZON / RUNS).glob("*.log.gz"), default=None)
    if newest is None:
        return None
    try:
        with gzip.open(newest, "rb") as packed:
            return packed.read(MOST_BYTES)
    except (OSError, EOFError, zlib.error):
        return None
