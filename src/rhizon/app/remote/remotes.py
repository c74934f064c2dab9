"""Rented servers as people name them: a file, or the name that ``remote new`` gave it."""

import time
from collections.abc import Callable
from pathlib import Path
from typing import TypeVar

import msgspec

from rhizon.adapters.files import make_folders, read_bytes, translated, write_atomic
from rhizon.adapters.remotes import open_remote
from rhizon.adapters.remotes.files import RemoteFiles
from rhizon.app.host import Host
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError, RemoteError
from rhizon.core.model.documents import decode
from rhizon.core.model.encode import remote_toml
from rhizon.core.model.remote import Dictates, Probed, Reach, RemoteDefinition
from rhizon.core.names import suggestions

__all__ = ["RemoteResult", "connected", "find_remote", "new_remote", "remote_result", "with_tries", "write_remote"]

ENDING = ".remote.toml"
AGAIN_SECONDS = (2.0, 5.0, 15.0)  # before another try where the line broke; a refused login is never repeated

T = TypeVar("T")


class RemoteResult(msgspec.Struct, frozen=True, kw_only=True):
    """A rented server: the file that describes it, and what was found out there."""

    file: str
    name: str
    planned: bool
    reach: str
    probed: Probed | None
    free_mib: int | None


def find_remote(host: Host, word: str) -> tuple[Path, RemoteDefinition]:
    """By its file or its name. Raises InputError, DocumentError."""
    path = Path(word)
    if not path.is_file():
        path = host.places.remotes / f"{word}{ENDING}"
    if not path.is_file():
        known = [one.name.removesuffix(ENDING) for one in host.places.remotes.glob(f"*{ENDING}")]
        guess = suggestions(word, known, 1)
        raise InputError(
            "no-such-remote",
            f"there is no remote {word}",
            hint=f"Did you mean {guess[0]}?" if guess else "Describe it: rhizon remote new --help",
        )
    return path, decode(RemoteDefinition, read_bytes(path, "remote file", 1 << 20), str(path))


def connected(host: Host, remote: RemoteDefinition) -> RemoteFiles:
    """A way to it. Raises RemoteError, TrustError, InputError."""
    return open_remote(remote.reach, host.places.known_hosts)


def with_tries(host: Host, remote: RemoteDefinition, reporter: Reporter, work: Callable[[RemoteFiles], T]) -> T:
    """Does something over a connection; where the line breaks, again over another one: not where there never was one.
    Raises what ``work`` raises."""
    reached = False
    for pause in (*AGAIN_SECONDS, None):
        try:
            reporter.step(f"connecting to {remote.name}")
            files = connected(host, remote)
            reached = True
            try:
                return work(files)
            finally:
                files.close()
        except RemoteError as broken:
            if broken.code != "remote-unreachable" or pause is None or not reached:
                raise
            reporter.warning(f"{broken.message}; trying again in {pause:.0f} s")
            time.sleep(pause)
    raise AssertionError  # the last round returns or raises


def new_remote(
    host: Host, name: str, reach: Reach, dictates: Dictates, file: Path | None, *, dry_run: bool = False
) -> RemoteResult:
    """Writes a definition: into ``file``, else under its name. Raises InputError where there is one."""
    path = file if file is not None else host.places.remotes / f"{name}{ENDING}"
    if path.exists():
        raise InputError("remote-exists", f"{path} is there already", hint="Choose another name, or change that file.")
    made = RemoteDefinition(format="rhizon-remote/1", name=name, reach=reach, dictates=dictates)
    if not dry_run:
        write_remote(path, made)
    return remote_result(path, made, planned=dry_run)


def write_remote(path: Path, remote: RemoteDefinition) -> None:
    """Writes its file. Raises :class:`StateError`."""
    make_folders(path.parent, 0o700)
    with translated("write the remote file", path):
        write_atomic(path, remote_toml(remote).encode(), 0o600)


def remote_result(
    path: Path, remote: RemoteDefinition, *, planned: bool = False, free: int | None = None
) -> RemoteResult:
    """What is known of it."""
    reach = remote.reach
    where = reach.folder if reach.by == "folder" else f"{reach.user}@{reach.host}:{reach.folder}"
    return RemoteResult(
        file=str(path),
        name=remote.name,
        planned=planned,
        reach=f"{reach.by} {where}",
        probed=remote.probed,
        free_mib=free,
    )
