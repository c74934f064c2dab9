"""What a server and its machine look like at one moment, as values: all that rules may look at."""

from typing import Literal

import msgspec

from rhizon.core.archives.scan import Scanned
from rhizon.core.finding import Finding
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance
from rhizon.core.model.lock import Lock

__all__ = [
    "ContentFile",
    "Encoding",
    "LastRun",
    "Machine",
    "NativeFile",
    "Observation",
    "PortInUse",
    "RuntimeSeen",
    "WorldHolder",
    "WorldSeen",
]

Encoding = Literal["UTF-8", "UTF-8 with a byte order mark", "UTF-16", "not UTF-8"]


class NativeFile(msgspec.Struct, frozen=True, kw_only=True):
    """One of the server's own settings files. ``values`` by key as they are written; ``broken`` why it cannot be
    parsed; ``repeated`` keys that are there more than once, with their lines; ``writable`` by the user of this process,
    ``foreign`` the owner where that is another user than the folder's."""

    path: str
    dialect: str
    exists: bool = True
    values: dict[str, str] = {}
    broken: str = ""
    encoding: Encoding = "UTF-8"
    repeated: dict[str, tuple[int, ...]] = {}
    writable: bool = True
    foreign: str = ""


class ContentFile(msgspec.Struct, frozen=True, kw_only=True):
    """A file in a content folder; ``path`` from the server's folder. ``placed``: Rhizon put it there; ``archive``
    what it is, None where it is no archive of content; ``findings`` what is wrong with it by itself."""

    path: str
    folder: str
    placed: bool
    archive: Scanned | None
    sha256: str = ""
    findings: tuple[Finding, ...] = ()


class PortInUse(msgspec.Struct, frozen=True, kw_only=True):
    """A port of the server that another program listens on."""

    role: str
    number: int
    protocol: str
    holder: str


class Machine(msgspec.Struct, frozen=True, kw_only=True):
    """``memory_mib`` is the machine's or its control group's; ``free_bytes`` on the disk of the server's folder;
    ``open_files`` the limit of this process; ``addresses`` all that the machine has; ``first_free_port`` the lowest
    that may be used without privilege; ``now`` in ISO 8601; ``processor`` in the words of
    ``program_head``, "" where it is not known or the machine runs programs of others too."""

    memory_mib: int
    granted_mib: int = 0
    servers: int = 1
    free_bytes: int | None = None
    open_files: int | None = None
    addresses: tuple[str, ...] = ()
    first_free_port: int = 1024
    privileged: bool = False
    processor: str = ""
    now: str = ""


class RuntimeSeen(msgspec.Struct, frozen=True, kw_only=True):
    """The runtime of the server now. ``state`` of its program; major and version where it answers; ``environment`` are
    variables that change how every such runtime starts."""

    state: Literal["answers", "missing", "not executable", "silent"]
    major: int | None = None
    version: str = ""
    environment: dict[str, str] = {}


class WorldHolder(msgspec.Struct, frozen=True, kw_only=True):
    """Whose mark is in the world that it is in use: ``pid`` None where the mark says none; ``state`` of that process,
    "unknown" where it cannot be told."""

    file: str
    state: Literal["runs", "gone", "unknown"]
    pid: int | None = None
    program: str = ""


class WorldSeen(msgspec.Struct, frozen=True, kw_only=True):
    """The world that the settings file names. ``known``: this server has run with it; ``others`` are worlds beside it;
    ``raised_with`` the game version that it says; ``size`` in bytes of its files and
    ``newest`` the time of the newest, in ISO 8601; ``shared`` other servers that have
    the very same folder as a world, with whether each runs. ``last_backup`` is the time of the newest
    backup that has this world, looked for where it is not whole. ``missing`` are files that every world has,
    ``unfinished`` those that copying programs leave when they are interrupted."""

    name: str
    exists: bool
    is_folder: bool = True
    empty: bool = False
    writable: bool = True
    known: bool = False
    others: tuple[str, ...] = ()
    raised_with: str = ""
    size: int = 0
    newest: str = ""
    shared: dict[str, bool] = {}
    missing: tuple[str, ...] = ()
    unfinished: tuple[str, ...] = ()
    holder: WorldHolder | None = None
    last_backup: str = ""


class LastRun(msgspec.Struct, frozen=True, kw_only=True):
    """How the last run ended by its log: the code of a failure ("" for none), what, and the content at fault;
    ``again``: the run before failed for the same."""

    ready: bool
    code: str = ""
    what: str = ""
    culprit: str = ""
    again: bool = False


class Observation(msgspec.Struct, frozen=True, kw_only=True):
    """A server, ``game`` with the settings of its content. ``running`` is the process where it runs. Of archives that
    nothing loads, ``in_subfolders`` are too deep and ``disabled`` have another ending; ``odd_files`` have the ending of
    one and are no ordinary files. ``folders_by_case`` have the name of one that the server reads but for capitals;
    ``unwritable`` are folders that the server must write; ``programs`` what starts the server, by path, with the
    machine that it was made for; ``other_loaders`` files of loaders that it does not use, by the loader's title.
    ``missing_libraries`` are shared libraries that a native program of the server lacks, by its path."""

    folder: str
    game: GameDefinition
    instance: Instance
    lock: Lock
    machine: Machine
    native: tuple[NativeFile, ...] = ()
    content: tuple[ContentFile, ...] = ()
    together: tuple[Finding, ...] = ()
    ports_in_use: tuple[PortInUse, ...] = ()
    runtime: RuntimeSeen | None = None
    world: WorldSeen | None = None
    last_run: LastRun | None = None
    running: int | None = None
    odd_files: tuple[str, ...] = ()
    disabled: tuple[str, ...] = ()
    in_subfolders: tuple[str, ...] = ()
    folders_by_case: dict[str, str] = {}
    unwritable: tuple[str, ...] = ()
    programs: dict[str, str] = {}
    missing_libraries: dict[str, tuple[str, ...]] = {}
    no_programs: bool = False
    other_loaders: dict[str, str] = {}

    def file(self, path: str) -> NativeFile | None:
        """A settings file by its path."""
        return next((one for one in self.native if one.path == path), None)
