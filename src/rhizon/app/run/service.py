"""A server under the machine's service manager: units written, enabled and removed."""

import os
import sys
from collections.abc import Mapping
from pathlib import Path

import msgspec

from rhizon.adapters.systemd import Systemd
from rhizon.app.host import Host
from rhizon.app.instance.state import InstanceState, require_instance_state
from rhizon.core.errors import StateError
from rhizon.core.service_unit import launchd_file, openrc_file, service_unit, unit_name

__all__ = ["ServiceResult", "environment_of", "install_service", "owner_of", "remove_service", "service_text"]

VARIABLES = ("RHIZON_STATE", "RHIZON_DATA", "RHIZON_CACHE", "RHIZON_CONFIG", "LANG", "LC_ALL", "TZ")
START_SPARE = 120
STOP_TIMES = 5


class ServiceResult(msgspec.Struct, frozen=True, kw_only=True):
    """The unit: its name, its text, where it is written; ``enabled`` where it starts with the machine, ``started``
    where it runs now."""

    folder: str
    name: str
    unit: str
    text: str
    files: tuple[str, ...]
    planned: bool
    enabled: bool
    started: bool


def service_text(host: Host, folder: Path, *, user: bool, manager: str = "systemd") -> ServiceResult:
    """The unit as it would be installed; also files for other managers ("openrc", "launchd"), which are untested."""
    state = require_instance_state(host, host.home(folder).required())
    text = _text(host, state, user=user, manager=manager)
    return _result(state, unit_name(state.instance.name) if manager == "systemd" else manager, text, planned=True)


def install_service(host: Host, folder: Path, *, user: bool, start: bool, dry_run: bool) -> ServiceResult:
    """Writes the unit and enables it; with ``start`` also starts it. Raises :class:`StateError` (no systemd, not
    allowed)."""
    state = require_instance_state(host, host.home(folder).required())
    unit, text = unit_name(state.instance.name), _text(host, state, user=user, manager="systemd")
    if dry_run:
        return _result(state, unit, text, planned=True)
    systemd = _running(user=user)
    files = systemd.put({unit: text})
    systemd.control("enable", unit)
    if start:
        systemd.control("start", unit)
    return _result(state, unit, text, files=files, enabled=True, started=start)


def remove_service(host: Host, folder: Path, *, user: bool, dry_run: bool) -> ServiceResult:
    """Disables the unit and removes its file; a server that runs goes on. Raises StateError."""
    state = require_instance_state(host, host.home(folder).required())
    unit = unit_name(state.instance.name)
    if dry_run:
        return _result(state, unit, "", planned=True)
    return _result(state, unit, "", files=_running(user=user).take([unit]))


def _running(*, user: bool) -> Systemd:
    systemd = Systemd(user=user)
    if not systemd.runs:
        raise StateError(
            "no-systemd",
            "systemd does not run here",
            hint="See the unit, or the files for other managers: rhizon service show",
        )
    return systemd


def _result(
    state: InstanceState,
    unit: str,
    text: str,
    *,
    files: list[Path] | None = None,
    planned: bool = False,
    enabled: bool = False,
    started: bool = False,
) -> ServiceResult:
    return ServiceResult(
        folder=str(state.home.folder),
        name=state.instance.name,
        unit=unit,
        text=text,
        files=tuple(map(str, files or ())),
        planned=planned,
        enabled=enabled,
        started=started,
    )


def environment_of() -> Mapping[str, str]:
    """Variables of this process that a service needs too."""
    return {name: os.environ[name] for name in VARIABLES if os.environ.get(name)}


def owner_of(folder: Path) -> str:
    """The user that a folder belongs to."""
    try:
        return folder.owner()
    except (KeyError, NotImplementedError):
        return str(folder.stat().st_uid)


def _text(host: Host, state: InstanceState, *, user: bool, manager: str) -> str:
    """The file for a manager. Raises StateError for one that is not known."""
    home, game, instance = state.home, state.game, state.instance
    title = f"{game.title} server {instance.name}"
    command = [sys.executable, "-P", "-m", "rhizon", "start", str(home.folder), "--foreground"]
    if manager == "openrc":
        return openrc_file(title=title, folder=str(home.folder), command=command, user=owner_of(home.folder))
    if manager == "launchd":
        label = f"rhizon.{instance.name}"
        return launchd_file(label=label, folder=str(home.folder), command=command, environment=environment_of())
    places = host.places
    return service_unit(
        title=title,
        folder=str(home.folder),
        command=command,
        environment=environment_of(),
        writes=[
            str(home.folder),
            *(str(one) for one in dict.fromkeys(places.written) if one.is_dir()),
            *(one for one in instance.players.pages if Path(one).is_dir()),  # for the status that players see
        ],
        user=None if user else owner_of(home.folder),
        start_seconds=game.log.ready_seconds + START_SPARE,
        stop_seconds=STOP_TIMES * game.console.stop_seconds * (2 if game.console.stop_signal else 1) + START_SPARE,
        memory_mib=instance.heap_mib + game.memory.outside_heap_mib,
    )
