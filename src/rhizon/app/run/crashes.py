"""Crashes of a server: what is written down of each, and what is done before it is started again."""

import contextlib
import json
import subprocess
import time
from pathlib import Path

import msgspec

from rhizon.adapters.inside import Inside
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.keepers import life_of
from rhizon.adapters.transact import RHIZON
from rhizon.app.foresee.good_runs import remember_good_run, seen_in_good_runs
from rhizon.app.foresee.known_worlds import remember_world
from rhizon.app.host import Host
from rhizon.app.instance.exclusive import exclusive
from rhizon.app.instance.reservations import others_than
from rhizon.app.instance.state import require_instance_state
from rhizon.app.instance.worlds import world_named_in_file
from rhizon.app.keep.backup import back_up_before
from rhizon.app.reporter import Reporter
from rhizon.app.run.blame import suspect_of
from rhizon.app.run.launch import job_of
from rhizon.core.boot import BootFailure, BootJudge
from rhizon.core.check.machine_rules import heap_command
from rhizon.core.errors import RhizonError, StateError
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance
from rhizon.core.names import printable
from rhizon.keeper.places import OUTPUT

__all__ = ["CrashReport", "after_crash", "after_ready", "crash_reports", "last_crash"]

FOLDER = "crashes"  # in .rhizon/
MOST_REPORTS = 30
LAST_LINES = 60
MOST_LOG = 4 << 20
AFTER_READY = 400  # lines of the end that are judged where the server was ready
TELL_SECONDS = 20.0
HEAP_STEP = 64
UNKNOWN_CODE = 255
_UNKNOWN = f"ended with exit code {UNKNOWN_CODE}"


class CrashReport(msgspec.Struct, frozen=True, kw_only=True):
    """What is known of a crash. ``when`` in UTC, ISO 8601; ``up_seconds`` since its start; ``culprit`` the content that
    it was in, "" where that is not known; ``advice`` what to do, a whole command where there is one; ``log`` the last
    lines."""

    when: str
    name: str
    exit_code: int | None
    was_ready: bool
    up_seconds: float
    code: str
    what: str
    culprit: str
    advice: str
    restarts: int
    backup: str
    log: tuple[str, ...]


def crash_reports(home: InstanceFolder) -> list[CrashReport]:
    """All that are kept, oldest first; what cannot be read is left out."""
    found = []
    with contextlib.suppress(OSError, StateError), home.inside() as inside:
        for name in inside.names(f"{RHIZON}/{FOLDER}"):
            with contextlib.suppress(OSError, msgspec.MsgspecError):
                found.append(msgspec.json.decode(inside.read(f"{RHIZON}/{FOLDER}/{name}"), type=CrashReport))
    return found


def last_crash(home: InstanceFolder) -> CrashReport | None:
    """The newest of them."""
    return next(reversed(crash_reports(home)), None)


def after_ready(host: Host, folder: Path) -> None:
    """Remembers a start that went well and that no command watched."""
    home = host.home(folder).required()
    state = require_instance_state(host, home)
    judge, _ = _judged(home, state.game)
    remember_world(home, world_named_in_file(home, state.game, state.instance))
    remember_good_run(home, judge.got_over)


def after_crash(host: Host, folder: Path) -> CrashReport:
    """Writes down what is known of the crash that was, backs up the world before anything is started again, gives more
    memory where that ran out and is allowed, and tells whoever is to know. Raises StateError."""
    home = host.home(folder).required()
    state = require_instance_state(host, home)
    life, rules = life_of(home), state.instance.life
    judge, lines = _judged(home, state.game)
    code = life.exit_code if life is not None else None
    began, ended = (life.began, life.ended or time.time()) if life is not None else (0.0, time.time())
    failure = _failure(state.game, judge, lines, code if code is not None else UNKNOWN_CODE)
    if code is None:
        failure = msgspec.structs.replace(
            failure, what=failure.what.replace(_UNKNOWN, "exited; its exit code is unknown")
        )
    suspect = suspect_of(host, state, failure.frames) if failure.culprit is None else None
    advice = failure.hint.replace("{server}", str(home.folder))
    if failure.code == "out-of-memory":
        advice = _memory(host, home, state.instance, allowed=rules.adjust_memory)
    report = CrashReport(
        when=time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(ended)),
        name=state.instance.name,
        exit_code=code,
        was_ready=judge.ready,
        up_seconds=round(max(0.0, ended - began), 1) if began else 0.0,
        code=failure.code,
        what=failure.what,
        culprit=failure.culprit or (suspect.id if suspect is not None else ""),
        advice=advice,
        restarts=life.restarts if life is not None else 0,
        backup=_backed_up(host, home) if rules.back_up and judge.ready else "",
        log=tuple(lines[-LAST_LINES:]),
    )
    _keep(home, report)
    if rules.tell:
        _tell(rules.tell, report)
    return report


def _judged(home: InstanceFolder, game: GameDefinition) -> tuple[BootJudge, list[str]]:
    """The log of the last run, judged as a start, and its lines."""
    data = b""
    with contextlib.suppress(OSError, StateError), Inside(home.folder) as inside:
        data = inside.read(f"{RHIZON}/{OUTPUT}")[-MOST_LOG:]
    lines = [printable(one) for one in data.decode(game.log.encoding, "replace").lstrip("\0").splitlines()]
    judge = BootJudge(game, seen_in_good_runs(home))
    for line in lines:
        judge.feed(line)
    return judge, lines


def _failure(game: GameDefinition, judge: BootJudge, lines: list[str], code: int) -> BootFailure:
    """Why it ended: of a server that was ready, by the end of its log."""
    if judge.ready:
        fresh = BootJudge(game)
        ready = next((number for number, line in enumerate(lines) if _is_ready(game, line)), -1)
        for line in lines[ready + 1 :][-AFTER_READY:]:
            fresh.feed(line)
        failure = fresh.verdict(code, 0)
        return msgspec.structs.replace(failure, what=failure.what.replace(" before it was ready", ""))
    return judge.verdict(code, 0)


def _is_ready(game: GameDefinition, line: str) -> bool:
    judge = BootJudge(game)
    judge.feed(line)
    return judge.ready


def _memory(host: Host, home: InstanceFolder, instance: Instance, *, allowed: bool) -> str:
    """The command that gives it more memory; where that is allowed and the machine has it, it is done."""
    more = -(-instance.heap_mib * 3 // 2 // HEAP_STEP) * HEAP_STEP
    command = heap_command(instance, str(home.folder), more)
    memory = host.memory(sum(one.memory_mib for one in others_than(host, home)))
    outside = host.game_of(instance).memory.outside_heap_mib
    if not allowed or more + outside > memory.for_servers_mib:
        return f"Give it more memory: {command}"
    changed = msgspec.structs.replace(instance, heap_mib=more, memory_mib=more)
    home.write_instance(changed)
    job_of(host, home).write(home.folder)
    return f"It has {more} MiB of heap now, it had {instance.heap_mib}"


def _backed_up(host: Host, home: InstanceFolder) -> str:
    """The time of a backup of the world as the crash left it, "" where none could be made."""
    try:
        with exclusive(host, home, Reporter()):
            return back_up_before(host, require_instance_state(host, home), Reporter(), "after a crash").when
    except RhizonError:
        return ""


def _keep(home: InstanceFolder, report: CrashReport) -> None:
    """Writes the report; the oldest go."""
    name = report.when.replace(":", "-")
    home.write_own(f"{FOLDER}/{name}.json", msgspec.json.encode(report))
    with contextlib.suppress(OSError, StateError), home.inside() as inside:
        for old in inside.names(f"{RHIZON}/{FOLDER}")[:-MOST_REPORTS]:
            inside.unlink(f"{RHIZON}/{FOLDER}/{old}")


def _tell(where: str, report: CrashReport) -> None:
    """Runs a command with the report as JSON on its standard input, or posts it to an address; never waits long, and
    never fails."""
    short = msgspec.structs.replace(report, log=report.log[-10:])
    body = json.dumps({"event": "crashed", **msgspec.to_builtins(short)}).encode()
    if where.startswith(("http://", "https://")):
        import urllib3

        with contextlib.suppress(urllib3.exceptions.HTTPError):
            urllib3.PoolManager(timeout=TELL_SECONDS, retries=False).request(
                "POST", where, body=body, headers={"Content-Type": "application/json"}
            )
        return
    with contextlib.suppress(OSError, subprocess.SubprocessError):
        subprocess.run(where, shell=True, input=body, timeout=TELL_SECONDS, check=False, capture_output=True)
