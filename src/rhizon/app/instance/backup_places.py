"""Where the backups of a server are, and under which id."""

import contextlib
import hashlib
from pathlib import Path

from rhizon.adapters.backups import Repository
from rhizon.adapters.files import read_bytes
from rhizon.adapters.host import now
from rhizon.adapters.instances import InstanceFolder
from rhizon.app.host import Host
from rhizon.core.errors import RhizonError
from rhizon.core.model.backup import BackupLinks
from rhizon.core.model.documents import decode

__all__ = ["LINKS", "backup_id", "backup_places", "last_backup"]

LINKS = "backups.json"
MOST_READ = 10


def backup_id(home: InstanceFolder) -> BackupLinks:
    """Under which id the backups of an instance are: the one that it has, or a new one."""
    path = home.own / LINKS
    if path.is_file():
        return decode(BackupLinks, read_bytes(path, "backup record"), str(path))
    mark = hashlib.sha256(f"{home.folder}{now()}".encode()).hexdigest()[:8]
    return BackupLinks(format="rhizon-backups/1", id=f"{home.instance().name[:50]}-{mark}")


def backup_places(host: Host, home: InstanceFolder | None) -> list[Repository]:
    """The repositories that there are: this host's, and those that an instance was backed up to."""
    roots = [host.places.backups]
    if home is not None and (home.own / LINKS).is_file():
        roots += [Path(one) for one in backup_id(home).places]
    return [Repository(root) for root in dict.fromkeys(roots) if root.is_dir()]


def last_backup(host: Host, home: InstanceFolder, world: str) -> str:
    """The time of the newest backup of an instance that has files of a world (its folder in the instance), or that is
    encrypted; "" where there is none."""
    if not (home.own / LINKS).is_file():
        return ""
    try:
        ident = backup_id(home).id
        found = [(when, one) for one in backup_places(host, home) for when in one.times(ident)]
    except (RhizonError, OSError):
        return ""
    for when, repository in sorted(found, key=lambda one: one[0], reverse=True)[:MOST_READ]:
        with contextlib.suppress(RhizonError, OSError):
            if repository.head(ident, when) is not None:
                return when
            if any(path.startswith(f"{world}/") for path in repository.read(ident, when).world):
                return when
    return ""
