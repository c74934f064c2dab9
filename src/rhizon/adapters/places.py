"""Where Rhizon keeps its own things on this host."""

import os
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import platformdirs

from rhizon.core.errors import StateError

__all__ = ["Places", "places"]


NOWHERE = Path("/dev/null/rhizon")  # nothing can be made there, by the administrator neither


class Places(NamedTuple):
    """``state`` holds the store and the ledger, ``config`` a person's own game definitions. ``trouble`` says why
    nothing may be written there, "" where it may."""

    state: Path
    config: Path
    trouble: str = ""

    def require_state(self) -> None:
        """Raises :class:`StateError` where no state folder is known that could be written to."""
        if self.trouble:
            raise StateError(
                "no-state-folder",
                f"there is no folder for Rhizon's state: {self.trouble}",
                hint="Set RHIZON_STATE to the absolute path of a folder that you can write to.",
            )

    @property
    def store(self) -> Path:
        return self.state / "store"

    @property
    def ledger(self) -> Path:
        return self.state / "ledger.sqlite3"

    @property
    def _caches(self) -> Path:
        """Caches are done without where they cannot be."""
        return NOWHERE if self.trouble else self.state

    @property
    def copies(self) -> Path:
        return self._caches / "catalog-copies.sqlite3"

    @property
    def scans(self) -> Path:
        return self._caches / "archive-facts.sqlite3"

    @property
    def runtimes(self) -> Path:
        return self.state / "runtimes"

    @property
    def carried(self) -> Path:
        return self.state / "pack-archives"

    @property
    def limits(self) -> Path:
        return self.config / "host.toml"

    @property
    def credentials(self) -> Path:
        return self.config / "credentials.toml"

    @property
    def backups(self) -> Path:
        return self.state / "backups"

    @property
    def probes(self) -> Path:
        return self._caches / "runtime-probes.json"


def places() -> Places:
    """RHIZON_STATE and RHIZON_CONFIG name other folders than the system's usual ones.

    What cannot be found out (no home folder, a relative path, which would be another folder elsewhere) keeps nobody
    from reading; writing then says what is needed."""
    state, trouble = _folder("RHIZON_STATE", platformdirs.user_state_dir)
    config, _ = _folder("RHIZON_CONFIG", platformdirs.user_config_dir)
    return Places(state, config, trouble)


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
