"""The ledger: an index of what the instances of this host hold. One SQLite file, safe with many commands at once.

The instances' own folders are the truth; a row says what was last read there (``seen`` tells from which file), and what
a change that is under way will hold (``soon``). A copy of all rows is kept beside it as JSON, written before each
commit, so that a ledger that was lost or damaged is rebuilt from the folders that the copy names.
"""

import contextlib
import os
import re
import sqlite3
import urllib.parse
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec

from rhizon.adapters.files import make_folders, translated, write_atomic
from rhizon.core.errors import StateError

__all__ = ["Entry", "Ledger"]

WAIT_SECONDS = 20.0
COPY = "ledger-copy.json"
LARGEST_COPY = 64 << 20

# Each migration brings the file from its index to the next number; a shipped one is never changed.
_MIGRATIONS = (
    """
    CREATE TABLE instances (
        folder TEXT PRIMARY KEY, name TEXT NOT NULL, game TEXT NOT NULL, note TEXT NOT NULL,
        memory_mib INTEGER NOT NULL
    ) STRICT;
    CREATE TABLE ports (
        folder TEXT NOT NULL REFERENCES instances ON DELETE CASCADE,
        role TEXT NOT NULL, number INTEGER NOT NULL, protocol TEXT NOT NULL,
        UNIQUE (number, protocol)
    ) STRICT;
    """,
    """
    CREATE TABLE servers (folder TEXT PRIMARY KEY, entry TEXT NOT NULL) STRICT;
    INSERT INTO servers SELECT folder, json_object('folder', folder, 'name', name, 'game', game, 'note', note,
        'memory_mib', memory_mib, 'seen', 'earlier', 'ports', json(coalesce((SELECT json_group_object(role, number)
        FROM ports WHERE ports.folder = instances.folder), '{}'))) FROM instances;
    DROP TABLE ports;
    DROP TABLE instances;
    """,
)


class Entry(msgspec.Struct, frozen=True, kw_only=True, omit_defaults=True):
    """One instance: its folder, what it was granted in MiB (heap and the runtime's own), its ports by role (blocks as
    ``role+1`` ...), and those that a change under way will give it. ``seen`` is what its record was read from; empty
    for a reservation of an instance that is not there yet."""

    folder: str
    name: str
    game: str
    note: str = ""
    memory_mib: int
    ports: dict[str, int] = {}
    soon: dict[str, int] = {}
    seen: str = ""

    @property
    def numbers(self) -> frozenset[int]:
        """Every port that no one else may have."""
        return frozenset({*self.ports.values(), *self.soon.values()})


class _Copy(msgspec.Struct, frozen=True, kw_only=True):
    format: str
    servers: tuple[Entry, ...]


class Ledger:
    """Opened once for a command. Only with ``write`` anything is made, repaired or changed; changes happen inside
    :meth:`claim`, which no other command can enter.

    ``trouble`` says in words what was wrong with the file and what came of that; empty where nothing was.
    """

    def __init__(self, file: Path, *, write: bool = False) -> None:
        self._file = file
        self._write = write
        self.trouble = ""
        if write:
            with translated("open the ledger", file):
                make_folders(file.parent)
        try:
            self._db = self._opened()
        except sqlite3.Error as broken:
            if not _is_damage(broken):
                raise self._unusable(broken) from None
            self._db = self._instead(broken)

    # ---- opening

    def _opened(self) -> sqlite3.Connection:
        """The database: the file, or its copy where the file is lost; in memory where nothing may be written."""
        fresh = not self._file.exists() or self._file.stat().st_size == 0
        copied = self._copied() if fresh else ()
        if copied:
            self.trouble = "the ledger was lost; it was rebuilt from its copy"
        if fresh and not self._write:
            return self._in_memory(copied)
        try:
            db = self._connected()
        except sqlite3.OperationalError:
            if self._write:
                raise
            return self._in_memory(self._copied())  # a read-only folder, or one whose last writer was killed
        if copied:
            self._db = db
            with self.claim():
                for entry in copied:
                    self.put(entry)
        return db

    def _connected(self) -> sqlite3.Connection:
        """The file as a connection, migrated to the newest layout and checked."""
        mode = "rwc" if self._write else "ro"
        address = f"file:{urllib.parse.quote(str(self._file))}?mode={mode}"
        db = sqlite3.connect(address, uri=True, timeout=WAIT_SECONDS, isolation_level=None)
        try:
            if self._write:
                db.execute("PRAGMA journal_mode = DELETE")  # one that readers of a read-only folder can open too
                self._migrate(db)
            elif db.execute("PRAGMA user_version").fetchone()[0] < len(_MIGRATIONS):
                return self._old_rows(db)
            if db.execute("PRAGMA quick_check(1)").fetchone()[0] != "ok":
                raise sqlite3.DatabaseError("the file is damaged")
        except BaseException:
            db.close()
            raise
        return db

    def _old_rows(self, db: sqlite3.Connection) -> sqlite3.Connection:
        """A ledger of an earlier Rhizon, read without changing it."""
        memory = sqlite3.connect(":memory:", isolation_level=None)
        db.backup(memory)
        db.close()
        self._migrate(memory)
        return memory

    def _in_memory(self, entries: tuple[Entry, ...]) -> sqlite3.Connection:
        memory = sqlite3.connect(":memory:", isolation_level=None)
        self._migrate(memory)
        memory.executemany("INSERT INTO servers VALUES (?, ?)", [(one.folder, _text(one)) for one in entries])
        return memory

    def _migrate(self, db: sqlite3.Connection) -> None:
        """Brings a ledger to the newest layout, one step after the other, each in a transaction. Raises StateError for
        a newer one."""
        version = db.execute("PRAGMA user_version").fetchone()[0]
        if version > len(_MIGRATIONS):
            raise StateError(
                "ledger-newer",
                f"the ledger was written by a newer Rhizon: {self._file}",
                hint="Use that version of Rhizon, or name another folder with RHIZON_STATE.",
            )
        for number, script in enumerate(_MIGRATIONS[version:], version + 1):
            try:
                db.executescript(f"BEGIN IMMEDIATE; {script} PRAGMA user_version = {number}; COMMIT;")
            except sqlite3.OperationalError:
                db.rollback()
                if db.execute("PRAGMA user_version").fetchone()[0] < number:
                    raise  # no other command did it meanwhile

    def _instead(self, broken: sqlite3.Error) -> sqlite3.Connection:
        """For a damaged file: what its copy says, else what can be found in its bytes. The file is put aside."""
        entries = self._copied() or self._found_in_bytes()
        self.trouble = f"the ledger was damaged ({broken}); {len(entries)} servers were recovered"
        if not self._write:
            return self._in_memory(entries)
        number = 1
        while (aside := self._file.with_name(f"{self._file.name}.damaged-{number}")).exists():
            number += 1
        with translated("move the damaged ledger aside", self._file):
            self._file.rename(aside)
            for ending in ("-journal", "-wal", "-shm"):
                self._file.with_name(self._file.name + ending).unlink(missing_ok=True)
        self.trouble += f"; the damaged file is {aside}"
        try:
            db = self._db = self._opened()
            with self.claim():
                for entry in entries:
                    self.put(entry)
        except sqlite3.Error as again:
            raise self._unusable(again) from None
        return db

    def _copied(self) -> tuple[Entry, ...]:
        with contextlib.suppress(OSError, msgspec.MsgspecError):
            path = self._file.with_name(COPY)
            if path.stat().st_size <= LARGEST_COPY:
                return msgspec.json.decode(path.read_bytes(), type=_Copy).servers
        return ()

    def _found_in_bytes(self) -> tuple[Entry, ...]:
        """Folders of instances whose names are still in a damaged file."""
        found = {}
        with contextlib.suppress(OSError):
            for text in re.findall(rb"/[^\x00-\x1f\x7f\"]{2,500}", self._file.read_bytes()[:LARGEST_COPY]):
                name = text.decode("utf-8", "replace")
                for end in range(len(name), 1, -1):
                    folder = name[:end].rstrip("/")
                    if folder not in found and os.path.isfile(f"{folder}/.rhizon/instance.toml"):  # noqa: PTH113
                        found[folder] = Entry(
                            folder=folder, name="unknown", game="unknown", memory_mib=0, seen="damaged ledger"
                        )
                        break
        return tuple(found.values())

    def close(self) -> None:
        """Gives the file back."""
        self._db.close()

    # ---- reading and changing

    def entries(self) -> list[Entry]:
        """Every instance that is known, by folder, as it was last seen."""
        try:
            rows = self._db.execute("SELECT entry FROM servers ORDER BY folder").fetchall()
            return [msgspec.json.decode(row[0], type=Entry) for row in rows]
        except (sqlite3.Error, msgspec.MsgspecError) as broken:
            raise self._unusable(broken) from None

    @contextmanager
    def claim(self) -> Iterator[None]:
        """Between look and record no other command can take the same port or memory. Raises StateError where another
        command has it for longer than ``WAIT_SECONDS`` or nothing can be written."""
        try:
            self._db.execute("BEGIN IMMEDIATE")
        except sqlite3.Error as broken:
            if "locked" not in str(broken):
                raise self._unusable(broken) from None
            raise StateError(
                "ledger-busy", "another command is using the ledger", hint="Wait for it to end and run this again."
            ) from None
        try:
            before = self._db.total_changes
            yield
            if self._db.total_changes > before:
                self._keep_copy()
            self._db.execute("COMMIT")
        except sqlite3.Error as broken:
            self._roll_back()
            raise self._unusable(broken) from None
        except BaseException:
            self._roll_back()
            raise

    def _keep_copy(self) -> None:
        """Before the commit: what the copy has too much is seen to be gone when it is read, what it lacks is not."""
        copy = _Copy(format="rhizon-ledger-copy/1", servers=tuple(self.entries()))
        with translated("write the ledger's copy", self._file):
            write_atomic(self._file.with_name(COPY), msgspec.json.format(msgspec.json.encode(copy), indent=1), 0o644)

    def _roll_back(self) -> None:
        with contextlib.suppress(sqlite3.Error):  # an error of the disk may have done it already
            self._db.execute("ROLLBACK")

    def put(self, entry: Entry) -> None:
        """Writes an instance's row; only inside :meth:`claim`."""
        self._db.execute("INSERT OR REPLACE INTO servers VALUES (?, ?)", (entry.folder, _text(entry)))

    def drop(self, folder: str) -> None:
        """Removes an instance's row; only inside :meth:`claim`."""
        self._db.execute("DELETE FROM servers WHERE folder = ?", (folder,))

    def _unusable(self, broken: Exception) -> StateError:
        """The error for a ledger that cannot be read or written, with what to do."""
        name = getattr(broken, "sqlite_errorname", "")
        if name.startswith(("SQLITE_FULL", "SQLITE_IOERR", "SQLITE_READONLY", "SQLITE_CANTOPEN", "SQLITE_PERM")):
            return StateError(
                "ledger-unwritten",
                f"the ledger at {self._file} cannot be written: {broken}",
                hint="Check free space and permissions of that folder, then run the same command again, or name "
                "another folder with RHIZON_STATE.",
            )
        return StateError(
            "ledger-broken",
            f"the ledger at {self._file} cannot be used: {broken}",
            hint="Rebuild it from the servers' folders: rhizon host --rebuild",
        )


def _text(entry: Entry) -> str:
    return msgspec.json.encode(entry).decode()


def _is_damage(broken: sqlite3.Error) -> bool:
    """Whether the file itself is at fault, and not its folder, its disk or another command."""
    name = getattr(broken, "sqlite_errorname", "")
    return name in ("SQLITE_CORRUPT", "SQLITE_NOTADB", "SQLITE_ERROR", "") and "locked" not in str(broken)
