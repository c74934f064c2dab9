"""Where Rhizon keeps its own things on this host."""

import os
from pathlib import Path
from typing import NamedTuple

import platformdirs

__all__ = ["Places", "places"]


class Places(NamedTuple):
    """``state`` holds the store and the ledger, ``config`` a person's own game definitions."""

    state: Path
    config: Path

    @property
    def store(self) -> Path:
        return self.state / "store"

    @property
    def ledger(self) -> Path:
        return self.state / "ledger.sqlite3"

    @property
    def copies(self) -> Path:
        return self.state / "catalog-copies.sqlite3"

    @property
    def scans(self) -> Path:
        return self.state / "archive-facts.sqlite3"

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
        return self.state / "runtime-probes.json"


def places() -> Places:
    """RHIZON_STATE and RHIZON_CONFIG name other folders than the system's usual ones."""
    state = os.environ.get("RHIZON_STATE") or platformdirs.user_state_dir("rhizon", appauthor=False)
    config = os.environ.get("RHIZON_CONFIG") or platformdirs.user_config_dir("rhizon", appauthor=False)
    return Places(Path(state).expanduser().absolute(), Path(config).expanduser().absolute())
