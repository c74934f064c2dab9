"""How much heap a server gets."""

import msgspec

from rhizon.core.errors import StateError
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.lock import LockedRelease
from rhizon.core.model.pack import PackMemory

__all__ = ["STEP_MIB", "HostMemory", "MemoryBudget", "budget", "grant"]

# What the operating system itself keeps: an eighth, but from 256 MiB to 2 GiB.
RESERVE_SHARE = 8
LEAST_RESERVE_MIB = 256
MOST_RESERVE_MIB = 2048
STEP_MIB = 32


class HostMemory(msgspec.Struct, frozen=True, kw_only=True):
    """MiB: what the host has (its control group's limit where that is lower), what others were granted, what a person
    wants to be left to the machine, and the most that all servers may have together."""

    total_mib: int
    granted_mib: int = 0
    wanted_reserve_mib: int | None = None
    servers_mib: int | None = None

    @property
    def reserve_mib(self) -> int:
        """What is left to the system."""
        if self.wanted_reserve_mib is not None:
            return self.wanted_reserve_mib
        return min(max(self.total_mib // RESERVE_SHARE, LEAST_RESERVE_MIB), MOST_RESERVE_MIB)

    @property
    def free_mib(self) -> int:
        """What can still be granted, never below 0."""
        return max(self.for_servers_mib - self.granted_mib, 0)

    @property
    def for_servers_mib(self) -> int:
        """The most that all servers may have together."""
        left = self.total_mib - self.reserve_mib
        return max(left if self.servers_mib is None else min(left, self.servers_mib), 0)


class MemoryBudget(msgspec.Struct, frozen=True, kw_only=True):
    """MiB of heap by what needs it; ``outside_heap_mib`` is the runtime's own and comes on top."""

    base_mib: int
    players_mib: int
    content_mib: int
    settings_mib: int
    outside_heap_mib: int
    heap_mib: int
    because: str

    @property
    def parts_mib(self) -> int:
        """What the parts of the heap add up to."""
        return self.base_mib + self.players_mib + self.content_mib + self.settings_mib


def budget(
    game: GameDefinition,
    releases: tuple[LockedRelease, ...],
    settings: dict[str, str | int | bool],
    pack: PackMemory | None = None,
) -> MemoryBudget:
    """The heap that the parts add up to, or the pack author's recommendation where that is more."""
    model = game.memory

    def number(name: str) -> int:
        value = settings.get(name, game.settings[name].default if name in game.settings else 0)
        return int(value)

    players = model.per_player_mib * number("max_players")
    content = sum(
        one.memory_mib if one.memory_mib is not None else model.per_content_mib for one in releases if one.on_server
    )
    by_settings = sum(mib * number(name) for name, mib in model.per_setting_mib.items())
    parts = model.base_mib + players + content + by_settings
    heap, because = parts, "the game, its content, players and world"
    if pack is not None and pack.recommended_mib > heap:
        heap, because = pack.recommended_mib, "recommended by the pack's author"
    heap = max(heap, model.least_mib)
    return MemoryBudget(
        base_mib=model.base_mib,
        players_mib=players,
        content_mib=content,
        settings_mib=by_settings,
        outside_heap_mib=model.outside_heap_mib,
        heap_mib=-(-heap // STEP_MIB) * STEP_MIB,
        because=because,
    )


def grant(game: GameDefinition, wanted: MemoryBudget, host: HostMemory, fixed_mib: int | None = None) -> int:
    """The heap in MiB; :class:`StateError` where the host does not have it."""
    heap = fixed_mib if fixed_mib is not None else wanted.heap_mib
    if heap < game.memory.least_mib:
        raise StateError(
            "memory-too-small",
            f"{heap} MiB of heap is less than {game.title} can start with ({game.memory.least_mib} MiB)",
            hint=f"Leave --memory out; {wanted.heap_mib} MiB is recommended here.",
        )
    needed = heap + wanted.outside_heap_mib
    if needed > host.free_mib:
        raise StateError(
            "memory-short",
            f"the server needs {needed} MiB ({heap} of heap and {wanted.outside_heap_mib} beside it), "
            f"this machine can grant {host.free_mib} MiB",
            details=[
                f"{host.total_mib} MiB in total, {host.for_servers_mib} of it for servers",
                f"{host.granted_mib} MiB granted to other servers",
            ],
            hint="Plan fewer players or a smaller world, give a smaller --memory, or forget a server that is no "
            "longer needed; see all of them: rhizon list",
        )
    return heap
