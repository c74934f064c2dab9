"""What an instance is made of, to be looked at or taken elsewhere: its lock, or a bill of materials."""

from pathlib import Path

import msgspec

from rhizon.adapters.files import translated, write_atomic
from rhizon.adapters.instances import InstanceFolder
from rhizon.app.instance.change import require_instance_state
from rhizon.core.bom import bill_of_materials
from rhizon.core.model.decode import encode_json
from rhizon.core.model.lock import Lock

__all__ = ["export_bom", "instance_lock"]


def instance_lock(folder: Path, file: Path | None) -> Lock:
    """The lock of an instance with the settings that it really has (no secrets), so that another one made from it is
    the same; written to ``file`` where one is named. Raises :class:`~rhizon.core.errors.StateError`."""
    state = require_instance_state(InstanceFolder(folder))
    instance = state.instance
    lock = msgspec.structs.replace(
        state.lock,
        settings=dict(sorted(instance.settings.items())),
        memory_mib=instance.memory_mib if instance.memory_mib is not None else state.lock.memory_mib,
    )
    if file is not None:
        with translated("write the lock", file):
            write_atomic(file.absolute(), encode_json(lock))
    return lock


def export_bom(folder: Path, file: Path | None) -> bytes:
    """The bill of materials of an instance (see :func:`bill_of_materials`); written to ``file`` where one is named."""
    state = require_instance_state(InstanceFolder(folder))
    data = bill_of_materials(state.lock, state.instance)
    if file is not None:
        with translated("write the bill of materials", file):
            write_atomic(file.absolute(), data)
    return data
