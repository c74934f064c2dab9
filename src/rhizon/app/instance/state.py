"""One server as a use case works with it: its folder, its game and its documents, loaded and checked once."""

from typing import Self

import msgspec

from rhizon.adapters.instances import INSTANCE, INVENTORY, LOCK, InstanceFolder
from rhizon.app.host import Host
from rhizon.core.changes import Changes, changes_between
from rhizon.core.errors import StateError
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance, Inventory
from rhizon.core.model.kept import KeptState
from rhizon.core.model.lock import Lock

__all__ = ["InstanceState", "compare_states", "load_state", "require_instance_state", "require_loaded"]


class InstanceState(msgspec.Struct, frozen=True, kw_only=True):
    """All that a server is but for the bytes of its files, at one moment or as it should be.

    ``game`` has the settings of the lock's content, too.
    """

    home: InstanceFolder
    game: GameDefinition
    lock: Lock
    instance: Instance
    inventory: Inventory

    def with_instance(self, instance: Instance) -> Self:
        """The same server with another ``instance.toml``."""
        return msgspec.structs.replace(self, instance=instance)

    def as_kept(self, kept: KeptState) -> "InstanceState":
        """This server as it was in a kept state or a backup."""
        return InstanceState(
            home=self.home, game=self.game, lock=kept.lock, instance=kept.instance, inventory=kept.inventory
        )

    def has_same_documents(self, other: "InstanceState | None") -> bool:
        """Whether both have the same lock, instance record and inventory."""
        return other is not None and (self.lock, self.instance, self.inventory) == (
            other.lock,
            other.instance,
            other.inventory,
        )


def load_state(host: Host, home: InstanceFolder, game: GameDefinition | None = None) -> InstanceState | None:
    """The server as far as its documents or their copies can be read; None when there is none, or one of them cannot
    be found anywhere. ``game`` is its definition where the caller has it. Raises InputError where there is none."""
    if not home.is_ours:
        return None
    lock, instance, inventory = (home.sound(name) for name in (LOCK, INSTANCE, INVENTORY))
    if lock is None or instance is None or inventory is None:
        return None
    game = game if game is not None else host.game_of(instance, lock)
    return InstanceState(home=home, game=game, lock=lock, instance=instance, inventory=inventory)


def require_instance_state(host: Host, home: InstanceFolder) -> InstanceState:
    """The server. Raises :class:`StateError` where there is none or a document is damaged, InputError where its game
    has no definition."""
    home.required()
    lock, instance = home.lock(), home.instance()
    return InstanceState(
        home=home, game=host.game_of(instance, lock), lock=lock, instance=instance, inventory=home.inventory()
    )


def require_loaded(host: Host, home: InstanceFolder) -> InstanceState:
    """The same, which takes the copy of a damaged document. Raises :class:`StateError` where there is no copy."""
    state = load_state(host, home.required())
    if state is None:
        home.instance(), home.lock(), home.inventory()  # the damaged one says what to do
        raise StateError("instance-damaged", f"the records in {home.own} changed meanwhile", hint="Run it again.")
    return state


def compare_states(before: InstanceState | KeptState, after: InstanceState | KeptState) -> Changes:
    """What differs between two states of a server."""
    old, new = before.instance, after.instance
    return changes_between(
        before.lock, after.lock, (old.settings, new.settings), (old.ports, new.ports), (old.heap_mib, new.heap_mib)
    )
