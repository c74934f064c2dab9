"""An instance's ``.rhizon/`` folder: its documents, its lock against a second command, its run mark."""

import contextlib
from collections.abc import Iterator
from pathlib import Path

import msgspec

from rhizon.adapters.files import read_bytes, translated
from rhizon.adapters.transact import RHIZON, recover, write_alone
from rhizon.core.errors import StateError
from rhizon.core.model.decode import encode_json
from rhizon.core.model.documents import decode
from rhizon.core.model.instance import Instance, Inventory
from rhizon.core.model.lock import Lock
from rhizon.core.model.write import instance_toml

__all__ = ["CONTENT_LIST", "FIRST_START", "INVENTORY", "LOCK", "InstanceFolder", "RunMark"]

INSTANCE = "instance.toml"
LOCK = "lock.json"
INVENTORY = "inventory.json"
RUNNING = "running.json"
FIRST_START = "first-start"  # there from the first try at it to its end, where no world was there before
CONTENT_LIST = "content.list.toml"  # of an instance that was made from a folder of archives


class RunMark(msgspec.Struct, frozen=True):
    """The server that ``rhizon run`` started: its process id, when it began (seconds since 1970), and how its console
    is reached (see :mod:`rhizon.adapters.console`; 0 where it is not)."""

    pid: int
    since: float
    port: int = 0
    token: str = ""


class InstanceFolder:
    """Reads and writes the documents of one instance."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder.absolute()
        self.own = self.folder / RHIZON

    @property
    def is_ours(self) -> bool:
        """Whether an instance was provisioned here (or was being, when something stopped it)."""
        return (self.own / INSTANCE).is_file()

    def required(self) -> "InstanceFolder":
        """Itself; :class:`StateError` when there is no instance here."""
        if not self.is_ours:
            raise StateError(
                "no-instance",
                f"there is no instance in {self.folder}",
                hint="Name a folder that rhizon provision made; rhizon list shows those of this host.",
            )
        return self

    def instance(self) -> Instance:
        """How the server is run. Raises StateError (it is gone) or DocumentError, as the next two do."""
        return decode(Instance, self._read(INSTANCE), str(self.own / INSTANCE))

    def lock(self) -> Lock:
        """What the server is made of."""
        return decode(Lock, self._read(LOCK), str(self.own / LOCK))

    def inventory(self) -> Inventory:
        """What Rhizon put into the folder."""
        return decode(Inventory, self._read(INVENTORY), str(self.own / INVENTORY))

    def _read(self, name: str) -> bytes:
        if not (self.own / name).is_file():
            raise StateError(
                "instance-damaged",
                f"the instance in {self.folder} has lost its {RHIZON}/{name}",
                hint="Provision again from the same source: it is written anew, and your worlds and edits stay.",
            )
        return read_bytes(self.own / name, "document of the instance")

    def has(self, name: str) -> bool:
        """Whether a document is there; provisioning writes a lost one anew."""
        return (self.own / name).is_file()

    @staticmethod
    def records(lock: Lock, instance: Instance, inventory: Inventory) -> dict[str, bytes]:
        """The documents as a transaction writes them."""
        return {
            LOCK: encode_json(lock),
            INVENTORY: encode_json(inventory),
            INSTANCE: instance_toml(instance).encode(),
        }

    def write_instance(self, instance: Instance) -> None:
        """Replaces ``instance.toml`` alone."""
        with translated("write the instance file", self.own):
            write_alone(self.folder, self.own / INSTANCE, instance_toml(instance).encode())

    @contextlib.contextmanager
    def busy(self) -> Iterator[bool]:
        """Keeps other commands out; a change that was cut short is taken back first (then True is given)."""
        import filelock  # only commands that write need it

        with translated("use the instance folder", self.folder):
            fresh = not self.folder.exists()
            self.own.mkdir(parents=True, exist_ok=True)
        guard = filelock.FileLock(self.own / "busy")
        try:
            guard.acquire(timeout=0)
        except filelock.Timeout:
            raise StateError(
                "instance-busy",
                f"another rhizon command is at work in {self.folder}",
                hint="Wait for it to end. If none is, no harm: the mark goes with the process that holds it.",
            ) from None
        try:
            yield recover(self.folder)
        finally:
            guard.release()
            if not self.is_ours:
                self._leave_nothing(fresh)

    def _leave_nothing(self, fresh: bool) -> None:
        with contextlib.suppress(OSError):
            (self.own / "busy").unlink(missing_ok=True)
            self.own.rmdir()
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
            return msgspec.json.decode((self.own / RUNNING).read_bytes(), type=RunMark)
        return None

    def mark_running(self, mark: RunMark) -> None:
        """Writes the mark; who reads it can type into the console."""
        path = self.own / RUNNING
        with translated("mark the server as running", path):
            write_alone(self.folder, path, msgspec.json.encode(mark), 0o600)

    def mark_ended(self, mark: RunMark) -> None:
        """Takes the mark away, if it is still that of this run: the next one may have begun."""
        if self._mark() == mark:
            with translated("take the mark of the server away", self.own):
                (self.own / RUNNING).unlink(missing_ok=True)
