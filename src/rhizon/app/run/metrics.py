"""Figures of all servers of this machine in the OpenMetrics format, for monitoring."""

import contextlib
import shutil
import time
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from rhizon.adapters.files import translated
from rhizon.app.host import Host
from rhizon.app.instance.backup_places import backup_id, backup_places
from rhizon.app.run.crashes import crash_reports
from rhizon.app.run.overview import Overview
from rhizon.app.run.status import ServerStatus
from rhizon.core.errors import RhizonError, StateError

if TYPE_CHECKING:
    from prometheus_client.registry import CollectorRegistry

__all__ = ["MetricsResult", "metrics_registry", "serve_metrics", "write_metrics"]

STATES = ("starting", "ready", "stopping", "stopped", "crashed", "crash-loop", "unknown-outside")


class MetricsResult(msgspec.Struct, frozen=True, kw_only=True):
    """Where the metrics are: a file, an address, or the text itself."""

    textfile: str = ""
    address: str = ""
    text: str = ""


class _Servers:
    """A collector: looks at the servers whenever somebody asks."""

    def __init__(self, host: Host) -> None:
        self._host = host
        self._overview = Overview(host)

    def collect(self) -> Iterator[Any]:
        """Families of metrics, each with a value for every server."""
        from prometheus_client.core import CounterMetricFamily, GaugeMetricFamily

        labels = ["server", "game"]
        gauges = {
            "up": "1 while a process of the server runs",
            "ready": "1 while players can join",
            "memory_bytes": "resident memory of the server's processes",
            "memory_granted_bytes": "memory that the server may use",
            "processor_ratio": "share of one processor, since the last look",
            "ready_seconds": "seconds from the start to ready, of the last start",
            "backup_age_seconds": "seconds since the newest backup",
            "disk_free_bytes": "free bytes on the disk of the server's folder",
        }
        families = {
            name: GaugeMetricFamily(f"rhizon_server_{name}", text, labels=labels) for name, text in gauges.items()
        }
        state = GaugeMetricFamily("rhizon_server_state", "1 for the state that it is in", labels=[*labels, "state"])
        restarts = CounterMetricFamily("rhizon_server_restarts", "restarts by its keeper", labels=labels)
        crashes = CounterMetricFamily("rhizon_server_crashes", "crash reports that are kept", labels=labels)
        for one in self._overview.look():
            names = [one.name, one.game]
            for name, value in self._values(one).items():
                if value is not None:
                    families[name].add_metric(names, value)
            for word in STATES:
                state.add_metric([*names, word], float(one.now.state == word))
            restarts.add_metric(names, one.now.restarts)
            crashes.add_metric(names, len(crash_reports(self._host.home(Path(one.folder)))))
        yield from (*families.values(), state, restarts, crashes)

    def _values(self, one: ServerStatus) -> dict[str, float | None]:
        mib = 1 << 20
        return {
            "up": float(one.now.pid is not None),
            "ready": float(one.now.state == "ready"),
            "memory_bytes": one.memory_mib * mib if one.memory_mib is not None else None,
            "memory_granted_bytes": float(one.granted_mib * mib),
            "processor_ratio": one.processor,
            "ready_seconds": one.now.ready_seconds,
            "backup_age_seconds": self._backup_age(Path(one.folder)),
            "disk_free_bytes": self._free(Path(one.folder)),
        }

    @staticmethod
    def _free(folder: Path) -> float | None:
        with contextlib.suppress(OSError):
            return float(shutil.disk_usage(folder).free)
        return None

    def _backup_age(self, folder: Path) -> float | None:
        """By its name, which is its time."""
        home = self._host.home(folder)
        with contextlib.suppress(RhizonError, OSError, ValueError):
            ident = backup_id(home).id
            newest = max(when for one in backup_places(self._host, home) for when in one.times(ident))
            made = time.mktime(time.strptime(newest, "%Y-%m-%dT%H-%M-%SZ")) - time.timezone
            return max(0.0, time.time() - made)
        return None


def metrics_registry(host: Host) -> "CollectorRegistry":
    """Raises :class:`StateError` where prometheus-client is not installed."""
    try:
        from prometheus_client.registry import CollectorRegistry
    except ImportError:
        raise StateError(
            "no-prometheus-client", "metrics need the extra `metrics`", hint="Install it: pip install 'rhizon[metrics]'"
        ) from None
    registry = CollectorRegistry(auto_describe=False)
    registry.register(_Servers(host))
    return registry


def write_metrics(host: Host, file: Path) -> None:
    """Writes them to a file, in one rename, as the textfile collector of an exporter reads them. Raises StateError."""
    registry = metrics_registry(host)
    from prometheus_client import write_to_textfile

    with translated("write the metrics", file):
        write_to_textfile(str(file), registry)


def serve_metrics(host: Host, address: str, port: int) -> Any:
    """Answers over HTTP until the server that this returns is shut down. Raises StateError (no such address, taken)."""
    registry = metrics_registry(host)
    from prometheus_client import start_http_server

    try:
        server, _ = start_http_server(port, addr=address, registry=registry)
    except OSError as broken:
        raise StateError(
            "port-taken", f"{address}:{port} cannot be listened on: {broken.strerror}", hint="Choose another port."
        ) from None
    return server
