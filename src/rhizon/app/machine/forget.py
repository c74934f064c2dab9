"""Stop using Rhizon for a server: free what it holds, and leave its files alone."""

from pathlib import Path

import msgspec

from rhizon.adapters.host import now
from rhizon.adapters.instances import FORGOTTEN, INSTANCE
from rhizon.app.host import Host, open_ledger
from rhizon.app.instance.exclusive import exclusive, require_stopped
from rhizon.app.instance.reservations import known_servers
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError

__all__ = ["ForgetResult", "forget"]


class ForgetResult(msgspec.Struct, frozen=True, kw_only=True):
    """What was freed, or would be (``planned``): ports by role, memory in MiB. ``absent``: its folder was not found, so
    that nothing could be marked there. ``source`` is what it was made from, "" where that is not known."""

    folder: str
    name: str
    source: str
    planned: bool
    absent: bool
    memory_mib: int
    ports: dict[str, int]


def forget(
    host: Host, named: Path, reporter: Reporter, *, stop_first: bool = False, dry_run: bool = False
) -> ForgetResult:
    """Frees the ports and memory of the server in a folder. Its files, worlds and backups stay; its folder
    is marked, so that no command takes it for an instance until it is provisioned again.

    Raises InputError (no such server), :class:`~rhizon.core.errors.StateError` (it runs)."""
    folder = str(named.absolute())
    servers, _ = known_servers(host)
    found = [one for one in servers if one.entry.folder == folder]
    if not found:
        if host.home(Path(folder)).is_forgotten:  # a command that was killed may have left its row
            with open_ledger(host, write=True) as ledger, ledger.claim():
                ledger.drop(folder)
        raise InputError(
            "no-such-server",
            f"no server of this machine is in {folder}",
            hint="See all of them: rhizon list",
        )
    server = found[0]
    entry = server.entry
    home = host.home(Path(entry.folder))
    absent = server.presence == "absent"
    record = home.sound(INSTANCE) if not absent else None
    if not dry_run and absent:
        with open_ledger(host, write=True) as ledger, ledger.claim():
            ledger.drop(entry.folder)
    elif not dry_run:
        with exclusive(host, home, reporter):
            require_stopped(host, home, reporter, stop_first=stop_first)
            home.write_own(FORGOTTEN, now().encode())  # the ledger follows the folder
        with open_ledger(host, write=True) as ledger, ledger.claim():
            ledger.drop(entry.folder)
    return ForgetResult(
        folder=entry.folder,
        name=entry.name,
        source=record.source if record is not None else "",
        planned=dry_run,
        absent=absent,
        memory_mib=entry.memory_mib,
        ports=entry.ports,
    )
