"""A rented server (``*.remote.toml``): how it is reached, what its host dictates, what a probe found out.

And the records of what was sent, which are kept there.
"""

import shlex
from typing import Annotated, Literal

import msgspec

from rhizon.core.model.base import Id, Line, Mib, Port, Sha256, Size, Strict
from rhizon.core.names import RelPath, UnsafeNameError, safe_path

__all__ = [
    "Control",
    "Dictates",
    "Probed",
    "PushMark",
    "PushRecord",
    "PushUndo",
    "PushedFile",
    "Reach",
    "RemoteDefinition",
    "Way",
]

Way = Literal["sftp", "ftps", "ftp", "folder", "rhizon"]


class Reach(Strict, frozen=True, kw_only=True):
    """How it is reached: over SFTP, FTPS (with TLS from the beginning where ``implicit``), FTP, as a ``folder`` of this
    machine (a mounted share), or as a machine that has ``rhizon`` itself, over SSH: ``program`` is its name there.
    ``folder`` is the server's place there. ``key`` is a file with a private key;
    without one the agent is asked. With ``password = "keyring"`` the system's keyring has it, under "rhizon USER@HOST";
    or it is in ``password_file``. ``certificate`` is a file with the certificate of a host that signs its own. FTP
    sends passwords in the clear, and needs ``insecure``."""

    by: Way
    folder: Line
    host: Line = ""
    port: Port | None = None
    user: Line = ""
    key: Line = ""
    password: Literal["", "keyring"] = ""
    password_file: Line = ""
    certificate: Line = ""
    implicit: bool = False
    insecure: bool = False
    program: Line = "rhizon"

    def __post_init__(self) -> None:
        if self.by != "folder" and not (self.host and self.user):
            raise ValueError("`host` and `user` are required")
        if self.by == "folder" and not self.folder.startswith("/"):
            raise ValueError(f"folder: {self.folder!r} is not an absolute path")
        if ".." in self.folder.split("/"):
            raise ValueError(f"folder: {self.folder!r} leads outside")
        if self.by == "ftp" and not self.insecure:
            raise ValueError("by: ftp sends the password in the clear; use ftps, or say `insecure = true`")


class Dictates(Strict, frozen=True, kw_only=True):
    """What its host dictates. ``start_file`` is the name under which it starts a server, or ``start_command`` the
    command line that it runs in the server's folder; ``read_only`` are paths that cannot be changed there,
    ``forbidden`` endings of names that it refuses; sizes are of one file and of all. ``ports`` are those it gives, or
    ``roles`` says which port is for what. ``log`` is the file that has the server's output, where the game writes none
    (``*`` in its name: the newest)."""

    start_file: RelPath | None = None
    start_command: Line = ""
    system: Literal["linux", "windows"] = "linux"
    read_only: tuple[RelPath, ...] = ()
    forbidden: tuple[Line, ...] = ()
    largest_mib: Mib | None = None
    quota_mib: Mib | None = None
    memory_mib: Mib | None = None
    runtimes: tuple[int, ...] = ()
    ports: tuple[Port, ...] = ()
    roles: dict[Id, Port] = {}
    log: Line = ""

    def __post_init__(self) -> None:
        if self.start_file is not None and self.start_command:
            raise ValueError("`start_file` and `start_command` exclude each other")
        if self.start_command:
            try:
                shlex.split(self.start_command)
            except ValueError as wrong:
                raise ValueError(f"start_command: {wrong}") from None
        if self.ports and not set(self.roles.values()) <= set(self.ports):
            raise ValueError("roles: a port is not one of `ports`")
        if self.log:
            folder, _, name = self.log.rpartition("/")
            if "*" in folder or not name:
                raise ValueError(f"log: {self.log!r}: only the file's name may have a *")
            safe_path(self.log.replace("*", "x"))
        for one in self.forbidden:
            if not one.startswith("."):
                raise ValueError(f"forbidden: {one!r} is not an ending such as .exe")


class Control(Strict, frozen=True, kw_only=True):
    """Commands, as lists of words, that start and stop the server there and ask for it: run over SSH, or on this
    machine where ``here`` (a program that speaks to the host). ``restart`` also starts it where there is no ``start``;
    ``status`` ends with 0 while the server runs. ``seconds`` is the longest time that one may take."""

    here: bool = False
    start: tuple[Line, ...] = ()
    stop: tuple[Line, ...] = ()
    restart: tuple[Line, ...] = ()
    status: tuple[Line, ...] = ()
    seconds: Annotated[int, msgspec.Meta(ge=1, le=3600)] = 120


class Probed(Strict, frozen=True, kw_only=True):
    """What was found out there: when (UTC), whether a rename replaces a file, whether names differ by capitals, whether
    a file that was sent by half is continued, by what it lists folders and computes hashes (empty: it cannot, files are
    read back), free space in MiB where it says so, and by how many seconds its clock is ahead."""

    when: Line
    rename_over: bool
    capitals: bool
    resumes: bool = False
    lists_by: Line = ""
    hashes_by: Line = ""
    free_mib: Annotated[int, msgspec.Meta(ge=0)] | None = None
    ahead_seconds: int = 0


class RemoteDefinition(Strict, frozen=True, kw_only=True):
    """The whole file."""

    format: Literal["rhizon-remote/1"]
    name: Id
    title: Line = ""
    reach: Reach
    dictates: Dictates = Dictates()
    control: Control | None = None
    probed: Probed | None = None

    def __post_init__(self) -> None:
        if self.control is not None and not self.control.here and self.reach.by not in ("sftp", "rhizon"):
            raise ValueError(f"control: {self.reach.by} runs no commands there; `here = true` runs some of here")


class PushedFile(Strict, frozen=True, kw_only=True):
    """A file that was sent: what is there (``sha256``, ``size``, and the time that the other side gave it), and what it
    was made from here, where the two differ since it was merged."""

    sha256: Sha256
    size: Size
    mtime: int
    here: Sha256 | None = None


class PushRecord(Strict, frozen=True, kw_only=True):
    """What a push has put there: of which server, and every file by its path."""

    format: Literal["rhizon-push/1"]
    server: Id
    files: dict[RelPath, PushedFile]

    def __post_init__(self) -> None:
        _check_paths(self.files)


class PushUndo(Strict, frozen=True, kw_only=True):
    """The way back from a push: of which server, when it was (seconds since 1970), the record of before, and the files
    that were ``moved`` aside and ``added``. While the push goes on it is ``unfinished``."""

    format: Literal["rhizon-push-undo/1"]
    server: Id
    since: int
    files: dict[RelPath, PushedFile]
    moved: tuple[RelPath, ...] = ()
    added: tuple[RelPath, ...] = ()
    unfinished: bool = False

    def __post_init__(self) -> None:
        _check_paths(self.files)


def _check_paths(files: dict[RelPath, PushedFile]) -> None:
    """Keys of a table are not decoded by type. Raises ValueError."""
    for path in files:
        try:
            safe_path(path)
        except UnsafeNameError as why:
            raise ValueError(f"files: {path!r}: {why}") from None


class PushMark(Strict, frozen=True, kw_only=True):
    """A change there that is not finished: ``what``, who started it, from which machine, when (seconds since 1970), and
    its id. While this file is there, the server there is incomplete."""

    format: Literal["rhizon-push-mark/1"]
    who: Line
    host: Line
    since: int
    push: Line
    what: Literal["push", "undo", "restore"] = "push"
