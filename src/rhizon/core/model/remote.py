"""A rented server (``*.remote.toml``): how it is reached, what its host dictates, what a probe found out.

And the record of what was sent, which lies there.
"""

from typing import Annotated, Literal

import msgspec

from rhizon.core.model.base import Id, Line, Mib, Port, Sha256, Size, Strict
from rhizon.core.names import RelPath, UnsafeNameError, safe_path

__all__ = ["Dictates", "Probed", "PushMark", "PushRecord", "PushedFile", "Reach", "RemoteDefinition"]


class Reach(Strict, frozen=True, kw_only=True):
    """How it is reached: over SFTP, FTPS (with TLS from the beginning where ``implicit``), FTP, or as a ``folder`` of
    this machine (a mounted share). ``folder`` is the server's place there. ``key`` is a file with a private key;
    without one the agent is asked. With ``password = "keyring"`` the system's keyring has it, under "rhizon USER@HOST";
    or it is in ``password_file``. ``certificate`` is a file with the certificate of a host that signs its own. FTP
    sends passwords in the clear, and needs ``insecure``."""

    by: Literal["sftp", "ftps", "ftp", "folder"]
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
    """What its host dictates. ``start_file`` is the name under which it starts a server; ``read_only`` are paths that
    cannot be changed there, ``forbidden`` endings of names that it refuses; sizes are of one file and of all."""

    start_file: RelPath | None = None
    system: Literal["linux", "windows"] = "linux"
    read_only: tuple[RelPath, ...] = ()
    forbidden: tuple[Line, ...] = ()
    largest_mib: Mib | None = None
    quota_mib: Mib | None = None
    memory_mib: Mib | None = None
    runtimes: tuple[int, ...] = ()
    ports: tuple[Port, ...] = ()

    def __post_init__(self) -> None:
        for one in self.forbidden:
            if not one.startswith("."):
                raise ValueError(f"forbidden: {one!r} is not an ending such as .exe")


class Probed(Strict, frozen=True, kw_only=True):
    """What was found out there: when (UTC), whether a rename replaces a file, whether names differ by capitals, free
    space in MiB where it is told, and by how many seconds its clock is ahead."""

    when: Line
    rename_over: bool
    capitals: bool
    free_mib: Annotated[int, msgspec.Meta(ge=0)] | None = None
    ahead_seconds: int = 0


class RemoteDefinition(Strict, frozen=True, kw_only=True):
    """The whole file."""

    format: Literal["rhizon-remote/1"]
    name: Id
    title: Line = ""
    reach: Reach
    dictates: Dictates = Dictates()
    probed: Probed | None = None


class PushedFile(Strict, frozen=True, kw_only=True):
    """A file that was sent: what is there (``sha256``, ``size``, and the time that the other side gave it), and what it
    was made from here, where the two differ since it was merged."""

    sha256: Sha256
    size: Size
    mtime: int
    here: Sha256 | None = None


class PushRecord(Strict, frozen=True, kw_only=True):
    """What lies there by a push: of which server, and every file by its path."""

    format: Literal["rhizon-push/1"]
    server: Id
    files: dict[RelPath, PushedFile]

    def __post_init__(self) -> None:
        for path in self.files:  # keys of a table are not decoded by type
            try:
                safe_path(path)
            except UnsafeNameError as why:
                raise ValueError(f"files: {path!r}: {why}") from None


class PushMark(Strict, frozen=True, kw_only=True):
    """A push that is not finished: who started it, from which machine, when (seconds since 1970), and its id. While
    this file is there, the server there is incomplete."""

    format: Literal["rhizon-push-mark/1"]
    who: Line
    host: Line
    since: int
    push: Line
