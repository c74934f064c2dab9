"""Where Rhizon keeps its own things on this host.

Data (the store, fetched runtimes, backups), state (the ledger, names of backup keys) and caches (what was read and
asked) are each in the folder that the platform means for it. RHIZON_STATE names one folder for all of them.
"""

import contextlib
import os
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import platformdirs

from rhizon.core.errors import StateError

__all__ = ["Places", "move_to_places", "places"]

NOWHERE = Path("/dev/null/rhizon")  # nothing can be made there, not even by the administrator
DATA = ("store", "runtimes", "backups")
CACHES = ("catalog-copies.sqlite3", "archive-facts.sqlite3", "runtime-probes.json", "pack-archives")


class Places(NamedTuple):
    """The folders of this host; ``config`` has a person's own documents. ``trouble`` says why nothing may be written in
    the others, "" where it may."""

    data: Path
    state: Path
    cache: Path
    config: Path
    trouble: str = ""

    def require_state(self) -> None:
        """Raises :class:`StateError` where no folder is known that could be written to."""
        if self.trouble:
            raise StateError(
                "no-state-folder",
                f"there is no folder for Rhizon's data and state: {self.trouble}",
                hint="Set RHIZON_STATE to the absolute path of a folder that you can write to.",
            )

    def _data(self, name: str) -> Path:
        """In the data folder; where an earlier version kept it if it could not be moved."""
        old, new = self.state / name, self.data / name
        return old if self.data != self.state and not new.exists() and old.exists() else new

    @property
    def _caches(self) -> Path:
        """Rhizon works without caches where there cannot be any."""
        return NOWHERE if self.trouble else self.cache

    @property
    def written(self) -> tuple[Path, ...]:
        """All folders that Rhizon writes to."""
        return (self.data, self.state, self.cache)

    @property
    def store(self) -> Path:
        """Fetched files by hash."""
        return self._data("store")

    @property
    def runtimes(self) -> Path:
        """Runtimes that Rhizon has fetched."""
        return self._data("runtimes")

    @property
    def backups(self) -> Path:
        """This machine's own repository of backups."""
        return self._data("backups")

    @property
    def deleted(self) -> Path:
        """What a deleted server's backup does not have: archives of files that Rhizon did not place."""
        return self._data("deleted")

    @property
    def ledger(self) -> Path:
        """What the servers of this machine hold."""
        return self.state / "ledger.sqlite3"

    @property
    def copies(self) -> Path:
        """Catalog documents as they came over a network (a cache)."""
        return self._caches / "catalog-copies.sqlite3"

    @property
    def scans(self) -> Path:
        """Facts of archives by hash (a cache)."""
        return self._caches / "archive-facts.sqlite3"

    @property
    def probes(self) -> Path:
        """What runtimes said of themselves (a cache)."""
        return self._caches / "runtime-probes.json"

    @property
    def carried(self) -> Path:
        """Archives of packs, laid out to be read (a cache)."""
        return self._caches / "pack-archives"

    @property
    def limits(self) -> Path:
        """The host file."""
        return self.config / "host.toml"

    @property
    def remotes(self) -> Path:
        """Definitions of rented servers, by their names."""
        return self.config / "remotes"

    @property
    def known_hosts(self) -> Path:
        """The keys of machines that were accepted, as OpenSSH writes them."""
        return self.config / "known-hosts"

    @property
    def credentials(self) -> Path:
        """The credentials of catalogs."""
        return self.config / "credentials.toml"


def places() -> Places:
    """RHIZON_STATE names one folder for data, state and caches; RHIZON_DATA, RHIZON_CACHE and RHIZON_CONFIG name each
    of the others.

    What cannot be found out (no home folder, a relative path, which would be another folder elsewhere) keeps no one
    from reading; writing then says what is needed."""
    state, trouble = _folder("RHIZON_STATE", platformdirs.user_state_dir)
    together = "RHIZON_STATE" in os.environ
    data, cache = state, state
    for variable, usual in (("RHIZON_DATA", platformdirs.user_data_dir), ("RHIZON_CACHE", platformdirs.user_cache_dir)):
        if together and variable not in os.environ:
            continue
        folder, wrong = _folder(variable, usual)
        trouble = trouble or wrong
        data, cache = (folder, cache) if variable == "RHIZON_DATA" else (data, folder)
    config, _ = _folder("RHIZON_CONFIG", platformdirs.user_config_dir)
    return Places(data, state, cache, config, trouble)


def move_to_places(found: Places) -> None:
    """Moves what an earlier version kept in the state folder to the data and cache folders; once, by renaming. What
    cannot be moved (another file system) stays, and is used where it is. A link stays behind for runtimes, since
    servers name their program by its path."""
    if found.trouble:
        return
    for folder, names in ((found.data, DATA), (found.cache, CACHES)):
        for name in names if folder != found.state else ():
            old, new = found.state / name, folder / name
            if old.is_symlink() or not old.exists() or new.exists():
                continue
            with contextlib.suppress(OSError):
                folder.mkdir(parents=True, exist_ok=True)
                old.rename(new)
                if name == "runtimes":
                    old.symlink_to(new)


def _folder(variable: str, usual: Callable[..., str]) -> tuple[Path, str]:
    """The folder, and what is wrong with it."""
    named = os.environ.get(variable)
    if named is not None:
        try:
            folder = Path(named).expanduser()
        except RuntimeError:
            return NOWHERE, f"{variable} is {named}, and there is no home folder"
        if not named.strip():
            return NOWHERE, f"{variable} is empty"
        if not folder.is_absolute():
            return folder.absolute(), f"{variable} is a relative path, {named}"
        return folder, f"{folder} is not a folder" if folder.exists() and not folder.is_dir() else ""
    try:
        folder = Path(usual("rhizon", appauthor=False)).expanduser()
    except (RuntimeError, KeyError, OSError):
        return NOWHERE, f"no home folder is known, and {variable} is not set"
    if not folder.is_absolute():
        return NOWHERE, f"no home folder is known, and {variable} is not set"
    return folder, ""
