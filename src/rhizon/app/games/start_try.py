"""Starting a copy of a real server by its definition, on ports of its own, to see what the definition sees of it."""

import os
import shutil
import socket
import tempfile
from contextlib import ExitStack
from pathlib import Path

import msgspec

from rhizon.adapters.files import translated
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.runtimes import FoundRuntime
from rhizon.adapters.transact import RHIZON
from rhizon.app.host import Host
from rhizon.app.instance.native_files import started_in, started_with, write_edits
from rhizon.app.reporter import Reporter
from rhizon.app.run.command import StartCommand, ways_of
from rhizon.app.run.server import RunningServer
from rhizon.core.errors import NotReadyError, StateError
from rhizon.core.launch import Launch, start_command, start_environment
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance, RuntimeChoice
from rhizon.core.runtimes import family_of
from rhizon.core.settings.apply import edits_for
from rhizon.core.version import parse_version

__all__ = ["StartTried", "try_start"]

MOST_MADE = 40
TRIES = 50
START_DIALECTS = ("arguments", "environment")  # their files are nobody else's


class StartTried(msgspec.Struct, frozen=True, kw_only=True):
    """A start of a copy: ``ready_seconds`` None where it did not become ready, and ``failure`` why; whether its ports
    (``listening``) answered, how it ended, and the files and folders that it made."""

    command: tuple[str, ...]
    ready_seconds: float | None
    failure: str
    listening: dict[str, bool]
    exit_code: int | None
    made: tuple[str, ...]
    lines: tuple[str, ...]


def try_start(
    host: Host, game: GameDefinition, server: Path, wait: float | None, loader: str | None, reporter: Reporter
) -> StartTried:
    """Copies the folder, gives the copy free ports, starts and stops it. Raises StateError (no runtime, no room)."""
    runtime = _runtime(host, game)
    with ExitStack() as stack:
        room = stack.enter_context(tempfile.TemporaryDirectory(prefix="rhizon-try-"))
        copy = Path(room) / "server"
        reporter.step("copying the server")
        with translated("copy the server", copy):
            shutil.copytree(server, copy, symlinks=True, ignore=_left_out)
            (copy / RHIZON).mkdir()
        home = InstanceFolder(copy)
        ports = _free_ports(game)
        edits = edits_for(game, {}, ports, {})
        early = {file: one for file, one in edits.items() if (copy / file).is_file() or one[0] in START_DIALECTS}
        write_edits(home, early, frozenset())
        before = _files(copy)
        heap = max(game.memory.base_mib, game.memory.least_mib, 16)
        launch = Launch(loader, runtime, heap, path_separator=os.pathsep, arguments=started_with(home, game))
        environment = {**start_environment(game, runtime, heap, loader), **started_in(home, game)}
        instance = Instance(
            format="rhizon-instance/1", name="try", game=game.id, source="", runtime=runtime, heap_mib=heap, ports=ports
        )
        words = start_command(game, launch)
        command = StartCommand(words, environment, *ways_of(home, game, instance))
        reporter.step("starting the copy")
        return _run(command, copy, game, wait, before, ports, reporter)


def _run(
    command: StartCommand,
    copy: Path,
    game: GameDefinition,
    wait: float | None,
    before: set[str],
    ports: dict[str, int],
    reporter: Reporter,
) -> StartTried:
    lines: list[str] = []
    ready: float | None = None
    failure, code = "", None
    listening: dict[str, bool] = {}
    with RunningServer.start(command, copy, game, reporter) as running:
        running.listeners.append(lines.append)
        try:
            ready = running.until_ready(wait)
            listening = {port.role: _used(ports[port.role], port.protocols) for port in game.ports}
            reporter.step("stopping the copy")
            code = running.stop()
        except NotReadyError as wrong:
            failure = wrong.message
    made = sorted(_files(copy) - before)
    return StartTried(
        command=command.words,
        ready_seconds=round(ready, 2) if ready is not None else None,
        failure=failure,
        listening=listening,
        exit_code=code,
        made=tuple(made[:MOST_MADE]),
        lines=tuple(lines),
    )


def _runtime(host: Host, game: GameDefinition) -> RuntimeChoice | None:
    """The newest runtime here that any version of the game runs on."""
    family = family_of(game.runtime)
    if family is None:
        return None
    found = [one for one in host.runtimes(game) if one.report is not None]
    if not found:
        raise StateError(
            "no-runtime", f"{family.title} was not found on this machine", hint=family.how_to_get.format(major="")
        )
    accepted = [game.runtime_majors(version) for version in game.versions]

    def rank(one: FoundRuntime) -> tuple[bool, int]:
        assert one.report is not None
        major = parse_version(str(one.report.major))
        return any(wanted.admits(major) for wanted in accepted), one.report.major

    best = max(found, key=rank)
    assert best.report is not None
    return RuntimeChoice(
        family=family.title, major=best.report.major, version=best.report.version, program=best.program
    )


def _free_ports(game: GameDefinition) -> dict[str, int]:
    """Numbers that nobody uses, each block with what is counted from it."""
    numbers: dict[str, int] = {}
    for port in game.ports:
        if port.offset_of is None:
            offsets = [*range(port.count), *(one.offset for one in game.ports if one.offset_of == port.role)]
            numbers[port.role] = _free_block(offsets, set(numbers.values()))
    for port in game.ports:
        if port.offset_of is not None:
            numbers[port.role] = numbers[port.offset_of] + port.offset
    return numbers


def _free_block(offsets: list[int], taken: set[int]) -> int:
    for _ in range(TRIES):
        with socket.socket() as any_port:
            any_port.bind(("127.0.0.1", 0))
            first = any_port.getsockname()[1]
        wanted = {first + offset for offset in offsets}
        if not wanted & taken and all(1024 < one < 65536 and not _used(one, ("tcp", "udp")) for one in wanted):
            return int(first)
    raise StateError("no-port", "no free ports were found", hint="Stop what uses so many of them.")


def _used(number: int, protocols: tuple[str, ...]) -> bool:
    """Whether something listens on it, on any of the protocols."""
    for protocol in protocols:
        kind = socket.SOCK_STREAM if protocol == "tcp" else socket.SOCK_DGRAM
        with socket.socket(socket.AF_INET, kind) as own:
            try:
                own.bind(("127.0.0.1", number))
            except OSError:
                return True
    return False


def _left_out(folder: str, names: list[str]) -> list[str]:
    """Rhizon's own, and what is neither a file nor a folder: a server makes its FIFOs and sockets itself."""
    return [one for one in names if one == RHIZON or not _is_plain(Path(folder, one))]


def _is_plain(path: Path) -> bool:
    return path.is_symlink() or path.is_file() or path.is_dir()


def _files(folder: Path) -> set[str]:
    """Every file and folder below, Rhizon's own left out."""
    return {
        one.relative_to(folder).as_posix() for one in folder.rglob("*") if RHIZON not in one.relative_to(folder).parts
    }
