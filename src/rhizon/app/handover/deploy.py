"""From a server or a source to what an engine has to know of it."""

import hashlib
from pathlib import Path

import msgspec

from rhizon import __version__
from rhizon.adapters.games import ENDING
from rhizon.app.choose.resolve import catalogs_for, solve_source
from rhizon.app.choose.sources import Source, read_any
from rhizon.app.host import Host
from rhizon.app.instance.own_definitions import own_definitions
from rhizon.app.instance.refetch import fetch_locked, refetch_lock
from rhizon.app.keep.export import instance_lock
from rhizon.app.reporter import Reporter
from rhizon.app.tune.list_settings import list_settings
from rhizon.core.allocate.memory import budget
from rhizon.core.allocate.port_roles import port_places, port_wishes, protocols_of
from rhizon.core.allocate.ports import PortRoom, allocate
from rhizon.core.errors import InputError
from rhizon.core.handover.deployment import DeployedPort, Deployment, container_memory_mib
from rhizon.core.model.decode import encode_json
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.lock import Lock
from rhizon.core.model.setting import PortDefinition
from rhizon.core.settings.apply import checked_settings
from rhizon.core.settings.content import with_content

__all__ = ["DeployWishes", "deployment_of"]

START_SPARE = 120  # seconds beside what a definition allows for a start
STOP_SPARE = 60
DISK_SPARE_MIB = 1024  # for the world, logs and Rhizon's own


class DeployWishes(msgspec.Struct, frozen=True, kw_only=True):
    """``source`` is the folder of a server, or a list, pack or lock; ``name`` and ``image`` replace those that follow
    from it. ``secrets`` are secret settings beside those that are known to be set. With ``fetching`` the server fetches
    from its catalogs when it is made, instead of having everything in its image. Of a source, ports are of the ``pool``
    (empty: near their defaults), not ``taken``, the first of them ``fixed``."""

    source: Path
    name: str | None = None
    game: str | None = None
    image: str = ""
    catalogs: tuple[str, ...] = ()
    memory_mib: int | None = None
    secrets: tuple[str, ...] = ()
    accept_licence: bool = False
    allow_installer: bool = False
    fetching: bool = False
    pool: tuple[int, ...] = ()
    taken: frozenset[int] = frozenset()
    fixed: tuple[int, ...] = ()


class _Known(msgspec.Struct, frozen=True, kw_only=True):
    name: str
    title: str
    game: GameDefinition
    lock: Lock
    heap_mib: int
    ports: dict[str, int]
    catalogs: tuple[str, ...]
    secrets: tuple[str, ...]
    licence: bool
    beside: Path


def deployment_of(host: Host, wishes: DeployWishes, reporter: Reporter) -> tuple[Deployment, Lock]:
    """What an engine has to know, and the lock. All that the lock names is in the store then. Raises InputError,
    StateError, NoSolutionError, RemoteError."""
    known = _of_server(host, wishes, reporter) if wishes.source.is_dir() and host.home(wishes.source).is_ours else None
    if known is None:
        known = _of_source(host, wishes, reporter)
    lock, game = known.lock, known.game
    text = encode_json(lock).decode()
    sha256 = hashlib.sha256(text.encode()).hexdigest()
    addresses = tuple(one for one in known.catalogs if "://" in one)
    if wishes.fetching and not addresses:
        raise InputError(
            "no-catalog-address",
            f"{known.name} has no catalog with an address that a container could reach",
            hint="Name one with --catalog, or leave out --fetch: then everything is in the image.",
        )
    unknown = sorted(set(wishes.secrets) - {one for one, setting in game.settings.items() if setting.secret})
    if unknown:
        raise InputError(
            "not-a-secret",
            f"{unknown[0]} is not a secret setting of {game.id}",
            hint=f"See its settings: rhizon game show {game.id}",
        )
    definitions = own_definitions(host, game.id, known.beside)
    return (
        Deployment(
            name=known.name,
            title=known.title,
            image=wishes.image or f"{known.name}:{sha256[:12]}",
            version=__version__,
            lock=text,
            lock_sha256=sha256,
            files={f"config/games/{one}{ENDING}": text for one, text in definitions.items()},
            heap_mib=known.heap_mib,
            need_mib=known.heap_mib + game.memory.outside_heap_mib,
            memory_mib=container_memory_mib(known.heap_mib + game.memory.outside_heap_mib),
            ports=_ports(game, lock, known.ports),
            roles=_chosen_roles(game, lock, known.ports),
            secrets=tuple(dict.fromkeys((*known.secrets, *wishes.secrets))),
            catalogs=addresses if wishes.fetching else (),
            whole=not wishes.fetching,
            has_licence=game.licence is not None,
            accept_licence=known.licence and game.licence is not None,
            allow_installer=wishes.allow_installer,
            disk_mib=_disk_mib(lock),
            ready_seconds=game.log.ready_seconds + START_SPARE,
            stop_seconds=game.console.stop_seconds * (2 if game.console.stop_signal else 1) + STOP_SPARE,
        ),
        lock,
    )


def _of_server(host: Host, wishes: DeployWishes, reporter: Reporter) -> _Known:
    home = host.home(wishes.source).required()
    instance = home.instance()
    lock = instance_lock(host, wishes.source, None).lock
    refetch_lock(host, lock, (*wishes.catalogs, *instance.catalogs), reporter)
    rows = list_settings(host, wishes.source, reveal=False).settings
    return _Known(
        name=wishes.name or instance.name,
        title=lock.title,
        game=host.game_of(instance, lock),
        lock=lock,
        heap_mib=wishes.memory_mib or instance.heap_mib,
        ports=dict(instance.ports),
        catalogs=(*wishes.catalogs, *instance.catalogs),
        secrets=tuple(one.name for one in rows if one.secret and one.is_set),
        licence=wishes.accept_licence or instance.licence is not None,
        beside=Path(instance.source).parent,
    )


def _of_source(host: Host, wishes: DeployWishes, reporter: Reporter) -> _Known:
    """Solved and fetched; what this machine has (runtimes, memory, ports) does not matter."""
    source = read_any(host, wishes.source, wishes.game, reporter)
    game = host.games(source.beside).get(source.game)
    catalogs = catalogs_for(host, source, game, wishes.catalogs, reporter)
    lock = solve_source(host, source, game, catalogs, reporter).solution.lock
    game = with_content(game, lock)
    settings = checked_settings(game, source.settings, source.label)
    for data in (*source.overlay.values(), *source.player_overlay.values()):
        host.store.add(data)
    addresses = (*wishes.catalogs, *(_beside(source, one) for one in source.catalogs))
    fetch_locked(host, lock, catalogs, reporter)
    name = wishes.name or source.name
    return _Known(
        name=name,
        title=source.title,
        game=game,
        lock=lock,
        heap_mib=wishes.memory_mib
        or source.memory_mib
        or budget(game, lock.releases, settings, source.pack_memory).heap_mib,
        ports=_allocated(game, lock, source, wishes),
        catalogs=addresses,
        secrets=tuple(source.secrets),
        licence=wishes.accept_licence,
        beside=source.beside.absolute(),
    )


def _allocated(game: GameDefinition, lock: Lock, source: Source, wishes: DeployWishes) -> dict[str, int]:
    roles = _chosen_roles(game, lock, dict.fromkeys(port_places(game, lock), 0))
    fixed = {**source.ports, **dict(zip(roles, wishes.fixed, strict=False))}

    def holder(number: int, _: str) -> str | None:
        return "another server" if number in wishes.taken else None

    return allocate(port_wishes(game, lock, {}), fixed, holder, PortRoom(pool=wishes.pool))


def _beside(source: Source, address: str) -> str:
    return address if "://" in address else str((source.beside / address).absolute())


def _ports(game: GameDefinition, lock: Lock, ports: dict[str, int]) -> tuple[DeployedPort, ...]:
    protocols = protocols_of(game, lock)
    counts = {one.role: one.count for one in game.ports}
    return tuple(
        DeployedPort(role, number + more, tuple(protocols[role]))
        for role, number in ports.items()
        if role in protocols
        for more in range(counts.get(role, 1))
    )


def _chosen_roles(game: GameDefinition, lock: Lock, ports: dict[str, int]) -> dict[str, int]:
    """The roles whose number can be asked for: those that do not follow from another."""
    places = port_places(game, lock)
    follows = {role for role, one in places.items() if isinstance(one, PortDefinition) and one.offset_of}
    return {role: number for role, number in ports.items() if role in places and role not in follows}


def _disk_mib(lock: Lock) -> int:
    """Twice what the archives take (the store and the folder), and room for the world."""
    loader = [lock.loader.file.size] if lock.loader is not None else []
    size = sum([lock.server.size, *loader, *(one.file.size for one in lock.releases)])
    return DISK_SPARE_MIB + 2 * -(-size // (1 << 20))
