"""The ledger: what the instances of this host hold. One SQLite file, safe with many commands at once."""

import contextlib
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec

from rhizon.adapters.files import translated
from rhizon.core.errors import StateError

__all__ = ["Entry", "Ledger"]

WAIT_SECONDS = 20.0

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
)


class Entry(msgspec.Struct, frozen=True, kw_only=True):
    """One instance: its folder, what it was granted in MiB (heap and the runtime's own), and its ports."""

    folder: str
    name: str
    game: str
    note: str
    memory_mib: int
    ports: dict[str, int]


class Ledger:
    """Opened once for a command. Changes happen inside :meth:`claim`, which no other command can enter."""

    def __init__(self, file: Path) -> None:
        with translated("open the ledger", file):
            file.parent.mkdir(parents=True, exist_ok=True)
        try:
            self._db = sqlite3.connect(file, timeout=WAIT_SECONDS, isolation_level=None)
            self._db.execute("PRAGMA journal_mode = WAL")
            self._db.execute("PRAGMA foreign_keys = ON")
            self._migrate()
        except sqlite3.Error as broken:
            raise _unusable(broken, str(file)) from None
        self._file = str(file)

    def _migrate(self) -> None:
        version = self._db.execute("PRAGMA user_version").fetchone()[0]
        if version > len(_MIGRATIONS):
            raise sqlite3.DatabaseError("a newer Rhizon wrote it")
        for number, script in enumerate(_MIGRATIONS[version:], version + 1):
            try:
                self._db.executescript(f"BEGIN IMMEDIATE; {script} PRAGMA user_version = {number}; COMMIT;")
            except sqlite3.OperationalError:
                self._db.rollback()
                if self._db.execute("PRAGMA user_version").fetchone()[0] < number:
                    raise  # no other command did it meanwhile

    def close(self) -> None:
        """Gives the file back."""
        self._db.close()

    def entries(self, *, missing: bool = False) -> list[Entry]:
        """Every instance whose folder is still there, by folder; with ``missing`` those whose folder is not."""
        ports: dict[str, dict[str, int]] = {}
        try:
            held = self._db.execute("SELECT folder, role, number FROM ports ORDER BY role").fetchall()
            asked = "SELECT folder, name, game, note, memory_mib FROM instances ORDER BY folder"
            rows = self._db.execute(asked).fetchall()
        except sqlite3.Error as broken:
            raise _unusable(broken, self._file) from None
        for folder, role, number in held:
            ports.setdefault(folder, {})[role] = number
        found = (
            Entry(folder=row[0], name=row[1], game=row[2], note=row[3], memory_mib=row[4], ports=ports.get(row[0], {}))
            for row in rows
        )
        return [entry for entry in found if _still_there(entry.folder) is not missing]

    @contextmanager
    def claim(self) -> Iterator[None]:
        """Between look and record no other command can take the same port or memory."""
        try:
            self._db.execute("BEGIN IMMEDIATE")
        except sqlite3.Error as broken:
            if "locked" not in str(broken):
                raise _unusable(broken, self._file) from None
            raise StateError(
                "ledger-busy", "another command holds the ledger", hint="Wait for it to end and run this again."
            ) from None
        try:
            yield
            self._db.execute("COMMIT")
        except sqlite3.Error as broken:
            self._roll_back()
            raise _unusable(broken, self._file) from None
        except BaseException:
            self._roll_back()
            raise

    def _roll_back(self) -> None:
        with contextlib.suppress(sqlite3.Error):  # an error of the disk may have done it already
            self._db.execute("ROLLBACK")

    def record(self, entry: Entry, protocols: dict[str, tuple[str, ...]]) -> None:
        """Writes an instance's row and ports; only inside :meth:`claim`."""
        self.forget_missing()
        self._db.execute("DELETE FROM instances WHERE folder = ?", (entry.folder,))
        self._db.execute(
            "INSERT INTO instances VALUES (?, ?, ?, ?, ?)",
            (entry.folder, entry.name, entry.game, entry.note, entry.memory_mib),
        )
        self._db.executemany(
            "INSERT INTO ports VALUES (?, ?, ?, ?)",
            [
                (entry.folder, role, number, protocol)
                for role, number in entry.ports.items()
                for protocol in protocols[role]
            ],
        )

    def forget_missing(self) -> list[str]:
        """Takes out every instance whose folder is gone; answers those folders. Only inside :meth:`claim`."""
        rows = self._db.execute("SELECT folder FROM instances ORDER BY folder").fetchall()
        gone = [str(row[0]) for row in rows if not _still_there(row[0])]
        self._db.executemany("DELETE FROM instances WHERE folder = ?", [(folder,) for folder in gone])
        return gone

    def forget(self, folder: str) -> None:
        """Takes an instance out; only inside :meth:`claim`."""
        self._db.execute("DELETE FROM instances WHERE folder = ?", (folder,))


def _unusable(broken: sqlite3.Error, file: str) -> StateError:
    if getattr(broken, "sqlite_errorname", "").startswith(("SQLITE_FULL", "SQLITE_IOERR")):
        return StateError(
            "ledger-unwritten",
            f"the ledger at {file} cannot be written: {broken}",
            hint="Free some space on that disk and look whether it is sound; then run the same command again.",
        )
    return StateError(
        "ledger-broken",
        f"the ledger at {file} cannot be used: {broken}",
        hint="Move that file away; it is written anew as instances are provisioned again.",
    )


def _still_there(folder: str) -> bool:
    return (Path(folder) / ".rhizon").is_dir()
