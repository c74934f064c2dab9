"""What an instance's ``.rhizon/`` folder holds beside the lock: ``instance.toml`` and ``inventory.json``."""

from typing import Annotated, Literal

import msgspec

from rhizon.core.model.base import Id, Line, Mib, Port, Sha256, Size, Strict
from rhizon.core.names import UnsafeNameError, safe_path

__all__ = [
    "Instance",
    "Inventory",
    "LicenceAnswer",
    "LifeRules",
    "OwnedFile",
    "PlayersInfo",
    "Restart",
    "RuntimeChoice",
    "ScheduledTask",
]


class RuntimeChoice(Strict, frozen=True, kw_only=True):
    """The runtime that starts the server: its program, its major and its exact version."""

    family: Line
    major: int
    version: Line
    program: Line


Restart = Literal["never", "on-crash", "always"]


class LifeRules(Strict, frozen=True, kw_only=True):
    """What happens after a server exits: ``restart`` after a crash, or always unless it was asked to stop; after
    ``pause_seconds``, doubled each time, at most ``most_restarts`` times within ``within_seconds``.
    Before a restart after a crash its world is backed up, where ``back_up`` says so. ``adjust_memory`` allows more
    memory after it ran out; ``tell`` is a command to run, or an http(s) address to post to, with word of each
    crash."""

    restart: Restart = "on-crash"
    pause_seconds: Annotated[int, msgspec.Meta(ge=0, le=3600)] = 5
    most_restarts: Annotated[int, msgspec.Meta(ge=0, le=100)] = 5
    within_seconds: Annotated[int, msgspec.Meta(ge=1, le=86400)] = 900
    back_up: bool = True
    adjust_memory: bool = False
    tell: Line = ""


class ScheduledTask(Strict, frozen=True, kw_only=True):
    """Something that the machine's timers do regularly: ``when`` as in "daily 04:30"; ``keep`` is the rule by which old
    backups are pruned."""

    what: Literal["backup", "restart", "update"]
    when: Line
    keep: str = ""


class LicenceAnswer(Strict, frozen=True, kw_only=True):
    """A person accepted the licence: when (UTC), and the hash of the text that was accepted."""

    accepted_at: Line
    text_sha256: Sha256


class PlayersInfo(Strict, frozen=True, kw_only=True):
    """What players are told beside the lock: the ``address`` that they use ("" for what Rhizon knows of this machine),
    whom to ask, what the server is about; ``pages`` are folders with a page, whose status file its keeper writes."""

    address: Line = ""
    contact: Line = ""
    description: Line = ""
    pages: tuple[Line, ...] = ()


class Instance(Strict, frozen=True, kw_only=True):
    """``instance.toml``: how this server is run. Secrets are not in it.

    ``settings`` are all that are set; those in ``chosen``, like ``memory_mib``, a person asked for beside the source,
    and they outlast it, as do those in ``drawn``, which Rhizon chose since no one did, and the content that is to be
    left out (``without``) or ``held`` at other releases than the source says. ``world_from`` says where the
    world came from, where that is not the game's own making. ``rented`` is the remote whose limits it keeps to.
    """

    format: Literal["rhizon-instance/1"]
    name: Id
    game: Id
    note: Line = ""
    source: Line
    catalogs: tuple[Line, ...] = ()
    runtime: RuntimeChoice | None = None
    heap_mib: Mib
    memory_mib: Mib | None = None
    ports: dict[Id, Port]
    settings: dict[Id, str | int | bool] = {}
    chosen: tuple[Id, ...] = ()
    without: tuple[Id, ...] = ()
    held: dict[Id, Line] = {}
    drawn: tuple[Id, ...] = ()
    world_from: Line = ""
    licence: LicenceAnswer | None = None
    first_start_done: bool = False
    life: LifeRules = LifeRules()
    schedule: tuple[ScheduledTask, ...] = ()
    players: PlayersInfo = PlayersInfo()
    rented: Line = ""


class OwnedFile(Strict, frozen=True, kw_only=True):
    """A file that Rhizon put there. ``origin`` is where it came from; ``edited`` files may change in use, and those
    that are ``executable`` are programs."""

    sha256: Sha256
    size: Size
    origin: Line
    edited: bool = False
    executable: bool = False


class Inventory(Strict, frozen=True, kw_only=True):
    """``inventory.json``: every file that Rhizon put into the instance, by its path there."""

    format: Literal["rhizon-inventory/1"]
    files: dict[str, OwnedFile]

    def __post_init__(self) -> None:
        for path in self.files:  # keys of a table are not decoded by type
            try:
                safe_path(path)
            except UnsafeNameError as why:
                raise ValueError(f"files: {path!r}: {why}") from None
