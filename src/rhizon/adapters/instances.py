"""An instance's ``.rhizon/`` folder: its documents, its lock against a second command, its run mark.

Every document is there twice, the second time in ``copies/``; both are written in one transaction. Reading takes the
state that is valid: while a change is unfinished (a command was killed in its middle), that is the one before it.
"""

import contextlib
import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NamedTuple, TypeVar

import msgspec

from rhizon.adapters.files import read_bytes, translated
from rhizon.adapters.inside import Inside
from rhizon.adapters.transact import RHIZON, recover, unfinished, write_alone
from rhizon.adapters.verified import Verified
from rhizon.core.errors import InputError, RhizonError, StateError
from rhizon.core.model.base import Strict, dec_hook
from rhizon.core.model.decode import encode_json
from rhizon.core.model.documents import decode
from rhizon.core.model.encode import instance_toml
from rhizon.core.model.instance import Instance, Inventory
from rhizon.core.model.lock import Lock
from rhizon.core.names import RelPath, printable
from rhizon.core.secret import Secret
from rhizon.core.words import command_line

__all__ = [
    "CONTENT_LIST",
    "FIRST_START",
    "FORGOTTEN",
    "INSTANCE",
    "INVENTORY",
    "LOCK",
    "DamagedDocument",
    "InstanceFolder",
    "RunMark",
]

INSTANCE = "instance.toml"
LOCK = "lock.json"
INVENTORY = "inventory.json"
COPIES = "copies"
RUNNING = "running.json"
FORGOTTEN = "forgotten"  # a person told Rhizon to forget this server; the file holds when
FIRST_START = "first-start"  # there from the first try at it to its end, where no world was there before
CONTENT_LIST = "content.list.toml"  # of an instance that was made from a folder of archives
DOCUMENTS: dict[str, type[Strict]] = {INSTANCE: Instance, LOCK: Lock, INVENTORY: Inventory}

LARGEST_SETTINGS = 16 << 20

T = TypeVar("T", bound=Strict)


class RunMark(msgspec.Struct, frozen=True):
    """The server that ``rhizon run`` started: its process id, when it began (seconds since 1970), and how its console
    is reached (see :mod:`rhizon.adapters.console`): with the ``token``, over a ``port`` where that is not 0. The bare
    server of a first start has no ``token``, since no one types into it."""

    pid: int
    since: float
    port: int = 0
    token: Secret = Secret("")

    @property
    def is_bare(self) -> bool:
        """Whether it is the server of a first start."""
        return not self.token


class DamagedDocument(NamedTuple):
    """A document that is missing or cannot be read. ``source`` is where a sound one is: "copy", "kept state N" (that
    of before the last change) or "" (nowhere)."""

    name: str
    why: str
    source: str


class InstanceFolder:
    """Reads and writes the documents of one instance. ``linked`` are folders outside that links in it may lead to."""

    def __init__(self, folder: Path, linked: tuple[Path, ...] = ()) -> None:
        self.folder = folder.absolute()
        self.own = self.folder / RHIZON
        self.linked = linked

    def inside(self) -> Inside:
        """The folder, opened; close it after use."""
        return Inside(self.folder, self.linked)

    def valid(self, path: str) -> str | None:
        """Where the bytes of a path are that count now: elsewhere while a change is unfinished; None for a file that
        only the unfinished change has brought."""
        moved = unfinished(self.folder)
        return moved.get(path, path) if moved is not None else path

    @property
    def is_unfinished(self) -> bool:
        """Whether a command was killed in the middle of a change. The next one that changes something rolls it back."""
        return unfinished(self.folder) is not None

    @property
    def is_ours(self) -> bool:
        """Whether an instance is here (or was being provisioned when something stopped it)."""
        moved = unfinished(self.folder) or {}
        paths = (f"{RHIZON}/{name}" for name in (INSTANCE, f"{COPIES}/{INSTANCE}", LOCK, INVENTORY))
        return any((place := moved.get(path, path)) is not None and (self.folder / place).is_file() for path in paths)

    @property
    def is_forgotten(self) -> bool:
        """Whether ``rhizon forget`` was used on it."""
        return (self.own / FORGOTTEN).is_file()

    def required(self) -> "InstanceFolder":
        """Itself; :class:`StateError` when there is no instance here, or one that was to be forgotten."""
        if not self.is_ours:
            cut = self.is_unfinished
            raise StateError(
                "no-instance",
                f"there is no server in {self.folder}" + (": provisioning it was interrupted" if cut else ""),
                hint="Run the same rhizon provision command again."
                if cut
                else "See all servers of this machine: rhizon list",
            )
        if self.is_forgotten:
            record = self.sound(INSTANCE)
            raise StateError(
                "forgotten",
                f"Rhizon was told to forget the server in {self.folder}",
                hint="Provision into that folder to manage it again."
                if record is None
                else f"To manage it again: {command_line('rhizon', 'provision', record.source, self.folder)}",
            )
        return self

    def instance(self) -> Instance:
        """How the server is run. Raises StateError (it is damaged), as the next two do."""
        return self._document(Instance, INSTANCE)

    def lock(self) -> Lock:
        """What the server is made of."""
        return self._document(Lock, LOCK)

    def inventory(self) -> Inventory:
        """What Rhizon put into the folder."""
        return self._document(Inventory, INVENTORY)

    def _decoded(self, kind: type[T], name: str) -> T:
        """Raises InputError, also for one that is not there."""
        place = self.valid(f"{RHIZON}/{name}")
        if place is None:
            raise InputError("no-such-file", "it is missing", hint="")
        path = self.folder / place
        if not path.is_file():
            raise InputError("no-such-file", "it is missing", hint="")
        return decode(kind, read_bytes(path, "server record"), str(self.own / name))

    def _document(self, kind: type[T], name: str) -> T:
        """A document as it is valid now. Raises StateError that says where a sound copy is."""
        try:
            return self._decoded(kind, name)
        except InputError as broken:
            found = self._damage(name, broken)
            raise StateError(
                "instance-damaged",
                f"{RHIZON}/{name} of the server in {self.folder} is damaged: {found.why}",
                hint=f"{command_line('rhizon', 'repair', self.folder)} puts it back from the {found.source}"
                if found.source
                else "Provision again from the same source; it is written again, and your worlds and edits stay.",
            ) from None

    def _damage(self, name: str, broken: RhizonError) -> DamagedDocument:
        why = printable(broken.message.removeprefix(f"{self.own / name} is not a valid "), 160)
        if self._sound_copy(name) is not None:
            return DamagedDocument(name, why, "copy")
        kept = self._newest_kept()
        return DamagedDocument(name, why, f"kept state {kept.number}" if kept is not None else "")

    def _sound_copy(self, name: str) -> Any:
        with contextlib.suppress(RhizonError, OSError):
            return self._decoded(DOCUMENTS[name], f"{COPIES}/{name}")
        return None

    def _newest_kept(self) -> Any:
        from rhizon.adapters.undo_history import KeptStates  # only for what is damaged

        states = KeptStates(self.folder).readable()
        return states[-1] if states else None

    def damaged(self) -> list[DamagedDocument]:
        """The documents that cannot be read; none where there is no instance."""
        found = []
        for name, kind in DOCUMENTS.items() if self.is_ours else ():
            try:
                self._decoded(kind, name)
            except InputError as broken:
                found.append(self._damage(name, broken))
        return found

    def sound(self, name: str) -> Any:
        """A document as it is, else its copy, else that of the last kept state; None where there is none at all."""
        with contextlib.suppress(InputError):
            return self._decoded(DOCUMENTS[name], name)
        copy = self._sound_copy(name)
        if copy is not None:
            return copy
        kept = self._newest_kept()
        parts = {INSTANCE: "instance", LOCK: "lock", INVENTORY: "inventory"}
        return getattr(kept, parts[name]) if kept is not None else None

    def restore_documents(self) -> list[DamagedDocument]:
        """Puts damaged documents back and answers them. Raises :class:`StateError` where one is not available
        anywhere."""
        bad = self.damaged()
        lost = [one for one in bad if not one.source]
        if lost:
            raise StateError(
                "instance-damaged",
                f"{', '.join(one.name for one in lost)} of the server in {self.folder} cannot be restored",
                details=[f"{one.name}: {one.why}" for one in lost],
                hint="Provision again from the same source; it is written again, and your worlds and edits stay.",
            )
        for one in bad:
            document = self.sound(one.name)
            data = instance_toml(document).encode() if one.name == INSTANCE else encode_json(document)
            self._write(one.name, data)
        return bad

    def has(self, name: str) -> bool:
        """Whether a document is there."""
        place = self.valid(f"{RHIZON}/{name}")
        return place is not None and (self.folder / place).is_file()

    @staticmethod
    def records(lock: Lock, instance: Instance, inventory: Inventory) -> dict[str, bytes]:
        """The documents as a transaction writes them, each with its copy."""
        made = {
            LOCK: encode_json(lock),
            INVENTORY: encode_json(inventory),
            INSTANCE: instance_toml(instance).encode(),
        }
        return {**{f"{COPIES}/{name}": data for name, data in made.items()}, **made}

    def _write(self, name: str, data: bytes) -> None:
        with translated("write the instance's documents", self.own):
            write_alone(self.folder, f"{RHIZON}/{COPIES}/{name}", data)
            write_alone(self.folder, f"{RHIZON}/{name}", data)

    def write_instance(self, instance: Instance) -> None:
        """Replaces ``instance.toml`` alone."""
        self._write(INSTANCE, instance_toml(instance).encode())

    def write_own(self, name: str, data: bytes, mode: int = 0o644) -> None:
        """Replaces a file of ours below ``.rhizon/``."""
        with translated("write into the instance", self.own):
            write_alone(self.folder, f"{RHIZON}/{name}", data, mode)

    def remove_own(self, name: str) -> None:
        """Removes a file of ours below ``.rhizon/``, if it is there."""
        with translated("remove a file of the instance", self.own), self.inside() as inside:
            inside.unlink(f"{RHIZON}/{name}")

    def hashes(self, paths: list[RelPath], verified: Verified | None = None) -> dict[RelPath, str]:
        """See :meth:`~rhizon.adapters.inside.Inside.hashes`."""
        if not self.folder.is_dir():
            return {}
        with translated("read the instance", self.folder), self.inside() as inside:
            return {RelPath(path): sha256 for path, sha256 in inside.hashes(paths, verified).items()}

    def read(self, path: str, most: int = LARGEST_SETTINGS) -> bytes | None:
        """A file of the instance as it counts now; None where there is none. Raises :class:`StateError`, also for one
        that is larger than ``most`` bytes."""
        place = self.valid(path)
        if place is None:
            return None
        with translated("read a file of the instance", self.folder / path), self.inside() as inside:
            if not inside.is_file(place):
                return None
            data = inside.read(place, most + 1)
        if len(data) > most:
            raise StateError(
                "too-large",
                f"{self.folder / path} is larger than {most} bytes and is not read",
                hint="Check what has grown there.",
            )
        return data

    @contextlib.contextmanager
    def busy(self) -> Iterator[bool]:
        """Keeps other commands out; a change that was interrupted is rolled back first (then True is given). Raises
        StateError where another command works there."""
        fresh = not self.folder.exists()
        with translated("use the instance folder", self.folder):
            if fresh:
                self.folder.mkdir(parents=True)
            with self.inside() as inside:
                guard = _guard(inside)
        if guard is None:
            raise StateError(
                "instance-busy",
                f"another rhizon command is working in {self.folder}",
                hint="Wait for it to end. The lock is released when that process exits.",
            )
        try:
            yield recover(self.folder, self.linked)
        finally:
            if not self.is_ours:
                self._leave_nothing(fresh)
            os.close(guard)

    @property
    def is_busy(self) -> bool:
        """Whether another command is at work here, as far as that can be seen without changing anything."""
        try:
            import fcntl

            with self.inside() as inside:
                handle = inside.open_read(f"{RHIZON}/busy")
            try:
                fcntl.flock(handle, fcntl.LOCK_SH | fcntl.LOCK_NB)
            finally:
                os.close(handle)
        except BlockingIOError:
            return True
        except (ImportError, OSError, StateError):
            return False
        return False

    def _leave_nothing(self, fresh: bool) -> None:
        with contextlib.suppress(OSError, StateError), self.inside() as inside:
            inside.unlink(f"{RHIZON}/busy")
            inside.remove_folder(RHIZON)
            if fresh:
                self.folder.rmdir()

    def running(self) -> RunMark | None:
        """The server that runs here, if one does."""
        mark = self._mark()
        if mark is not None:
            from rhizon.adapters.processes import alive  # a mark is rare, and psutil is slow to import

            if alive(mark.pid, mark.since):
                return mark
        return None

    def _mark(self) -> RunMark | None:
        with contextlib.suppress(OSError, msgspec.MsgspecError):
            return msgspec.json.decode((self.own / RUNNING).read_bytes(), type=RunMark, dec_hook=dec_hook)
        return None

    def mark_running(self, mark: RunMark) -> None:
        """Writes the mark; who reads it can type into the console."""
        plain_mark = {"pid": mark.pid, "since": mark.since, "port": mark.port, "token": mark.token.reveal()}
        self.write_own(RUNNING, msgspec.json.encode(plain_mark), 0o600)

    def mark_ended(self, mark: RunMark) -> None:
        """Removes the mark, if it is still that of this run: the next one may have begun."""
        if self._mark() == mark:
            self.remove_own(RUNNING)


def _guard(inside: Inside) -> int | None:
    """The instance's lock, held until the handle is closed; None where another command has it."""
    try:
        return inside.lock(f"{RHIZON}/busy")
    except ImportError:  # no flock on this system
        return inside.open_write(f"{RHIZON}/busy")
