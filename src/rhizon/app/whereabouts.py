"""An instance whose folder was moved or copied by hand: noticed by whatever command is used on it next."""

import msgspec

from rhizon.adapters.instances import LOCK, InstanceFolder
from rhizon.app.context import Host, open_ledger
from rhizon.app.holding import record
from rhizon.app.ports import every_number
from rhizon.core.errors import RhizonError

__all__ = ["Whereabouts", "put_right"]


class Whereabouts(msgspec.Struct, frozen=True, kw_only=True):
    """What the ledger did not know: ``was`` is the folder that it knew the instance in ("" where it knew none of it).
    ``held_by`` names another server that has its ``port``, which keeps it out of the ledger."""

    was: str
    held_by: str = ""
    port: int = 0

    @property
    def words(self) -> str:
        """For a person."""
        if self.held_by:
            return f"this host's ledger does not know it, and {self.held_by} has its port {self.port}: is it a copy?"
        if self.was:
            return f"it was moved here from {self.was}; the ledger has it at its new place now"
        return "this host's ledger did not know it; it does now"


def put_right(host: Host, home: InstanceFolder) -> Whereabouts | None:
    """Writes an instance into the ledger that is not in it, unless another one has its ports. None where it is there as
    it should be, or where it cannot be told what it holds."""
    if not (home.is_ours and home.has(LOCK)):
        return None
    with open_ledger(host) as ledger:
        if any(one.folder == str(home.folder) for one in ledger.entries()):
            return None
        try:
            instance, lock = home.instance(), home.lock()
            game = host.game_of(instance, lock)
        except RhizonError:
            return None  # whoever reads them next says what is wrong
        numbers = every_number(game, instance.ports)
        with ledger.claim():
            here = ledger.entries()
            for one in here:
                taken = sorted(set(numbers.values()) & set(one.ports.values()))
                if taken:
                    return Whereabouts(was="", held_by=f"{one.name} ({one.folder})", port=taken[0])
            gone = ledger.entries(missing=True)
            was = next((one.folder for one in gone if (one.name, one.ports) == (instance.name, numbers)), "")
            record(ledger, game, lock, home, instance)
    return Whereabouts(was=was)
