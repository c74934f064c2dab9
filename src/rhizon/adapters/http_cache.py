"""Local copies of catalog documents that came over a network, so that only what changed is sent again.

One SQLite file that any number of commands share. It is a cache: when it cannot be used it is done without.
"""

import contextlib
import hashlib
import sqlite3
import threading
from pathlib import Path
from typing import NamedTuple

__all__ = ["CachedDocument", "Copies"]

WAIT_SECONDS = 5.0
LARGEST = 4 << 20  # a longer document is cheap beside its own transfer, and rare

_TABLE = """
CREATE TABLE IF NOT EXISTS documents (
    address TEXT NOT NULL, path TEXT NOT NULL, tag TEXT NOT NULL, modified TEXT NOT NULL, sha256 TEXT NOT NULL,
    body BLOB NOT NULL, PRIMARY KEY (address, path)
) STRICT, WITHOUT ROWID
"""


class CachedDocument(NamedTuple):
    """A document as it came, with the validators that were sent with it (RFC 9110, section 8.8) or nothing."""

    tag: str
    modified: str
    sha256: str
    body: bytes


class Copies:
    """Copies by catalog address and path. Safe to use from several threads and several commands at once."""

    def __init__(self, file: Path) -> None:
        self._lock = threading.Lock()
        self._db: sqlite3.Connection | None = None
        with contextlib.suppress(OSError, sqlite3.Error):
            file.parent.mkdir(parents=True, exist_ok=True)
            self._db = sqlite3.connect(file, timeout=WAIT_SECONDS, isolation_level=None, check_same_thread=False)
            self._db.execute("PRAGMA journal_mode = WAL")
            self._db.execute("PRAGMA synchronous = OFF")  # a copy that a power cut spoils is seen by its hash
            self._db.execute(_TABLE)

    def get(self, address: str, path: str) -> CachedDocument | None:
        """The copy of a document whose bytes are still what came."""
        with self._lock, contextlib.suppress(sqlite3.Error):
            if self._db is not None:
                asked = "SELECT tag, modified, sha256, body FROM documents WHERE address = ? AND path = ?"
                row = self._db.execute(asked, (address, path)).fetchone()
                if row is not None and hashlib.sha256(row[3]).hexdigest() == row[2]:
                    return CachedDocument(*row)
        return None

    def put(self, address: str, path: str, tag: str, modified: str, body: bytes) -> None:
        """Keeps a document in place of what was known of it."""
        with self._lock, contextlib.suppress(sqlite3.Error):
            if self._db is not None and len(body) <= LARGEST:
                row = (address, path, tag, modified, hashlib.sha256(body).hexdigest(), body)
                self._db.execute("INSERT OR REPLACE INTO documents VALUES (?, ?, ?, ?, ?, ?)", row)
