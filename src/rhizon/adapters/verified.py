"""Which files were read whole and found to hold which bytes: a cache, so that large files are not hashed every time.

A file is known by its device and inode. What is remembered counts as long as the file's size and both times are the
same (no program can set the time of the last change, ctime), the machine was not started again since, and at most
:data:`TRUSTED_SECONDS` have passed: whatever a disk or memory does to bytes by itself is found after that time at most.
"""

import contextlib
import os
import sqlite3
import threading
import time
from pathlib import Path

__all__ = ["TRUSTED_SECONDS", "Verified"]

TRUSTED_SECONDS = 24 * 3600.0
WAIT_SECONDS = 5.0
_TABLE = """
CREATE TABLE IF NOT EXISTS verified (
    device INTEGER NOT NULL, inode INTEGER NOT NULL, size INTEGER NOT NULL, mtime_ns INTEGER NOT NULL,
    ctime_ns INTEGER NOT NULL, sha256 TEXT NOT NULL, at REAL NOT NULL, boot TEXT NOT NULL, PRIMARY KEY (device, inode)
) STRICT, WITHOUT ROWID
"""


def _boot() -> str:
    """What tells this start of the machine from another one; empty where the system does not say."""
    with contextlib.suppress(OSError):
        return Path("/proc/sys/kernel/random/boot_id").read_text("ascii").strip()
    return ""


class Verified:
    """One SQLite file, safe with several threads and commands. When it cannot be used, every file is read."""

    def __init__(self, file: Path) -> None:
        self._file = file
        self._lock = threading.Lock()
        self._db: sqlite3.Connection | None = None
        self._opened = False
        self._boot = ""

    def _run(self, statement: str, *values: object) -> tuple[object, ...] | None:
        with self._lock, contextlib.suppress(sqlite3.Error, OSError, OverflowError):
            if not self._opened:
                self._open()
            if self._db is not None:
                row: tuple[object, ...] | None = self._db.execute(statement, values).fetchone()
                return row
        return None

    def _open(self) -> None:
        if not self._file.parent.is_dir():
            return
        self._opened = True
        self._boot = _boot()
        self._db = sqlite3.connect(self._file, timeout=WAIT_SECONDS, isolation_level=None, check_same_thread=False)
        self._db.execute("PRAGMA journal_mode = WAL")
        self._db.execute("PRAGMA synchronous = OFF")  # at worst something is read again
        self._db.execute(_TABLE)

    def sha256_of(self, facts: os.stat_result) -> str | None:
        """The hash of a file's bytes, where that is known and still counts."""
        row = self._run(
            "SELECT sha256, at, boot FROM verified WHERE device = ? AND inode = ? AND size = ? AND mtime_ns = ?"
            " AND ctime_ns = ?",
            _signed(facts.st_dev), _signed(facts.st_ino), facts.st_size, facts.st_mtime_ns, facts.st_ctime_ns,
        )  # fmt: skip
        if row is None or row[2] != self._boot:
            return None
        age = time.time() - float(str(row[1]))
        return str(row[0]) if 0 <= age <= TRUSTED_SECONDS else None

    def note(self, facts: os.stat_result, sha256: str) -> None:
        """Remembers what a file was found to hold; ``facts`` are from before it was read, or after it was written."""
        self._run(
            "INSERT OR REPLACE INTO verified VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            _signed(facts.st_dev), _signed(facts.st_ino), facts.st_size, facts.st_mtime_ns, facts.st_ctime_ns, sha256,
            time.time(), self._boot,
        )  # fmt: skip

    def renew(self, before: os.stat_result, after: os.stat_result, sha256: str) -> None:
        """A file got or lost a name, which changes its times and not its bytes; how long ago they were read stays."""
        self._run(
            "UPDATE verified SET ctime_ns = ? WHERE device = ? AND inode = ? AND ctime_ns = ? AND sha256 = ?",
            after.st_ctime_ns, _signed(after.st_dev), _signed(after.st_ino), before.st_ctime_ns, sha256,
        )  # fmt: skip

    def close(self) -> None:
        """Gives the file back."""
        with self._lock:
            if self._db is not None:
                self._db.close()
            self._db = None


def _signed(number: int) -> int:
    """SQLite's numbers have 64 bits with a sign."""
    return number - (1 << 64) if number >= 1 << 63 else number
