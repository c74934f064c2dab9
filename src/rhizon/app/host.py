"""What every use case needs of the host, opened once."""

import functools
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from rhizon.adapters.files import read_bytes
from rhizon.adapters.games import Games
from rhizon.adapters.host import ephemeral_ports, memory_mib
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.ledger import Ledger
from rhizon.adapters.places import Places, move_to_places, places
from rhizon.adapters.store import Store
from rhizon.core.allocate.memory import HostMemory
from rhizon.core.allocate.ports import PortRoom, parse_pool
from rhizon.core.model.documents import decode
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.host import HostLimits
from rhizon.core.model.instance import Instance
from rhizon.core.model.lock import Lock
from rhizon.core.runtimes import Family, family_of

if TYPE_CHECKING:
    from rhizon.adapters.catalogs import Catalogs
    from rhizon.adapters.runtimes import FoundRuntime, Runtimes
    from rhizon.adapters.working import Working

__all__ = ["Host", "majors_to_try", "open_ledger", "this_host"]


class Host:
    """This machine as Rhizon sees it; runtimes are looked for once."""

    def __init__(self, found: Places, *, offline: bool = False) -> None:
        self.places = found
        self.offline = offline
        self.store = Store(found.store)
        self.lent_games: Path | None = None  # definitions that a backup brings, while it is restored
        self._finder: Runtimes | None = None
        self._games: dict[tuple[str, str], GameDefinition] = {}
        self._runtimes: dict[str, list[FoundRuntime]] = {}

    def games(self, beside: Path | None = None) -> Games:
        """Game definitions, with those in ``beside`` before the others."""
        return Games(self.places.config, beside, self.lent_games)

    @functools.cached_property
    def limits(self) -> HostLimits:
        """What host.toml gives to game servers. Raises DocumentError."""
        file = self.places.limits
        if not file.is_file():
            return HostLimits(format="rhizon-host/1")
        return decode(HostLimits, read_bytes(file, "host file", 1 << 20), str(file))

    def memory(self, granted_mib: int) -> HostMemory:
        """The host's memory beside what is granted already."""
        return HostMemory(
            total_mib=memory_mib(),
            granted_mib=granted_mib,
            wanted_reserve_mib=self.limits.reserve_mib,
            servers_mib=self.limits.memory_mib,
        )

    def home(self, folder: Path) -> InstanceFolder:
        """The instance in a folder, with the links out of it that the person allows."""
        return InstanceFolder(folder, tuple(Path(one) for one in self.limits.linked))

    @functools.cached_property
    def processes(self) -> "dict[str, list[Working]]":
        """What runs on this machine, by working folder; looked at once."""
        from rhizon.adapters.working import processes_by_folder

        return processes_by_folder()

    def port_room(self) -> PortRoom:
        """Where port numbers may be taken."""
        return PortRoom(pool=parse_pool(self.limits.ports), ephemeral=ephemeral_ports())

    def game_of(self, instance: Instance, lock: Lock | None = None) -> GameDefinition:
        """The definition of an instance's game, found as when it was made, with the settings of the lock's content.

        Each is read once."""
        key = (str(Path(instance.source).parent), instance.game)
        if key not in self._games:
            self._games[key] = self.games(Path(key[0])).get(instance.game)
        if lock is None:
            return self._games[key]
        if not any(one.settings for one in lock.releases):
            return self._games[key].narrowed(lock.target.game_version, lock.target.loader)
        from rhizon.core.settings.content import with_content  # imports every dialect

        return with_content(self._games[key], lock)

    def open_catalogs(self, addresses: tuple[str, ...], beside: Path) -> "Catalogs":
        """The catalogs there, with what this host knows of them and is to them. Raises RemoteError, InputError."""
        from rhizon.adapters.catalogs import open_catalogs  # commands that only look need nothing of these
        from rhizon.adapters.credentials import Credentials
        from rhizon.adapters.http import Network
        from rhizon.adapters.http_cache import Copies

        remote = any("://" in one for one in addresses)
        credentials = Credentials(self.places.credentials, os.environ)
        copies = Copies(self.places.copies) if remote else None
        return open_catalogs(addresses, beside, Network(copies, credentials, offline=self.offline))

    @property
    def runtime_finder(self) -> "Runtimes":
        """Looks for runtimes, and remembers what they said."""
        from rhizon.adapters.runtimes import Runtimes  # only commands that start something need it

        if self._finder is None:
            self._finder = Runtimes(self.places.runtimes, self.places.probes)
        return self._finder

    def every_runtime(self, family: Family) -> "list[FoundRuntime]":
        """Every program of a family, whether it answers or not."""
        if family.title not in self._runtimes:
            self._runtimes[family.title] = self.runtime_finder.find(family)
        return self._runtimes[family.title]

    def runtimes(self, game: GameDefinition) -> "list[FoundRuntime]":
        """The runtimes of the game's family that answer."""
        family = family_of(game.runtime)
        return [one for one in self.every_runtime(family) if one.report is not None] if family is not None else []


def this_host(*, offline: bool = False) -> Host:
    """The host with the person's usual folders. ``offline`` (or RHIZON_OFFLINE) asks no one over a network."""
    found = places()
    move_to_places(found)
    return Host(found, offline=offline or bool(os.environ.get("RHIZON_OFFLINE")))


@contextmanager
def open_ledger(host: Host, *, write: bool = False) -> Iterator[Ledger]:
    """The ledger, closed at the end. Only with ``write`` anything on the disk is touched."""
    if write:
        host.places.require_state()
    ledger = Ledger(host.places.ledger, write=write)
    try:
        yield ledger
    finally:
        ledger.close()


def majors_to_try(game: GameDefinition, found: "list[FoundRuntime]") -> tuple[int, ...]:
    """Runtime majors in order of preference: long-term ones that are here, others that are here, the rest."""
    family = family_of(game.runtime)
    if family is None:
        return (0,)
    here = sorted({one.report.major for one in found if one.report is not None})
    ordered = [one for one in family.long_term if one in here]
    ordered += [one for one in here if one not in ordered]
    return (*ordered, *(one for one in family.long_term if one not in ordered))
