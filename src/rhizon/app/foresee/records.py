"""What is not as Rhizon's own records say: files that it placed, values that were set, what the ledger holds."""

import os
import shlex
import stat
from pathlib import Path, PurePosixPath

from rhizon.adapters.files import FileBytes
from rhizon.adapters.inside import Inside
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.transact import RHIZON
from rhizon.adapters.world_files import world_units
from rhizon.app.host import Host
from rhizon.app.instance.edited_files import native_edits
from rhizon.app.instance.native_files import native_values
from rhizon.app.instance.reservations import collisions, entry_of, is_the_same, known_servers
from rhizon.app.instance.state import InstanceState
from rhizon.core.allocate.port_roles import port_places
from rhizon.core.archives.entries import Archive
from rhizon.core.errors import RhizonError, StateError
from rhizon.core.finding import Finding, Severity
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance, Inventory, OwnedFile
from rhizon.core.model.lock import Lock
from rhizon.core.model.setting import Stored
from rhizon.core.plan import BESIDE
from rhizon.core.settings.apply import for_name, format_value, holds, name_in
from rhizon.core.settings.dialects import DIALECTS
from rhizon.core.words import command_line

__all__ = ["broken_files", "record_findings"]

_THERE = "\0"  # in a remedy, what is in the file now


def record_findings(host: Host, state: InstanceState) -> list[Finding]:
    """Everything that is not as it was placed, set or noted."""
    home, game, instance, lock, inventory = state.home, state.game, state.instance, state.lock, state.inventory
    return [
        *_documents(home),
        *_ledger(host, home, game, instance),
        *_licence(home, game, instance),
        *_links(home, game),
        *_files(host, home, game, inventory),
        *_strangers(home, game, lock, inventory),
        *_settings(state),
        *_secrets(home, game),
    ]


def broken_files(state: InstanceState) -> list[Finding]:
    """Files that were placed and are gone, no longer executable, or changed so that nothing can read them: without
    these a start goes wrong, or is one of another server."""
    findings = []
    again = command_line("rhizon", "repair", state.home.folder)
    with state.home.inside() as inside:
        for path, owned in state.inventory.files.items():
            place = state.home.valid(path)
            if owned.edited or path.endswith(BESIDE) or place is None:
                continue
            facts = inside.lstat(place)
            if facts is None:
                what = f"missing; it is {owned.origin}"
                findings.append(_finding("file-missing", "error", path, what, again))
            elif owned.executable and not facts.st_mode & 0o100:
                findings.append(_finding("file-changed", "error", path, "no longer executable", again))
            elif facts.st_size != owned.size and _is_broken(state.home.folder / path, facts.st_size):
                what = f"it is damaged; it was {owned.origin}"
                findings.append(_finding("file-changed", "error", path, what, again))
    return findings


def _is_broken(file: Path, size: int) -> bool:
    """Whether a changed file is no longer what its ending says, or empty."""
    if size == 0:
        return True
    if file.suffix.lower() not in (".jar", ".zip"):
        return False
    try:
        with FileBytes(file) as data:
            Archive(data, file.name)
    except (RhizonError, OSError):
        return True
    return False


def _finding(code: str, severity: Severity, subject: str, what: str, remedy: str) -> Finding:
    return Finding(code=code, severity=severity, subject=subject, what=what, remedy=remedy)


def _licence(home: InstanceFolder, game: GameDefinition, instance: Instance) -> list[Finding]:
    again = f"{command_line('rhizon', 'provision', instance.source, home.folder)}"
    if game.licence is not None and instance.licence is None:
        what = f"the licence has not been accepted: {game.title}"
        return [
            _finding("licence-pending", "error", game.licence.text, what, f"Read it, then {again} --accept-licence")
        ]
    if not instance.first_start_done:
        return [_finding("first-start-pending", "error", "first start", "not done yet", again)]
    return []


def _documents(home: InstanceFolder) -> list[Finding]:
    """Rhizon's own records: an unfinished change, damage."""
    again = f"{command_line('rhizon', 'repair', home.folder)}"
    findings = [
        _finding(
            "instance-damaged",
            "error",
            f"{RHIZON}/{one.name}",
            f"it is damaged ({one.why}); the rest of this report uses the {one.source}",
            again,
        )
        for one in home.damaged()
    ]
    if home.is_unfinished:
        what = "a change was interrupted; this report shows the state before it"
        remedy = f"It is rolled back by the next command that changes something: {again}"
        findings.append(_finding("unfinished-change", "error", RHIZON, what, remedy))
    return findings


def _links(home: InstanceFolder, game: GameDefinition) -> list[Finding]:
    """Folders of the instance that are elsewhere, where no one said that this is meant."""
    world = game.world.folder
    folders: set[str] = {RHIZON, *game.folders.values(), *game.world.also} | ({world} if world else set())
    if not world or not _leads_away(home, world):
        with home.inside() as inside:
            folders |= set(world_units(inside, game.world))
    what = "it is a link that is not allowed in host.toml: nothing there is changed or backed up"
    remedy = 'Put the folder itself there, or allow its target in host.toml: linked = ["/that/folder"].'
    return [_finding("linked-folder", "error", one, what, remedy) for one in sorted(folders) if _leads_away(home, one)]


def _leads_away(home: InstanceFolder, path: str) -> bool:
    with home.inside() as inside:
        return (home.folder / path).is_symlink() and not inside.is_folder(path)


def _ledger(host: Host, home: InstanceFolder, game: GameDefinition, instance: Instance) -> list[Finding]:
    """Whether the ledger knows the server here, and whether another one holds its ports too."""
    findings = []
    entry = entry_of(game, home, instance)
    servers, trouble = known_servers(host)
    if trouble:
        findings.append(_finding("ledger-damaged", "warning", "ledger", trouble, "rhizon host --rebuild"))
    if not any(one.entry.folder == str(home.folder) for one in servers):
        was = next((one.entry.folder for one in servers if is_the_same(one, entry)), None)
        if was is not None:
            what, remedy = (
                f"it was moved here from {was}",
                "The next command that changes something updates the ledger.",
            )
            findings.append(_finding("moved-by-hand", "note", RHIZON, what, remedy))
        else:
            what = "it is not in this machine's ledger: its ports may be given to another server"
            findings.append(_finding("not-in-ledger", "warning", RHIZON, what, f"rhizon host --rebuild {home.folder}"))
    remedy = f"Give one of the two ports of its own: {command_line('rhizon', 'ports', home.folder, '--move')}"
    for one in collisions(host, entry):
        what = f"port {one.number} is also a port of {one.other.name} ({one.other.folder})"
        findings.append(_finding("port-clash", "error", one.role, what, remedy))
    return findings


def _secrets(home: InstanceFolder, game: GameDefinition) -> list[Finding]:
    """Settings files that hold a secret and that others may read."""
    findings = []
    secret = {setting: one.places for setting, one in game.settings.items() if one.secret}
    for name in sorted({place.file for places in secret.values() for place in places}):
        with home.inside() as inside:
            facts = inside.lstat(name)
        held = [
            setting
            for setting, places in secret.items()
            if any(place.file == name and _says(home, place) for place in places)
        ]
        if facts is not None and facts.st_mode & 0o077 and held:
            what = f"it contains {', '.join(held)}, and other users can read it (mode {facts.st_mode & 0o777:04o})"
            findings.append(
                _finding("secret-readable", "warning", name, what, f"chmod 600 {shlex.quote(str(home.folder / name))}")
            )
    return findings


def _says(home: InstanceFolder, place: Stored) -> bool:
    try:
        return bool(native_values(home, place).get(place.key))
    except StateError:
        return True  # a file that cannot be understood may hold it


def _files(host: Host, home: InstanceFolder, game: GameDefinition, inventory: Inventory) -> list[Finding]:
    findings = []
    with home.inside() as inside:
        for path, owned in inventory.files.items():
            try:
                findings += _file(host, home, inside, game, path, owned)
            except StateError as refused:
                findings.append(_finding(refused.code, "error", path, refused.message, refused.hint))
    return findings


def _file(
    host: Host, home: InstanceFolder, inside: Inside, game: GameDefinition, path: str, owned: OwnedFile
) -> list[Finding]:
    """What is wrong with one placed file."""
    again = f"{command_line('rhizon', 'repair', home.folder)}"
    place = home.valid(path)
    facts = inside.lstat(place) if place is not None else None
    there = facts is not None and stat.S_ISREG(facts.st_mode)
    if path.endswith(BESIDE) or (path in game.settings_files and not there):
        return []  # there to be looked at and deleted; reported as a settings file
    if facts is None or place is None:
        severity: Severity = "note" if owned.edited else "error"
        remedy = (
            f"If you did not delete it, this puts it back: {command_line('rhizon', 'update', home.folder)}"
            if owned.edited
            else again
        )
        return [_finding("file-missing", severity, path, f"missing; it is {owned.origin}", remedy)]
    if owned.edited and there:
        return []
    if owned.executable and not facts.st_mode & 0o100:
        return [_finding("file-changed", "error", path, "no longer executable", again)]
    if inside.hashes([place], host.store.verified)[place] != owned.sha256:
        return [_finding("file-changed", "error", path, f"changed since it was placed; it was {owned.origin}", again)]
    return []


def _strangers(home: InstanceFolder, game: GameDefinition, lock: Lock, inventory: Inventory) -> list[Finding]:
    """Content in the content folders that no one locked, archives or, where such are unpacked, folders."""
    loader = game.loaders[lock.target.loader]
    named = loader.enabled is not None or any("{content}" in word for word in loader.command)
    what = "it is in a content folder but not in the lock; players would need it too"
    if named:
        what = "it is in a content folder but not in the lock; the server does not load it"
    severity: Severity = "note" if named else "warning"
    remedy = "Add it to the list and provision again, or remove it from the folder."
    endings = {os.path.splitext(one.file.path)[1] for one in lock.releases}  # noqa: PTH122 - a text, not a file
    ours = {parent for path in inventory.files for parent in (path, *map(str, PurePosixPath(path).parents))}
    unpacked = {folder for kind, folder in game.folders.items() if kind in game.placing and game.placing[kind].unpack}
    findings = []
    for folder in sorted(set(game.folders.values())):
        if _leads_away(home, folder):
            continue
        for file in sorted((home.folder / folder).glob("*")) if (home.folder / folder).is_dir() else ():
            path = f"{folder}/{file.name}"
            content = file.is_dir() if folder in unpacked else file.suffix in endings
            if content and path not in ours:
                findings.append(_finding("unknown-content", severity, path, what, remedy))
    return findings


def _settings(state: InstanceState) -> list[Finding]:
    """What the server's own files say otherwise than was set."""
    home, game, instance, lock = state.home, state.game, state.instance, state.lock
    findings = []
    again = _said_again(home.folder, game, instance, lock)
    enabled = game.loaders[lock.target.loader].enabled
    for name, (dialect, values) in native_edits(state).items():
        data = home.read(name)
        try:
            native = DIALECTS[dialect].read(data) if data is not None else None
        except ValueError:
            native = None
        if native is None:  # a rule says what is wrong with it
            continue
        for key, wanted in values.items():
            if enabled is not None and name == enabled.file and name_in(enabled, key) is not None:
                continue  # a rule says which content is not named
            if not holds(dialect, DIALECTS[dialect], native, key, wanted):
                value = DIALECTS[dialect].spell(wanted)
                what = f"{key} is {native.get(key, '(missing)')!r}, {value!r} was set"
                remedy = again.get((name, key), "If you changed it by hand, it stays.")
                remedy = remedy.replace(_THERE, native.get(key, "NUMBER"))
                findings.append(_finding("setting-differs", "warning", name, what, remedy))
    return findings


def _said_again(folder: Path, game: GameDefinition, instance: Instance, lock: Lock) -> dict[tuple[str, str], str]:
    """By file and key how a recorded value is written there once more."""
    said: dict[tuple[str, str], str] = {}

    def command(*words: str) -> str:
        return command_line("rhizon", words[0], folder, *words[1:])

    def put(place: Stored, change: str) -> None:
        said[place.file, place.key] = f"If you changed it by hand, it stays. To set it back: {command('set', change)}"

    for name, value in instance.settings.items():
        one = game.settings.get(name)
        if one is None or one.store is None:
            continue
        if one.type != "names":
            for each in one.places:
                put(each, f"{name}={format_value(value)}")
            continue
        for person in one.names(value):
            put(for_name(one.store, person), f"{name}+={person}")
    for role, port in port_places(game, lock).items():
        for place in port.store:
            said[place.file, place.key] = (
                f"Another server may get that number. To go back to {instance.ports.get(role, 0)}, give that one; to "
                f"keep it: {command('ports', '--move', '--port')} {role}={_THERE}"
            )
    return said
