"""What a folder with a server is: its game, version, loader, runtime, heap, content and settings."""

import hashlib
import re
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from rhizon.adapters.catalogs import Catalogs
from rhizon.adapters.fetching import fetch_all
from rhizon.adapters.files import hash_file
from rhizon.adapters.games import GAMES, read_game
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.store import Store
from rhizon.adapters.world_files import worlds_beside
from rhizon.app.games.look import look_at
from rhizon.app.host import Host
from rhizon.app.instance.native_files import native_values
from rhizon.app.instance.worlds import world_version
from rhizon.core.archives.entries import Archive
from rhizon.core.describe.folder import FolderFacts
from rhizon.core.describe.start_lines import heap_of, start_lines
from rhizon.core.errors import InputError, RhizonError, StateError
from rhizon.core.model.catalog import Artefact, HostFiles, LoaderBuild, ServerFiles
from rhizon.core.model.documents import decode
from rhizon.core.model.game import OWN_LOADER, GameDefinition
from rhizon.core.model.instance import RuntimeChoice
from rhizon.core.model.lock import LockedFile
from rhizon.core.model.tree import FileTree
from rhizon.core.names import RelPath
from rhizon.core.runtimes import family_of
from rhizon.core.settings.apply import in_file
from rhizon.core.settings.dialects import DIALECTS
from rhizon.core.version import parse_version
from rhizon.core.words import command_line

__all__ = [
    "Started",
    "Version",
    "id_of",
    "own_definition",
    "recognise_game",
    "recognise_loader",
    "recognise_version",
    "settings_there",
    "started_by",
]

LARGEST_COMPARED = 1 << 30


def recognise_game(host: Host, folder: Path, named: str | None) -> tuple[GameDefinition, Path, FolderFacts]:
    """The game whose server is there, and its definition's file: the one that was named, else the only one, or the one
    of which most is there. Raises InputError."""
    facts = look_at(folder)
    files = host.games(Path.cwd()).files()
    if named is not None and (named.endswith(".toml") or "/" in named):
        return read_game(Path(named)), Path(named), facts
    if named is not None:
        return host.games(Path.cwd()).get(named), files[named], facts
    scores: dict[str, int] = {}
    games: dict[str, GameDefinition] = {}
    for name, file in files.items():
        try:
            game = read_game(file, files.get)
        except RhizonError:
            continue
        games[name] = game
        if all(facts.file(path) is not None for path in game.server_files):
            there = {place.file for place in game.places() if facts.file(place.file) is not None}
            folders = {path for path in (*game.folders.values(), game.world.folder) if path in facts.folders}
            scores[name] = 10 * len(game.server_files) + len(there) + len(folders)
    again = command_line("rhizon", "game", "new", id_of(folder), "--from", folder)
    best = [name for name, score in scores.items() if score == max(scores.values())]
    if len(best) != 1:
        what = (
            f"the server in {folder} could be of {' or '.join(best)}"
            if best
            else f"no known game has its server in {folder}"
        )
        hint = f"Name it: --game {best[0]}" if best else f"Describe it first: {again}"
        raise InputError("game-not-recognised", what, details=[f"known: {', '.join(games)}"], hint=hint)
    return games[best[0]], files[best[0]], facts


class Version(NamedTuple):
    """A game version or a loader build that was recognised: ``how`` in words; where a catalog has these very files,
    what it says of them."""

    text: str
    how: str
    certain: bool
    server: ServerFiles | None = None
    build: LoaderBuild | None = None
    catalog: str = ""


def recognise_version(
    host: Host, game: GameDefinition, folder: Path, catalogs: Catalogs | None, named: str | None
) -> Version:
    """By the catalog's server files of the same bytes, by what a world says, else the newest that is known."""
    if named is not None and named not in game.versions:
        raise InputError(
            "usage", f"{named} is not a version of {game.title}", hint=f"It has: {', '.join(game.versions)}"
        )
    found = _host_files(catalogs, game)
    replaced = {path for loader in game.loaders.values() for path in loader.files}  # by a loader in their place
    own = tuple(path for path in game.server_files if path not in replaced) or game.server_files
    if found is not None and catalogs is not None:
        for files in sorted(found[1].server, key=lambda one: one.version != named):
            same = _same(host.store, catalogs, found[0], files.artefact, folder, own, tree=files.tree is not None)
            if same and files.version in game.versions:
                return Version(files.version, f"its files are those of {found[0]}", True, files, catalog=found[0])
    if named is not None:
        return Version(named, "as named", True)
    for file in ("VERSION", "version.txt", "version"):
        path = folder / file
        if path.is_file() and path.stat().st_size < 1024:
            text = path.read_text("utf-8", "replace").strip()
            if text in game.versions:
                return Version(text, f"by {file}", True)
    home = host.home(folder)
    with home.inside() as inside:
        worlds = worlds_beside(inside, game.world)
    wrote = {name: world_version(home, game, name) for name in worlds}
    for text in reversed(game.versions):  # the newest of them: an older game opens no newer world
        name = next((one for one, version in wrote.items() if version == text), None)
        if name is not None:
            return Version(text, f"the world {name} was written by it", True)
    return Version(game.versions[-1], "the newest that is known; name another one with --game-version", False)


def recognise_loader(
    host: Host, game: GameDefinition, folder: Path, facts: FolderFacts, catalogs: Catalogs | None
) -> tuple[str, Version]:
    """The loader whose files are there, and its build: by the catalog's archive of the same bytes, else "0"."""
    there = {
        name: loader
        for name, loader in game.loaders.items()
        if name != OWN_LOADER and loader.files and all(facts.file(path) is not None for path in loader.files)
    }
    if not there:
        own = OWN_LOADER if OWN_LOADER in game.loaders else next(iter(game.loaders))
        return own, Version("0", "no loader's files are there", True)
    found = _host_files(catalogs, game)
    for name, loader in there.items():
        for build in found[1].loaders if found is not None else ():
            if build.loader != name or found is None or catalogs is None:
                continue
            if _same(host.store, catalogs, found[0], build.artefact, folder, loader.files, tree=False):
                how = f"its files are those of {found[0]}"
                return name, Version(build.build.text, how, True, build=build, catalog=found[0])
    name = max(there, key=lambda one: len(there[one].files))
    return name, Version("0", "no catalog has this build", False)


def _host_files(catalogs: Catalogs | None, game: GameDefinition) -> tuple[str, HostFiles] | None:
    if catalogs is None:
        return None
    try:
        return catalogs.host(game.id)
    except RhizonError:
        return None


def _same(
    store: Store,
    catalogs: Catalogs,
    catalog: str,
    artefact: Artefact,
    folder: Path,
    paths: Sequence[RelPath],
    *,
    tree: bool,
) -> bool:
    """Whether an archive, or a tree, of a catalog has the same bytes in these files as the folder."""
    path, sha256 = artefact.path, artefact.sha256
    file = LockedFile(catalog=catalog, path=path, sha256=sha256, size=artefact.size)
    here = {one: hash_file(folder / one)[0] for one in paths if (folder / one).is_file()}
    try:
        fetch_all(catalogs, [file], store, lambda _progress: None)
        data = store.read(sha256, path)
        if tree:
            listed = decode(FileTree, data, path).files
            return all(one in listed and listed[one].sha256 == here.get(one) for one in paths)
        archive = Archive(data, path)
        return all(
            one in archive and hashlib.sha256(archive.read(one, LARGEST_COMPARED)).hexdigest() == here.get(one)
            for one in paths
        )
    except RhizonError:
        return False


class Started(NamedTuple):
    """How it is started now: the runtime, the heap in MiB (0 where nothing says it), and by what that is known."""

    runtime: RuntimeChoice | None
    heap_mib: int
    how: str
    pid: int | None = None


def started_by(host: Host, game: GameDefinition, version: str, folder: Path, facts: FolderFacts) -> Started:
    """By the process that runs there, by a start script, else as this machine has it. Raises StateError where there is
    no runtime."""
    family = family_of(game.runtime)
    running = host.processes.get(str(folder.resolve()), [])
    process = next((one for one in running if family is None or family.program in Path(one.program).name), None)
    lines = start_lines(facts)
    words = process.arguments if process is not None else lines[0].words if lines else ()
    how = (
        f"by process {process.pid}" if process is not None else f"by {lines[0].source}" if lines else "by nothing there"
    )
    heap = heap_of(tuple(words))
    if family is None:
        return Started(None, heap, how, process.pid if process is not None else None)
    wanted = process.program if process is not None else words[0] if words and words[0].startswith("/") else ""
    fitting = game.runtime_majors(version)
    found = [one for one in host.runtimes(game) if one.report is not None]
    if wanted and Path(wanted).is_file():
        named = host.runtime_finder.named(family, Path(wanted))
        found.insert(0, named)
    good = [one for one in found if one.report is not None and fitting.admits(parse_version(str(one.report.major)))]
    for one in (*good, *found):
        assert one.report is not None
        choice = RuntimeChoice(
            family=family.title, major=one.report.major, version=one.report.version, program=one.program
        )
        return Started(choice, heap, how, process.pid if process is not None else None)
    raise StateError(
        "no-runtime", f"{family.title} was not found on this machine", hint=family.how_to_get.format(major="")
    )


def settings_there(
    home: InstanceFolder, game: GameDefinition
) -> tuple[dict[str, str | int | bool], dict[str, int], list[str]]:
    """What the server's own files say: settings that are not the game's defaults, the port of each role, and what
    cannot be understood. Secrets stay where they are."""
    settings: dict[str, str | int | bool] = {}
    odd: list[str] = []
    read: dict[tuple[str, str], Mapping[str, str]] = {}

    def values(file: str, dialect: str, place: object) -> Mapping[str, str]:
        key = (file, dialect)
        if key not in read:
            try:
                read[key] = native_values(home, place)  # type: ignore[arg-type]
            except StateError as broken:
                odd.append(broken.message)
                read[key] = {}
        return read[key]

    for name, setting in game.settings.items():
        if setting.store is None or setting.secret:
            continue
        there = values(setting.store.file, setting.store.written, setting.store)
        value, _ = in_file(setting, DIALECTS[setting.store.written], there)
        if value is None:
            continue
        try:
            value = setting.checked(value)
        except ValueError as wrong:
            odd.append(f"{setting.store.file}: {name}: {wrong}")
            continue
        if value != setting.default:
            settings[name] = value
    ports: dict[str, int] = {}
    for port in game.ports:
        said = (values(place.file, place.written, place).get(place.key, "").strip() for place in port.store)
        number = next((int(one) for one in said if re.fullmatch(r"\d{1,5}", one) and 0 < int(one) < 65536), None)
        ports[port.role] = number if number is not None else port.default
    for port in game.ports:
        if port.offset_of is not None:
            ports[port.role] = ports[port.offset_of] + port.offset
    return settings, ports, odd


def own_definition(file: Path, config: Path) -> bool:
    """Whether a definition is found from anywhere: it ships with Rhizon, or is in the config folder."""
    return file.parent in (GAMES, config / "games")


def id_of(folder: Path) -> str:
    """An id by a folder's name."""
    text = "".join(one if (one.isalnum() and one.isascii()) or one in "-_." else "-" for one in folder.name.lower())
    return text.strip("-_.")[:48] or "server"
