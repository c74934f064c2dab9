"""What looked like a failure in starts of a server that went well, as fingerprints: it is known to be harmless."""

from collections.abc import Sequence

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.app.foresee.remembered import remembered

__all__ = ["remember_good_run", "seen_in_good_runs"]

FILE = "good-runs.json"  # in .rhizon/: fingerprints, the newest last
MOST = 2000


def seen_in_good_runs(home: InstanceFolder) -> list[str]:
    """The fingerprints; none where nothing was remembered, or it cannot be read."""
    return remembered(home, FILE)


def remember_good_run(home: InstanceFolder, got_over: Sequence[str]) -> None:
    """Adds what a server that is ready got over. Nothing is written where all of it is known."""
    known = seen_in_good_runs(home)
    if new := [one for one in got_over if one not in known]:
        home.write_own(FILE, msgspec.json.encode([*known, *new][-MOST:]))
