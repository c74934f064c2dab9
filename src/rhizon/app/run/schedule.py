"""What is done regularly with a server, carried out by the machine's own timers: systemd's, or cron."""

import contextlib
import shlex
import subprocess
import sys
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.adapters.inside import Inside
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.systemd import Systemd, cron_lines, has_cron, write_cron
from rhizon.adapters.transact import RHIZON
from rhizon.app.host import Host
from rhizon.app.instance.exclusive import exclusive
from rhizon.app.instance.server_state import RUNS, state_of
from rhizon.app.reporter import Reporter
from rhizon.app.run.service import environment_of, owner_of
from rhizon.core.errors import InputError, StateError
from rhizon.core.model.instance import Instance, ScheduledTask
from rhizon.core.service_unit import cron_time, on_calendar, timer_units

__all__ = ["Schedule", "TaskLine", "TaskResult", "add_task", "list_tasks", "remove_task", "run_task", "task_lines"]

RESULTS = "schedule.json"  # in .rhizon/: the last result of each
TASK_SECONDS = 6 * 3600.0


class TaskResult(msgspec.Struct, frozen=True, kw_only=True):
    """How a task ended last: when, UTC in ISO 8601, its exit code, and what it said in one line."""

    when: str
    exit_code: int
    said: str


class TaskLine(msgspec.Struct, frozen=True, kw_only=True):
    """A task, and how it ended last."""

    task: ScheduledTask
    last: TaskResult | None


class Schedule(msgspec.Struct, frozen=True, kw_only=True):
    """All tasks of a server. ``by`` carries them out: "systemd", "cron", or "" where nothing is installed; ``files``
    were written or removed."""

    folder: str
    name: str
    planned: bool
    tasks: tuple[TaskLine, ...]
    by: Literal["systemd", "cron", ""]
    files: tuple[str, ...]


def list_tasks(host: Host, folder: Path) -> Schedule:
    """Raises StateError where there is no server."""
    return _schedule(host.home(folder).required(), by="")


def add_task(
    host: Host, folder: Path, task: ScheduledTask, reporter: Reporter, *, user: bool, dry_run: bool
) -> Schedule:
    """Adds a task, in place of the one of that kind. Raises InputError (a wrong time), :class:`StateError` (neither
    systemd nor cron)."""
    home = host.home(folder).required()
    try:
        on_calendar(task.when)
    except ValueError as wrong:
        raise InputError("bad-time", str(wrong), hint="For example: daily 04:30") from None
    if dry_run:
        return _schedule(home, by="", planned=True)
    with exclusive(host, home, reporter):
        instance = home.instance()
        others = tuple(one for one in instance.schedule if one.what != task.what)
        changed = msgspec.structs.replace(instance, schedule=(*others, task))
        by, files = _installed(home, changed, task, user=user)
        home.write_instance(changed)
    return _schedule(home, by=by, files=files)


def remove_task(host: Host, folder: Path, what: str, reporter: Reporter, *, user: bool, dry_run: bool) -> Schedule:
    """Removes a task. Raises InputError where there is none of that kind."""
    home = host.home(folder).required()
    instance = home.instance()
    if all(one.what != what for one in instance.schedule):
        raise InputError("no-such-task", f"no {what} is scheduled for {instance.name}", hint="See: rhizon schedule")
    if dry_run:
        return _schedule(home, by="", planned=True)
    with exclusive(host, home, reporter):
        rest = tuple(one for one in instance.schedule if one.what != what)
        by, files = _removed(instance.name, what, user=user)
        home.write_instance(msgspec.structs.replace(home.instance(), schedule=rest))
    return _schedule(home, by=by, files=files)


def _installed(
    home: InstanceFolder, instance: Instance, task: ScheduledTask, *, user: bool
) -> tuple[Literal["systemd", "cron", ""], list[str]]:
    """Gives a task to the machine's timers. Raises StateError where there are none."""
    command = [sys.executable, "-P", "-m", "rhizon.cli.scheduled", task.what, str(home.folder)]
    systemd = Systemd(user=user)
    if systemd.runs:
        units = timer_units(
            instance.name,
            task,
            command=command,
            folder=str(home.folder),
            environment=environment_of(),
            user=None if user else owner_of(home.folder),
        )
        files = systemd.put(units)
        systemd.control("enable", "--now", next(name for name in units if name.endswith(".timer")))
        return "systemd", list(map(str, files))
    if not has_cron():
        raise StateError(
            "no-timers", "neither systemd nor cron runs here", hint="Run the command yourself, or install cron."
        )
    variables = [f"{name}={shlex.quote(value)}" for name, value in environment_of().items()]
    text = f"{cron_time(task.when)} {' '.join(variables)} {shlex.join(command)}".replace("%", "\\%")
    mark = _cron_mark(instance.name, task.what)
    write_cron([*(one for one in cron_lines() if not one.endswith(mark)), f"{text} {mark}"])
    return "cron", []


def _cron_mark(name: str, what: str) -> str:
    return f"# rhizon schedule {name} {what}"


def _removed(name: str, what: str, *, user: bool) -> tuple[Literal["systemd", "cron", ""], list[str]]:
    stem = f"rhizon-{name}-{what}"
    systemd = Systemd(user=user)
    gone = systemd.take([f"{stem}.timer", f"{stem}.service"]) if systemd.runs else []
    if gone:
        return "systemd", list(map(str, gone))
    if has_cron():
        mark, lines = _cron_mark(name, what), cron_lines()
        if any(one.endswith(mark) for one in lines):
            write_cron([one for one in lines if not one.endswith(mark)])
            return "cron", []
    return "", []


def _schedule(
    home: InstanceFolder,
    *,
    by: Literal["systemd", "cron", ""],
    files: Sequence[str] = (),
    planned: bool = False,
) -> Schedule:
    instance = home.instance()
    return Schedule(
        folder=str(home.folder),
        name=instance.name,
        planned=planned,
        tasks=task_lines(home, instance),
        by=by,
        files=tuple(files),
    )


def task_lines(home: InstanceFolder, instance: Instance) -> tuple[TaskLine, ...]:
    """What is scheduled for a server, each with how it ended last."""
    if not instance.schedule:
        return ()
    results = _results(home)
    return tuple(TaskLine(task=one, last=results.get(one.what)) for one in instance.schedule)


def _results(home: InstanceFolder) -> dict[str, TaskResult]:
    with contextlib.suppress(OSError, StateError, msgspec.MsgspecError), Inside(home.folder) as inside:
        return msgspec.json.decode(inside.read(f"{RHIZON}/{RESULTS}"), type=dict[str, TaskResult])
    return {}


def run_task(host: Host, folder: Path, what: str) -> TaskResult:
    """Does what is scheduled, as the command of that name, and writes down how it ended. Raises InputError where
    nothing of that kind is scheduled."""
    home = host.home(folder).required()
    task = next((one for one in home.instance().schedule if one.what == what), None)
    if task is None:
        raise InputError("no-such-task", f"no {what} is scheduled for {home.folder}", hint="See: rhizon schedule")
    options = {
        "backup": ["--keep", task.keep] if task.keep else [],
        "restart": ["--in", "10m"],
        "update": ["--careful", "--in", "10m"],
    }
    if what == "restart" and state_of(host, home).state not in RUNS:  # who stopped it wants it stopped
        return _written(home, what, 0, "the server does not run; nothing was done")
    command = [sys.executable, "-P", "-m", "rhizon", what, str(home.folder), *options[what]]
    try:
        done = subprocess.run(command, capture_output=True, text=True, timeout=TASK_SECONDS, check=False)
        code, said = done.returncode, (done.stdout if done.returncode == 0 else done.stderr).strip().splitlines()
    except subprocess.TimeoutExpired:
        code, said = 1, [f"it took longer than {TASK_SECONDS / 3600:.0f} h and was ended"]
    return _written(home, what, code, said[0][:300] if said else "")


def _written(home: InstanceFolder, what: str, code: int, said: str) -> TaskResult:
    """Keeps how a task ended."""
    result = TaskResult(when=time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime()), exit_code=code, said=said)
    home.write_own(RESULTS, msgspec.json.encode(_results(home) | {what: result}))
    return result
