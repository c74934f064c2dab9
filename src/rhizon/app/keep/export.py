"""What a server is made of, to be looked at or taken elsewhere: its lock, or a bill of materials."""

import json
from pathlib import Path
from typing import Any

import msgspec

from rhizon.adapters.files import translated, write_atomic
from rhizon.app.choose.beside_lock import archives_beside, put_beside
from rhizon.app.host import Host
from rhizon.core.errors import StateError
from rhizon.core.model.decode import encode_json
from rhizon.core.model.lock import Lock

__all__ = ["BomResult", "LockResult", "export_bom", "instance_lock"]


class LockResult(msgspec.Struct, frozen=True, kw_only=True):
    """A server's lock, the file it was written to, and the folder beside it with as many ``own`` files that no catalog
    has."""

    name: str
    lock: Lock
    file: str | None
    archives: str | None
    own: int


class BomResult(msgspec.Struct, frozen=True, kw_only=True):
    """A bill of materials in the format CycloneDX, how many components it lists, and the file it was written to."""

    name: str
    components: int
    file: str | None
    bill: dict[str, Any]


def instance_lock(host: Host, folder: Path, file: Path | None, *, write: bool = True) -> LockResult:
    """The lock of a server with the settings that it really has (no secrets), so that another one made from it is the
    same; written to ``file`` where one is named, with the files that no catalog has beside it. Raises
    :class:`~rhizon.core.errors.StateError`."""
    home = host.home(folder).required()
    instance, lock = home.instance(), home.lock()
    lock = msgspec.structs.replace(
        lock,
        settings=dict(sorted(instance.settings.items())),
        memory_mib=instance.memory_mib if instance.memory_mib is not None else lock.memory_mib,
    )
    if file is not None and write:
        with translated("write the lock", file):
            write_atomic(file.absolute(), encode_json(lock))
    own = put_beside(host, lock, file.absolute(), write=write) if file is not None else 0
    return LockResult(
        name=instance.name,
        lock=lock,
        file=str(file) if file is not None else None,
        archives=str(archives_beside(file)) if file is not None and own else None,
        own=own,
    )


def export_bom(host: Host, folder: Path, file: Path | None, *, write: bool = True) -> BomResult:
    """The bill of materials of a server; written to ``file`` where one is named. Raises
    :class:`~rhizon.core.errors.StateError`, also where the extra that it needs is not installed."""
    from rhizon.core.bom import bill_of_materials

    home = host.home(folder).required()
    instance = home.instance()
    try:
        data = bill_of_materials(home.lock(), instance)
    except ModuleNotFoundError:
        raise StateError(
            "no-cyclonedx",
            "a bill of materials needs the CycloneDX library, which is not installed",
            hint="Install it with Rhizon's extra: pip install 'rhizon[bom]'",
        ) from None
    if file is not None and write:
        with translated("write the bill of materials", file):
            write_atomic(file.absolute(), data)
    bill = json.loads(data)
    return BomResult(
        name=instance.name, components=len(bill["components"]), file=str(file) if file is not None else None, bill=bill
    )
