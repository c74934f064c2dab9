"""The ways to a rented server's files, each behind :class:`~rhizon.adapters.remotes.files.RemoteFiles`."""

from collections.abc import Callable
from pathlib import Path

from rhizon.adapters.remotes.files import RemoteFiles
from rhizon.adapters.remotes.folder import FolderFiles
from rhizon.adapters.remotes.ftp import FtpFiles
from rhizon.adapters.remotes.sftp import SftpFiles, sftp_files
from rhizon.core.model.remote import Reach

__all__ = ["open_remote", "open_runner"]

_WAYS: dict[str, Callable[[Reach, Path], RemoteFiles]] = {
    "folder": lambda reach, _known: FolderFiles(Path(reach.folder)),
    "sftp": sftp_files,
    "rhizon": sftp_files,
    "ftps": lambda reach, _known: FtpFiles(reach),
    "ftp": lambda reach, _known: FtpFiles(reach),
}


def open_remote(reach: Reach, known_hosts: Path) -> RemoteFiles:
    """A way to it; ``known_hosts`` are the keys that it was known by. Raises RemoteError, TrustError (another key)."""
    return _WAYS[reach.by](reach, known_hosts)


def open_runner(reach: Reach, known_hosts: Path) -> SftpFiles:
    """A way to run commands there, over SSH. Raises RemoteError, TrustError."""
    return SftpFiles(reach, known_hosts)
