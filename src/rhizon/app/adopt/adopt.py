"""Making a server of a folder that somebody set up by hand: its records are added, and nothing else is touched."""

import contextlib
from collections.abc import Sequence
from pathlib import Path

import msgspec

from rhizon.adapters.files import hash_file, read_bytes, translated
from rhizon.adapters.host import now
from rhizon.adapters.instances import CONTENT_LIST, InstanceFolder
from rhizon.adapters.ledger import Entry
from rhizon.adapters.transact import RHIZON
from rhizon.adapters.undo_history import KeptStates
from rhizon.app.adopt.content import LOCAL, Piece, find_content
from rhizon.app.adopt.recognise import (
    Started,
    Version,
    id_of,
    own_definition,
    recognise_game,
    recognise_loader,
    recognise_version,
    settings_there,
    started_by,
)
from rhizon.app.foresee.foresee import foresee_after
from rhizon.app.host import Host, open_ledger
from rhizon.app.instance.change import apply_change
from rhizon.app.instance.edited_files import settings_paths
from rhizon.app.instance.exclusive import exclusive
from rhizon.app.instance.native_files import native_values
from rhizon.app.instance.reservations import entry_of, reserved, server_name
from rhizon.app.instance.state import InstanceState
from rhizon.app.instance.wanted_files import wanted_files
from rhizon.app.reporter import Reporter
from rhizon.core.allocate.port_roles import port_places
from rhizon.core.content_paths import place_of
from rhizon.core.describe.folder import FolderFacts
from rhizon.core.errors import RhizonError, StateError
from rhizon.core.finding import Finding
from rhizon.core.model.catalog import Artefact
from rhizon.core.model.contentlist import ContentList, TargetWish, Wish
from rhizon.core.model.decode import encode_json
from rhizon.core.model.documents import decode
from rhizon.core.model.encode import content_list_toml
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance, Inventory, LicenceAnswer, OwnedFile
from rhizon.core.model.lock import Lock, LockedFile, LockedLoader, Target
from rhizon.core.model.tree import FileTree, TreeFile
from rhizon.core.names import RelPath, UnsafeNameError, safe_path
from rhizon.core.plan import Plan
from rhizon.core.settings.apply import holds
from rhizon.core.settings.dialects import DIALECTS
from rhizon.core.units import counted
from rhizon.core.version import parse_range, parse_version
from rhizon.core.words import command_line

__all__ = ["AdoptResult", "AdoptWishes", "Recognised", "adopt", "counted_words", "give_back"]

LARGEST = 4 << 30
SMALLEST_HEAP = 64


class AdoptWishes(msgspec.Struct, frozen=True, kw_only=True):
    """What a person says of the folder: its game, its version, catalogs to look in, a name."""

    game: str | None = None
    game_version: str | None = None
    catalogs: tuple[str, ...] = ()
    name: str | None = None
    dry_run: bool = False


class Recognised(msgspec.Struct, frozen=True, kw_only=True):
    """One thing that was recognised, and how; not ``certain`` where it is only the likeliest."""

    what: str
    value: str
    how: str
    certain: bool = True


class AdoptResult(msgspec.Struct, frozen=True, kw_only=True):
    """A server that was taken over, or would be: what it is, its content, settings and ports, and the list that says
    the same."""

    folder: str
    name: str
    game: str
    game_title: str
    planned: bool
    recognised: tuple[Recognised, ...]
    content: tuple[Recognised, ...]
    unknown: tuple[str, ...]
    settings: dict[str, str | int | bool]
    ports: dict[str, int]
    heap_mib: int
    list: str
    findings: tuple[Finding, ...]


def adopt(host: Host, folder: Path, wishes: AdoptWishes, reporter: Reporter) -> AdoptResult:
    """Takes a folder over. Raises InputError (no folder, no known game), StateError (it is one of ours, ports that
    another server has, no runtime)."""
    folder = folder.absolute()
    home = host.home(folder)
    if home.is_ours:
        raise StateError(
            "is-ours",
            f"{folder} is a server of Rhizon already",
            hint=f"See it: {command_line('rhizon', 'status', folder)}",
        )
    reporter.step("looking at the folder")
    game, definition, facts = recognise_game(host, folder, wishes.game)
    catalogs = host.open_catalogs(wishes.catalogs, Path.cwd()) if wishes.catalogs else None
    version = recognise_version(host, game, folder, catalogs, wishes.game_version)
    loader, build = recognise_loader(host, game, folder, facts, catalogs)
    game = game.narrowed(version.text, loader)
    started = started_by(host, game, version.text, folder, facts)
    pieces = find_content(host, game, loader, folder, catalogs)
    settings, ports, odd = settings_there(home, game)
    lock, pieces = _lock(host, game, home, facts, (version, loader, build), started, pieces)
    inventory = _inventory(host, home, game, lock, pieces)
    ports |= _ports_of_content(home, game, lock, ports)
    heap = max(started.heap_mib, game.memory.least_mib) or max(game.memory.base_mib, SMALLEST_HEAP)
    listed = _list(game, lock, wishes, settings, ports)
    notes = [f"{one.path}: kept as it is; {one.how}" for one in pieces if one.release is None]

    def instance_named(others: Sequence[Entry]) -> Instance:
        return Instance(
            format="rhizon-instance/1",
            name=server_name(wishes.name, None, id_of(folder), others),
            game=game.id,
            source=str(home.own / CONTENT_LIST),
            catalogs=wishes.catalogs,
            runtime=started.runtime,
            heap_mib=heap,
            memory_mib=heap,
            ports=ports,
            settings=settings,
            chosen=tuple(settings),
            licence=_licence(home, game),
            first_start_done=all((folder / path).exists() for path in game.first_start.creates),
        )

    with open_ledger(host) as ledger:
        instance = instance_named([one for one in ledger.entries() if one.folder != str(folder)])
    findings = [
        Finding(code="setting-odd", severity="warning", subject=folder.name, what=one, remedy="Correct it by hand.")
        for one in odd
    ]
    if not wishes.dry_run:
        with exclusive(host, home, reporter):

            def decide(others: Sequence[Entry]) -> tuple[Instance, Entry]:
                made = instance_named(others)
                entry = entry_of(game, home, made)
                clash = [other for other in others if other.numbers & entry.numbers]
                if clash:
                    number = min(clash[0].numbers & entry.numbers)
                    raise StateError(
                        "port-clash",
                        f"port {number} is also a port of {clash[0].name} ({clash[0].folder})",
                        hint="Give one of the two another port first.",
                    )
                return made, entry

            with reserved(host, home, decide) as instance:
                after = InstanceState(home=home, game=game, lock=lock, instance=instance, inventory=inventory)
                apply_change(host.store, None, after, Plan(steps=(), inventory=inventory), "adopt")
                home.write_own(CONTENT_LIST, content_list_toml(listed, notes).encode())
                if not own_definition(definition, host.places.config):
                    home.write_own(f"{game.id}.game.toml", read_bytes(definition, "game definition"))
                home.write_own(ADOPTED, encode_json(_as_it_was(after)))
        reporter.done("its records are in .rhizon; nothing else was touched")
        findings += foresee_after(host, home, ("runtime", "content", "settings", "ports", "world", "disk"))
    return AdoptResult(
        folder=str(folder),
        name=instance.name,
        game=game.id,
        game_title=game.title,
        planned=wishes.dry_run,
        recognised=tuple(_recognised(game, version, loader, build, started, definition)),
        content=tuple(
            Recognised(what=one.path, value=f"{one.release.id} {one.release.version}", how=one.how)
            for one in pieces
            if one.release is not None
        ),
        unknown=tuple(one.path for one in pieces if one.release is None),
        settings=settings,
        ports=ports,
        heap_mib=heap,
        list=content_list_toml(listed, notes),
        findings=tuple(findings),
    )


ADOPTED = "adopted.json"  # what was there when a server was taken over


def give_back(host: Host, folder: Path, reporter: Reporter) -> str:
    """Makes a folder that was taken over what it was, by removing the records: its name. Raises StateError where it was
    not, or where it has been changed since then."""
    home = host.home(folder).required()
    if not home.has(ADOPTED):
        raise StateError(
            "not-adopted", f"{home.folder} was made by Rhizon", hint="To release it and keep its files: rhizon forget"
        )
    name = home.instance().name
    with exclusive(host, home, reporter):
        changed = _changed_since(home) if KeptStates(home.folder).numbers() else []
        if changed:
            raise StateError(
                "changed-since",
                f"{home.folder} has been changed since it was adopted: {', '.join(changed[:3])}",
                hint=f"Take the changes back first: {command_line('rhizon', 'undo', home.folder)}",
            )
        if home.running() is not None:
            raise StateError(
                "server-running",
                f"{name} is running",
                hint=f"Stop it first: {command_line('rhizon', 'stop', home.folder)}",
            )
    with open_ledger(host, write=True) as ledger, ledger.claim():
        ledger.drop(str(home.folder))
    with translated("remove the records", home.own), home.inside() as inside:
        inside.remove(RHIZON)
    return name


def _licence(home: InstanceFolder, game: GameDefinition) -> LicenceAnswer | None:
    """The answer that a person has given to the licence, as the server's own file says it."""
    rule = game.licence
    if rule is None or not (home.folder / rule.text).is_file():
        return None
    place = rule.answer
    with contextlib.suppress(StateError):
        there = native_values(home, place)
        if holds(place.written, DIALECTS[place.written], there, place.key, rule.accepted):
            return LicenceAnswer(accepted_at=now(), text_sha256=hash_file(home.folder / rule.text)[0])
    return None


def _ports_of_content(home: InstanceFolder, game: GameDefinition, lock: Lock, known: dict[str, int]) -> dict[str, int]:
    """The ports that content opens, as its own files say them."""
    found: dict[str, int] = {}
    for role, port in port_places(game, lock).items():
        if role in known:
            continue
        found[role] = port.default
        for place in port.store:
            with contextlib.suppress(StateError):
                said = native_values(home, place).get(place.key, "").strip()
                if said.isdecimal() and 0 < int(said) < 65536:
                    found[role] = int(said)
    return found


def _as_it_was(state: InstanceState) -> Inventory:
    """Every file that a change of Rhizon could touch, as it is now."""
    paths = sorted({*map(RelPath, state.inventory.files), *settings_paths(state)})
    hashes = state.home.hashes(paths)
    files = {str(path): OwnedFile(sha256=sha256, size=0, origin="adopted") for path, sha256 in hashes.items()}
    return Inventory(format="rhizon-inventory/1", files=files)


def _changed_since(home: InstanceFolder) -> list[str]:
    """Files that are others than when the server was adopted, gone, or placed since then."""
    then = decode(Inventory, home.read(f"{RHIZON}/{ADOPTED}") or b"", ADOPTED).files
    hashes = home.hashes(sorted({*map(RelPath, then), *map(RelPath, home.inventory().files)}))
    return sorted(
        path for path in {*then, *hashes} if (then[path].sha256 if path in then else None) != hashes.get(RelPath(path))
    )


def _recognised(
    game: GameDefinition, version: Version, loader: str, build: Version, started: Started, definition: Path
) -> list[Recognised]:
    lines = [
        Recognised(what="game", value=game.title, how=f"as {definition.name} describes it"),
        Recognised(what="version", value=version.text, how=version.how, certain=version.certain),
        Recognised(what="loader", value=f"{loader} {build.text}", how=build.how, certain=build.certain),
    ]
    if started.runtime is not None:
        one = started.runtime
        lines.append(Recognised(what="runtime", value=f"{one.family} {one.version} ({one.program})", how=started.how))
    if started.heap_mib:
        lines.append(Recognised(what="heap", value=f"{started.heap_mib} MiB", how=started.how))
    if started.pid is not None:
        lines.append(Recognised(what="running", value=f"process {started.pid}", how="it works in that folder"))
    return lines


def _lock(
    host: Host,
    game: GameDefinition,
    home: InstanceFolder,
    facts: FolderFacts,
    what: tuple[Version, str, Version],
    started: Started,
    pieces: list[Piece],
) -> tuple[Lock, list[Piece]]:
    """The lock that says the same. Where no catalog has the server's files, they are kept in the store as they are; a
    piece that would lie elsewhere stays what it is, unknown."""
    version, loader, build = what
    if version.server is not None and (build.build is not None or not game.loaders[loader].files):
        known = version.server
        server = _locked(version.catalog, known.artefact)
        tree = known.tree
    else:
        build = build._replace(build=None)
        server, tree = _kept_server(host, game, home, facts, pieces)
    kept = build.build
    locked_loader = None
    if kept is not None:
        locked_loader = LockedLoader(install=kept.install, file=_locked(build.catalog, kept.artefact))
    releases = {one.release.id: one.release for one in pieces if one.release is not None}
    lock = Lock(
        format="rhizon-lock/1",
        name=id_of(home.folder),
        target=Target(
            game=game.id,
            game_version=version.text,
            loader=loader,
            loader_build=parse_version(build.text),
            runtime=game.runtime.family,
            runtime_major=started.runtime.major if started.runtime is not None else 0,
        ),
        server=server,
        server_tree=tree,
        loader=locked_loader,
        releases=tuple(releases[name] for name in sorted(releases)),
        order=tuple(one.release.id for one in pieces if one.release is not None) if game.ordered else (),
    )
    settled: list[Piece] = []
    for one in pieces:
        elsewhere = one.release is not None and (
            releases[one.release.id] is not one.release or place_of(game, lock, one.release) != one.path
        )
        settled.append(one._replace(release=None, how="it has another name than Rhizon gives it") if elsewhere else one)
    stays = {one.release.id for one in settled if one.release is not None}
    lock = msgspec.structs.replace(
        lock,
        releases=tuple(one for one in lock.releases if one.id in stays),
        order=tuple(name for name in lock.order if name in stays),
    )
    return lock, settled


def _locked(catalog: str, artefact: Artefact) -> LockedFile:
    """An artefact of a catalog."""
    return LockedFile(catalog=catalog, path=artefact.path, sha256=artefact.sha256, size=artefact.size)


def _kept_server(
    host: Host, game: GameDefinition, home: InstanceFolder, facts: FolderFacts, pieces: Sequence[Piece]
) -> tuple[LockedFile, RelPath]:
    """The server's own files, as a tree in the store: those that the definition names, with what is in their folders
    and is no content, world, setting or log."""
    content = {one.path for one in pieces}
    named = {*game.server_files, *(path for loader in game.loaders.values() for path in loader.files)}
    tops = {path.partition("/")[0] for path in named if "/" in path}
    files: dict[str, TreeFile] = {}
    for one in facts.files:
        top = one.path.partition("/")[0]
        ours = one.path in named or top in tops or ("/" not in one.path and one.executable)
        if not ours or one.path in game.settings_files or game.world.covers(one.path):
            continue
        if any(one.path == path or one.path.startswith(f"{path}/") for path in content):
            continue
        with contextlib.suppress(UnsafeNameError, RhizonError):
            path = safe_path(one.path)
            sha256 = host.store.add(read_bytes(home.folder / path, "server file", LARGEST))
            files[path] = TreeFile(sha256=sha256, size=one.size, executable=one.executable)
    data = encode_json(FileTree(format="rhizon-tree/1", files=dict(sorted(files.items()))))
    tree = RelPath(f"{game.id}/adopted")
    return LockedFile(catalog=LOCAL, path=RelPath(f"{tree}.json"), sha256=host.store.add(data), size=len(data)), tree


def _inventory(
    host: Host, home: InstanceFolder, game: GameDefinition, lock: Lock, pieces: Sequence[Piece]
) -> Inventory:
    """Every file that Rhizon would have put there and that is there; one with other bytes counts as edited by hand."""
    try:
        wanted = wanted_files(lock, game, host.store, None, allow_installer=False)
    except RhizonError:
        wanted = {}
    files = {
        str(path): OwnedFile(
            sha256=one.sha256, size=one.size, origin=one.origin, edited=one.edited, executable=one.executable
        )
        for path, one in wanted.items()
        if (home.folder / path).is_file()
    }
    for piece in pieces:
        if piece.release is not None and piece.path not in files and (home.folder / piece.path).is_file():
            sha256, size = hash_file(home.folder / piece.path)[:2]
            files[piece.path] = OwnedFile(
                sha256=sha256, size=size, origin=f"{piece.release.id} {piece.release.version}"
            )
    return Inventory(format="rhizon-inventory/1", files=dict(sorted(files.items())))


def _list(
    game: GameDefinition,
    lock: Lock,
    wishes: AdoptWishes,
    settings: dict[str, str | int | bool],
    ports: dict[str, int],
) -> ContentList:
    """A content list that says the same: exact releases, and archives that no catalog has by their folder."""
    local = {one.file.path.rpartition("/")[0] for one in lock.releases if one.file.catalog == LOCAL}
    leaders = {port.role for port in game.ports if port.offset_of is None}
    return ContentList(
        format="rhizon-list/1",
        name=lock.name,
        game=game.id,
        catalogs=tuple(one if "://" in one else str(Path(one).absolute()) for one in wishes.catalogs),
        archives=tuple(f"../{one}" for one in sorted(local) if one),
        target=TargetWish(
            game_version=parse_range(lock.target.game_version),
            loader=lock.target.loader if len(game.loaders) > 1 else None,
        ),
        content={one.id: Wish(range=parse_range(f"={one.version.text}")) for one in lock.releases},
        settings=dict(settings),
        ports={role: number for role, number in ports.items() if role in leaders},
    )


def counted_words(result: AdoptResult) -> str:
    """The content of a server in words."""
    text = counted(len(result.content), "piece") + " of content"
    return f"{text}, {len(result.unknown)} unknown" if result.unknown else text
