"""All servers of this machine, looked at again and again: what does not change is read once."""

import time
from pathlib import Path

import msgspec

from rhizon.adapters.instances import INSTANCE
from rhizon.adapters.processes import Usage, usage_of
from rhizon.app.host import Host
from rhizon.app.instance.reservations import known_servers
from rhizon.app.instance.server_state import ServerState, state_of
from rhizon.app.run.status import ServerStatus, status
from rhizon.core.errors import RhizonError

__all__ = ["Overview"]

RELIST_SECONDS = 10.0


class Overview:
    """Looks at every server of the ledger. The share of a processor is that since the last look."""

    def __init__(self, host: Host) -> None:
        self._host = host
        self._known: dict[str, tuple[int, ServerStatus]] = {}
        self._listed = time.monotonic()
        self._used: dict[int, tuple[float, float]] = {}

    def look(self) -> list[ServerStatus]:
        """How they are now; those that cannot be read are left out."""
        found = []
        if time.monotonic() - self._listed > RELIST_SECONDS:  # servers that others started
            self._listed = time.monotonic()
            vars(self._host).pop("processes", None)
        for server in known_servers(self._host)[0]:
            if server.presence == "here":
                try:
                    found.append(self._one(Path(server.entry.folder)))
                except (RhizonError, OSError):
                    continue
        return found

    def _one(self, folder: Path) -> ServerStatus:
        """One server: whole where its record is new, else only what changes."""
        home = self._host.home(folder)
        stamp = (home.own / INSTANCE).stat().st_mtime_ns
        known = self._known.get(str(folder))
        if known is None or known[0] != stamp:
            whole = status(self._host, folder)
            self._known[str(folder)] = (stamp, whole)
            return whole
        now = state_of(self._host, home)
        usage = self._usage(now)
        return msgspec.structs.replace(
            known[1],
            now=now,
            memory_mib=usage.memory_mib if usage is not None else None,
            processor=usage.processor if usage is not None else None,
        )

    def _usage(self, now: ServerState) -> Usage | None:
        """Memory now, and the processor since the last look."""
        if now.pid is None:
            return None
        usage = usage_of(now.pid)
        if usage is None:
            return None
        at = time.monotonic()
        before = self._used.get(now.pid)
        self._used[now.pid] = (at, usage.seconds)
        if before is None or at - before[0] < 0.1:
            return usage
        return usage._replace(processor=round(max(usage.seconds - before[1], 0) / (at - before[0]), 3))
