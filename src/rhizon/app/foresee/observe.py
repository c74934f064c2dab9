"""A server and its machine as rules see them (``core/check/observation.py``). Nothing is changed."""

import contextlib
import os
import re
import stat
from collections.abc import Iterator, Sequence
from pathlib import Path, PurePosixPath

import msgspec

from rhizon.adapters.host import (
    every_address,
    first_free_port,
    memory_mib,
    now,
    open_files_limit,
    processor,
    socket_in_use,
    time_text,
)
from rhizon.adapters.inside import Inside
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.processes import holder_of
from rhizon.adapters.run_log import LOG, earlier_log
from rhizon.adapters.runtimes import probe
from rhizon.adapters.transact import RHIZON
from rhizon.adapters.world_files import worlds_beside
from rhizon.app.archives.scan import ScannedFile, files_aside, scan_together
from rhizon.app.foresee.good_runs import seen_in_good_runs
from rhizon.app.foresee.known_worlds import known_worlds
from rhizon.app.foresee.native import missing_libraries
from rhizon.app.host import Host
from rhizon.app.instance.backup_places import last_backup
from rhizon.app.instance.edited_files import native_edits
from rhizon.app.instance.native_files import started_in
from rhizon.app.instance.reservations import known_servers, others_than
from rhizon.app.instance.state import InstanceState
from rhizon.app.instance.worlds import world_holder, world_named_in_file, world_version
from rhizon.core.allocate.port_roles import every_number, protocols_of
from rhizon.core.boot import BootJudge
from rhizon.core.check.native_text import encoding_of, repeated_keys
from rhizon.core.check.observation import (
    ContentFile,
    LastRun,
    Machine,
    NativeFile,
    Observation,
    PortInUse,
    RuntimeSeen,
    WorldSeen,
)
from rhizon.core.check.port_rules import numbers_in_files
from rhizon.core.check.program_head import HEAD, made_for, own_name
from rhizon.core.errors import StateError
from rhizon.core.finding import Finding
from rhizon.core.launch import start_environment
from rhizon.core.model.setting import Stored
from rhizon.core.names import printable
from rhizon.core.runtimes import family_of
from rhizon.core.settings.dialects import DIALECTS

__all__ = ["observe"]

MOST_LOG = 4 << 20  # bytes of a log's end that are judged again
MOST_WORLD_FILES = 20_000
# What programs that copy files name a file until it is whole.
_UNFINISHED = re.compile(r"\.(?:part|partial|filepart|crdownload)$|^\..+\.[A-Za-z0-9]{6}$")


def observe(
    host: Host, state: InstanceState, scanned: Sequence[ScannedFile], running: int | None, *, ask_runtime: bool = True
) -> Observation:
    """``scanned`` is the content in the server's content folders. Without ``ask_runtime`` the runtime's own word is the
    one that it gave before. Raises InputError where host.toml is wrong."""
    home, game = state.home, state.game
    native = tuple(_native(home, path, dialect) for path, dialect in _native_files(state).items())
    below, renamed, odd = _aside(state)
    seen = Observation(
        folder=str(home.folder),
        game=game,
        instance=state.instance,
        lock=state.lock,
        machine=_machine(host, home),
        native=native,
        content=tuple(_content(state, one) for one in scanned),
        together=tuple(_together(state, scanned)),
        runtime=_runtime(host, state, ask=ask_runtime),
        last_run=_last_run(state),
        running=running,
        in_subfolders=tuple(below),
        odd_files=tuple(odd),
        disabled=tuple(renamed),
        folders_by_case=_folders_by_case(state),
        unwritable=tuple(_unwritable(state)),
        programs=dict(_programs(state)),
        missing_libraries=missing_libraries(state, _variables(state)),
        no_programs=_mounted_with(home.folder, "ST_NOEXEC"),
        other_loaders=_other_loaders(state),
    )
    with contextlib.suppress(StateError):  # a link that is not allowed: the records tell of it
        seen = msgspec.structs.replace(seen, world=_world(host, state))
    if running is None:
        seen = msgspec.structs.replace(seen, ports_in_use=tuple(_ports_in_use(seen)))
    return seen


def _native_files(state: InstanceState) -> dict[str, str]:
    """Every file of the server's own that holds a value that Rhizon knows, with its dialect."""
    game = state.game
    files = {path: dialect for path, (dialect, _) in native_edits(state).items()}
    stores: list[Stored] = [place for one in game.settings.values() for place in one.places]
    stores += [place for port in game.ports for place in port.store]
    if game.licence is not None and state.instance.licence is not None:
        stores.append(game.licence.answer)
    for place in stores:
        if (state.home.folder / place.file).is_file():
            files.setdefault(place.file, place.written)
    return files


def _native(home: InstanceFolder, path: str, dialect: str) -> NativeFile:
    """One settings file; what cannot be read at all counts as broken."""
    try:
        data = home.read(path)
    except StateError as wrong:
        return NativeFile(path=path, dialect=dialect, broken=printable(str(wrong), 300))
    if data is None:
        return NativeFile(path=path, dialect=dialect, exists=False)
    values, broken = {}, ""
    try:
        values = DIALECTS[dialect].read(data)
    except ValueError as wrong:
        broken = printable(str(wrong), 300)
    with home.inside() as inside:
        facts, folder = inside.lstat(path), home.folder.stat()
    return NativeFile(
        path=path,
        dialect=dialect,
        values=values,
        broken=broken,
        encoding=encoding_of(data),
        repeated=repeated_keys(dialect, data),
        writable=facts is None or bool(facts.st_mode & 0o200),
        foreign=_owner(facts.st_uid) if facts is not None and facts.st_uid != folder.st_uid else "",
    )


def _owner(number: int) -> str:
    try:
        import pwd

        return pwd.getpwuid(number).pw_name
    except (ImportError, KeyError):
        return f"user {number}"


def _content(state: InstanceState, one: ScannedFile) -> ContentFile:
    path = Path(one.path).relative_to(state.home.folder).as_posix()
    return ContentFile(
        path=path,
        folder=str(PurePosixPath(path).parent),
        placed=path in state.inventory.files,
        archive=one.archive,
        sha256=one.sha256,
        findings=one.findings,
    )


def _together(state: InstanceState, scanned: Sequence[ScannedFile]) -> Iterator[Finding]:
    """What is wrong with the set that is not wrong with what Rhizon placed: the solver took care of that."""
    placed = [one for one in scanned if _content(state, one).placed]
    if len(placed) == len(scanned):
        return
    before = {(one.code, one.subject) for one in scan_together(placed, [state.game])}
    names = {Path(one.path).name: _content(state, one).path for one in scanned}
    for found in scan_together(scanned, [state.game]):
        if (found.code, found.subject) not in before and found.severity != "note":
            yield msgspec.structs.replace(found, subject=names.get(found.subject, found.subject))


def _aside(state: InstanceState) -> tuple[list[str], list[str], list[str]]:
    """Archives in folders below the content folders, those that are disabled by their ending, and what only has the
    name of one."""
    game, home = state.game, state.home
    unpacked = {folder for kind, folder in game.folders.items() if kind in game.placing and game.placing[kind].unpack}
    below: list[str] = []
    renamed: list[str] = []
    odd: list[str] = []
    for folder in sorted(set(game.folders.values()) - unpacked):
        place = home.folder / folder
        if place.is_dir() and not place.is_symlink():
            aside = files_aside(place)
            ours = state.inventory.files
            for one in aside.below:
                path = f"{folder}/{one}"
                if path not in ours and not (place / one).is_dir():
                    (below if (place / one).is_file() else odd).append(path)
            renamed += [path for one in aside.renamed if (path := f"{folder}/{one}") not in ours]
    return below, renamed, odd


def _folders_by_case(state: InstanceState) -> dict[str, str]:
    """Folders that have the name of one that the server reads but for capitals, with that name."""
    found: dict[str, str] = {}
    wanted = {*state.game.folders.values(), *filter(None, (state.game.world.folder,))}
    for folder in sorted(wanted):
        around, _, name = folder.rpartition("/")
        with state.home.inside() as inside, contextlib.suppress(StateError):
            names = inside.names(around) if not around or inside.is_folder(around) else []
            for one in names:
                path = f"{around}/{one}" if around else one
                if one != name and one.lower() == name.lower() and path not in wanted and inside.names(path):
                    found[path] = folder
    return found


def _unwritable(state: InstanceState) -> Iterator[str]:
    """Folders that the server writes and this user cannot."""
    home, game = state.home, state.game
    folders = ["", game.world.folder, *(str(PurePosixPath(path).parent) for path in _native_files(state))]
    read_only = _mounted_with(home.folder, "ST_RDONLY")
    for folder in dict.fromkeys("" if one == "." else one for one in folders):
        place = home.folder / folder
        if place.is_dir() and (read_only or not os.access(place, os.W_OK | os.X_OK)):
            yield folder or str(home.folder)


def _mounted_with(folder: Path, flag: str) -> bool:
    bit = getattr(os, flag, 0)
    return bool(bit and hasattr(os, "statvfs") and os.statvfs(folder).f_flag & bit)


def _other_loaders(state: InstanceState) -> dict[str, str]:
    """Files of loaders that are not the server's, which Rhizon did not place."""
    game, home = state.game, state.home
    own = {*game.server_files, *game.loaders[state.lock.target.loader].files, *state.inventory.files}
    found: dict[str, str] = {
        path: loader.title
        for loader in game.loaders.values()
        for path in loader.files
        if path not in own and (home.folder / path).is_file()
    }
    return found


def _machine(host: Host, home: InstanceFolder) -> Machine:
    entries = [one.entry for one in known_servers(host)[0]]
    try:
        free = os.statvfs(home.folder)
        free_bytes: int | None = free.f_bavail * free.f_frsize
    except (OSError, AttributeError):
        free_bytes = None
    return Machine(
        memory_mib=memory_mib(),
        granted_mib=sum(one.memory_mib for one in entries),
        servers=len(entries),
        free_bytes=free_bytes,
        open_files=open_files_limit(),
        addresses=tuple(every_address()),
        first_free_port=first_free_port(),
        privileged=hasattr(os, "geteuid") and os.geteuid() == 0,
        processor=own_name(processor()),
        now=now(),
    )


def _runtime(host: Host, state: InstanceState, *, ask: bool) -> RuntimeSeen | None:
    chosen = state.instance.runtime
    if chosen is None:
        return None
    family = family_of(state.game.runtime)
    if family is None:
        return None
    noise = {name: printable(os.environ[name], 200) for name in family.noise if os.environ.get(name)}
    program = Path(chosen.program)
    if not program.is_file():
        return RuntimeSeen(state="missing", environment=noise)
    if not os.access(program, os.X_OK):
        return RuntimeSeen(state="not executable", environment=noise)
    report = probe(family, program) if ask else host.runtime_finder.named(family, program).report
    if report is None:
        return RuntimeSeen(state="silent", environment=noise)
    return RuntimeSeen(state="answers", major=report.major, version=report.version, environment=noise)


def _variables(state: InstanceState) -> dict[str, str]:
    """What the server is started with beside the person's own, as far as it can be read."""
    instance = state.instance
    found = start_environment(state.game, instance.runtime, instance.heap_mib, state.lock.target.loader)
    with contextlib.suppress(StateError):
        found |= started_in(state.home, state.game)
    return found


def _programs(state: InstanceState) -> Iterator[tuple[str, str]]:
    """The runtime's program and those of the server's own files that a command starts, with what they were made for."""
    game, loader = state.game, state.game.loaders[state.lock.target.loader]
    started = [word for command in (game.command, loader.command) for word in command[:1] if "{" not in word]
    if state.instance.runtime is not None:
        started.append(state.instance.runtime.program)
    for word in dict.fromkeys(started):
        with contextlib.suppress(OSError), (state.home.folder / word).open("rb") as file:
            yield word.removeprefix("./"), made_for(file.read(HEAD))


def _world(host: Host, state: InstanceState) -> WorldSeen:
    """The world that the settings file names, as the server will look for it."""
    home, game = state.home, state.game
    name = world_named_in_file(home, game, state.instance)
    path = game.world.path(name)
    with home.inside() as inside:
        facts = inside.lstat(path)
        whole = game.world.single_file
        is_folder = inside.is_file(path) if whole else inside.is_folder(path)
        others = [other for other in worlds_beside(inside, game.world) if other != name]
        files = [path] if whole and is_folder else inside.names(path) if is_folder else []
    place = home.folder / path
    missing = tuple(one for one in game.world.required if is_folder and not (place / one).is_file())
    size, newest = _size_and_newest(place) if is_folder else (0, "")
    return WorldSeen(
        name=name,
        exists=facts is not None,
        is_folder=facts is not None and (is_folder or stat.S_ISLNK(facts.st_mode)),
        empty=is_folder and not files,
        writable=not is_folder or os.access(place, os.W_OK),
        known=name in known_worlds(home),
        others=tuple(sorted(others)),
        raised_with=world_version(home, game, name) if is_folder else "",
        size=size,
        newest=newest,
        last_backup=last_backup(host, home, path) if missing or not files else "",
        missing=missing,
        unfinished=() if whole else tuple(one for one in files if _UNFINISHED.search(one)),
        holder=world_holder(home, game, name) if is_folder and not whole else None,
        shared=_shared(host, home, game.world.folder, place),
    )


def _shared(host: Host, home: InstanceFolder, worlds: str, world: Path) -> dict[str, bool]:
    """Other servers that have this very folder as a world, by a link there or here, with whether each runs."""
    found: dict[str, bool] = {}
    mine = os.path.realpath(world)
    for other in others_than(host, home):
        folder = Path(other.folder) / worlds
        links: list[str] = []
        with contextlib.suppress(OSError), os.scandir(folder) as entries:
            links = [os.path.realpath(one.path) for one in entries if one.is_symlink()]
        if Path(mine).is_relative_to(os.path.realpath(folder)) or mine in links:
            found[other.name] = host.home(Path(other.folder)).running() is not None
    return found


def _size_and_newest(folder: Path) -> tuple[int, str]:
    """Bytes of the files below a folder, of so many as are counted quickly, and the time of the newest of them."""
    size = count = 0
    newest = 0.0
    for parent, _, names in os.walk(folder):
        for name in names:
            try:
                facts = os.lstat(os.path.join(parent, name))  # noqa: PTH118 - thousands of files
            except OSError:
                continue
            size += facts.st_size
            newest = max(newest, facts.st_mtime)
        count += len(names)
        if count > MOST_WORLD_FILES:
            break
    return size, time_text(newest) if newest else ""


def _ports_in_use(seen: Observation) -> Iterator[PortInUse]:
    """Ports by the numbers in the settings files, where they are numbers, that somebody listens on."""
    ports = dict(seen.instance.ports)
    for role, (text, _, _) in numbers_in_files(seen).items():
        if text.isdecimal() and 0 < int(text) < 1 << 16:
            ports[role] = int(text)
    protocols = protocols_of(seen.game, seen.lock)
    for role, number in every_number(seen.game, ports).items():
        for protocol in protocols.get(role.partition("+")[0], ()):
            privileged = number < seen.machine.first_free_port and not seen.machine.privileged
            if number < 1 << 16 and not privileged and socket_in_use(number, protocol):
                yield PortInUse(role=role, number=number, protocol=protocol, holder=holder_of(number))


def _last_run(state: InstanceState) -> LastRun | None:
    """The end of the last run by its log, judged as it was then."""
    judge = _judged(state, _end_of_log(state))
    if judge is None:
        return None
    failure = judge.failure
    if failure is None or judge.ready:
        return LastRun(ready=judge.ready)
    before = _judged(state, earlier_log(state.home.folder))
    again = before is not None and before.failure is not None and before.failure.what == failure.what
    return LastRun(ready=False, code=failure.code, what=failure.what, culprit=failure.culprit or "", again=again)


def _end_of_log(state: InstanceState) -> bytes | None:
    try:
        with Inside(state.home.folder) as inside:
            return inside.read(f"{RHIZON}/{LOG}") if inside.is_file(f"{RHIZON}/{LOG}") else None
    except (OSError, StateError):
        return None


def _judged(state: InstanceState, data: bytes | None) -> BootJudge | None:
    """A log as it was judged then; None where there is none."""
    if data is None:
        return None
    judge = BootJudge(state.game, seen_in_good_runs(state.home))
    for line in data[-MOST_LOG:].decode(state.game.log.encoding, "replace").splitlines():
        judge.feed(line)
    return judge
