"""What archives were found to be, remembered by their hash, so that an archive is read once on this host.

One SQLite file; a cache that any number of commands share and that is done without when it cannot be used.
"""

import contextlib
import hashlib
import sqlite3
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec

from rhizon import __version__
from rhizon.adapters.files import hash_file
from rhizon.core.archives.evidence import Evidence
from rhizon.core.archives.scan import Scanned
from rhizon.core.model.base import dec_hook, enc_hook
from rhizon.core.model.game import GameDefinition

__all__ = ["Known", "Scans"]

WAIT_SECONDS = 5.0
READER = 15  # one more whenever the same bytes would be read to other facts

_TABLES = (
    """CREATE TABLE IF NOT EXISTS files (
        path TEXT PRIMARY KEY, stat TEXT NOT NULL, sha256 TEXT NOT NULL
    ) STRICT, WITHOUT ROWID""",
    """CREATE TABLE IF NOT EXISTS facts (
        sha256 TEXT NOT NULL, rules TEXT NOT NULL, facts BLOB NOT NULL, PRIMARY KEY (sha256, rules)
    ) STRICT, WITHOUT ROWID""",
    """CREATE TABLE IF NOT EXISTS sets (
        files TEXT NOT NULL, rules TEXT NOT NULL, verdicts BLOB NOT NULL, PRIMARY KEY (files, rules)
    ) STRICT, WITHOUT ROWID""",
)


class Known(msgspec.Struct, frozen=True, kw_only=True):
    """A file as it is now, and what is known of these bytes under the rules that were asked for."""

    sha256: str
    size: int
    scanned: Scanned | None


class Scans:
    """Facts of archives under some game definitions (the rules)."""

    def __init__(self, file: Path, games: Sequence[GameDefinition]) -> None:
        rules = msgspec.json.encode([READER, __version__, *games], enc_hook=enc_hook)
        self._rules = hashlib.sha256(rules).hexdigest()
        self._decoder = msgspec.msgpack.Decoder(Scanned, dec_hook=dec_hook)
        self._db: sqlite3.Connection | None = None
        with contextlib.suppress(OSError, sqlite3.Error):
            file.parent.mkdir(parents=True, exist_ok=True)
            self._db = sqlite3.connect(file, timeout=WAIT_SECONDS, isolation_level=None)
            self._db.execute("PRAGMA journal_mode = WAL")
            self._db.execute("PRAGMA synchronous = OFF")  # at worst something is read again
            for table in _TABLES:
                self._db.execute(table)

    def known(self, file: Path) -> Known:
        """A file whose name, size and times are as they were is not hashed again. Raises OSError."""
        stat, path = _stat(file), str(file.absolute())
        row = self._one("SELECT sha256 FROM files WHERE path = ? AND stat = ?", path, stat)
        if row is not None:
            sha256, size = str(row[0]), int(stat.partition(" ")[0])
        else:
            sha256, size = hash_file(file)
            self._one("INSERT OR REPLACE INTO files VALUES (?, ?, ?)", path, stat, sha256)
        return Known(sha256=sha256, size=size, scanned=self._facts(sha256))

    @property
    def is_open(self) -> bool:
        """Whether anything can be remembered."""
        return self._db is not None

    def has(self, file: Path) -> bool:
        """Whether the facts of a file are known, as far as its name, size and times tell. Raises OSError."""
        sql = "SELECT 1 FROM files JOIN facts USING (sha256) WHERE path = ? AND stat = ? AND rules = ?"
        return self._one(sql, str(file.absolute()), _stat(file), self._rules) is not None

    def _facts(self, sha256: str) -> Scanned | None:
        row = self._one("SELECT facts FROM facts WHERE sha256 = ? AND rules = ?", sha256, self._rules)
        with contextlib.suppress(msgspec.DecodeError):
            return self._decoder.decode(row[0]) if row is not None else None
        return None

    def keep(self, sha256: str, scanned: Scanned) -> None:
        """Remembers what bytes of this hash were found to be."""
        blob = msgspec.msgpack.encode(scanned, enc_hook=enc_hook)
        self._one("INSERT OR REPLACE INTO facts VALUES (?, ?, ?)", sha256, self._rules, blob)

    def judged(self, files: Mapping[str, str]) -> dict[str, Evidence] | None:
        """The verdicts that archives (hashes by file name) had beside each other; None where that is not known."""
        row = self._one("SELECT verdicts FROM sets WHERE files = ? AND rules = ?", _key(files), self._rules)
        with contextlib.suppress(msgspec.DecodeError):
            return msgspec.msgpack.decode(row[0], type=dict[str, Evidence]) if row is not None else None
        return None

    def keep_judged(self, files: Mapping[str, str], verdicts: Mapping[str, Evidence]) -> None:
        """Remembers the verdicts of archives beside each other, of those that differ from what each has alone."""
        blob = msgspec.msgpack.encode(verdicts)
        self._one("INSERT OR REPLACE INTO sets VALUES (?, ?, ?)", _key(files), self._rules, blob)

    def _one(self, statement: str, *values: object) -> tuple[Any, ...] | None:
        with contextlib.suppress(sqlite3.Error):
            if self._db is not None:
                row: tuple[Any, ...] | None = self._db.execute(statement, values).fetchone()
                return row
        return None


def _stat(file: Path) -> str:
    """Its size, times and number: what tells that a file is as it was. Raises OSError."""
    facts = file.stat()
    return f"{facts.st_size} {facts.st_mtime_ns} {facts.st_ctime_ns} {facts.st_ino}"


def _key(files: Mapping[str, str]) -> str:
    """One hash for a set of files."""
    return hashlib.sha256(msgspec.json.encode(sorted(files.items()))).hexdigest()
