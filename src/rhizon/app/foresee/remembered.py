"""Short lists of texts that a server's own folder keeps from one start to the next."""

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.transact import RHIZON
from rhizon.core.errors import StateError

__all__ = ["remembered"]


def remembered(home: InstanceFolder, file: str) -> list[str]:
    """The list in a file of ``.rhizon/``; empty where there is none, or it cannot be read."""
    try:
        data = home.read(f"{RHIZON}/{file}")
        return msgspec.json.decode(data, type=list[str]) if data is not None else []
    except (StateError, msgspec.DecodeError):
        return []
