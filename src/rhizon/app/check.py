"""Check an instance: what is wrong, what is odd, what would keep it from starting. Nothing is changed."""

import os
import shlex
from pathlib import Path, PurePosixPath

import msgspec

from rhizon.adapters.files import has_stamp, hash_file, read_bytes
from rhizon.adapters.host import memory_mib
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.runtimes import probe
from rhizon.adapters.transact import JOURNAL, RHIZON
from rhizon.app.context import Host, open_ledger
from rhizon.app.moving import taken_ports
from rhizon.app.ports import port_places
from rhizon.app.settling import Side, native_edits
from rhizon.app.whereabouts import Whereabouts, put_right
from rhizon.core.finding import Finding, Severity, worst_first
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance, Inventory
from rhizon.core.model.lock import Lock
from rhizon.core.model.setting import Stored
from rhizon.core.plan import BESIDE
from rhizon.core.runtimes import FAMILIES
from rhizon.core.settings.apply import for_name, holds, spelt
from rhizon.core.settings.dialects import DIALECTS

__all__ = ["Checked", "check"]

_THERE = "\0"  # in a remedy, what stands in the file now


class Checked(msgspec.Struct, frozen=True, kw_only=True):
    """The instance and what was found; ``running`` is the server's process id."""

    folder: str
    name: str
    note: str
    game: str
    files: int
    running: int | None
    findings: tuple[Finding, ...]

    @property
    def sound(self) -> bool:
        """Nothing of severity error was found."""
        return not any(one.severity == "error" for one in self.findings)


def check(host: Host, folder: Path) -> Checked:
    """Raises :class:`StateError` when there is no instance, DocumentError when its documents are broken."""
    home = InstanceFolder(folder).required()
    instance, lock, inventory = home.instance(), home.lock(), home.inventory()
    game = host.game_of(instance, lock)
    running = home.running()
    findings = _whereabouts(home, put_right(host, home))
    if (home.own / JOURNAL).exists():
        findings.append(
            _finding(
                "unfinished-change",
                "error",
                ".rhizon",
                "a change was cut short",
                f"The next command that changes something takes it back, such as: rhizon repair {home.folder}",
            )
        )
    findings += _licence(home, game, instance)
    findings += _files(home, game, inventory)
    findings += _strangers(home, game, lock, inventory)
    findings += _settings(home, game, instance, lock)
    if running is None:
        findings += _ports(home.folder, game, instance, lock)
    findings += _memory(host, game, instance)
    return Checked(
        folder=str(home.folder),
        name=instance.name,
        note=instance.note,
        game=game.title,
        files=len(inventory.files),
        running=running.pid if running else None,
        findings=(*_runtime(instance), *worst_first(findings)),
    )


def _finding(code: str, severity: Severity, subject: str, what: str, remedy: str) -> Finding:
    return Finding(code=code, severity=severity, subject=subject, what=what, remedy=remedy)


def _runtime(instance: Instance) -> list[Finding]:
    """First of all: a changed runtime is what most often breaks a server that ran yesterday."""
    chosen = instance.runtime
    if chosen is None:
        return []
    family = FAMILIES[next(name for name, one in FAMILIES.items() if one.title == chosen.family)]
    report = probe(family, Path(chosen.program))
    remedy = f"Install {chosen.family} {chosen.major} again, or provision again to choose another."
    if report is None:
        return [_finding("runtime-gone", "error", chosen.program, "the runtime does not answer any more", remedy)]
    if report.major != chosen.major:
        what = f"it is {chosen.family} {report.major} now, the server was made for {chosen.major}"
        return [_finding("runtime-other-major", "error", chosen.program, what, remedy)]
    if report.version != chosen.version:
        what = f"it was updated from {chosen.version} to {report.version}"
        return [_finding("runtime-updated", "info", chosen.program, what, "Nothing to do if the server runs well.")]
    return []


def _licence(home: InstanceFolder, game: GameDefinition, instance: Instance) -> list[Finding]:
    again = f"rhizon provision {instance.source} {home.folder}"
    if game.licence is not None and instance.licence is None:
        what = f"nobody has accepted the licence of {game.title}"
        return [
            _finding("licence-pending", "error", game.licence.text, what, f"Read it, then {again} --accept-licence")
        ]
    if not instance.first_start_done:
        return [_finding("first-start-pending", "error", "first start", "it has not been done yet", again)]
    return []


def _files(home: InstanceFolder, game: GameDefinition, inventory: Inventory) -> list[Finding]:
    findings = []
    again = f"rhizon repair {home.folder}"
    settings = game.settings_files
    for path, owned in inventory.files.items():
        file = home.folder / path
        if path.endswith(BESIDE) or (path in settings and not file.is_file()):
            continue  # there to be looked at and deleted; told as a settings file
        if not file.is_file():
            severity: Severity = "info" if owned.edited else "error"
            remedy = f"Fine if you deleted it; rhizon update {home.folder} puts it back." if owned.edited else again
            findings.append(_finding("file-missing", severity, path, f"it is gone ({owned.origin})", remedy))
        elif owned.executable and not file.stat().st_mode & 0o100:
            findings.append(_finding("file-changed", "error", path, "it is not marked as a program any more", again))
        elif not owned.edited and not has_stamp(file.stat(), owned.sha256) and hash_file(file)[0] != owned.sha256:
            what = f"it is not what was placed ({owned.origin})"
            findings.append(_finding("file-changed", "error", path, what, again))
    return findings


def _strangers(home: InstanceFolder, game: GameDefinition, lock: Lock, inventory: Inventory) -> list[Finding]:
    """Content in the content folders that nobody locked, archives or, where such are unpacked, folders."""
    loader = game.loaders[lock.target.loader]
    named = loader.enabled is not None or any("{content}" in word for word in loader.command)
    what = "it is in a content folder and in no lock; players would need it too"
    if named:
        what = "it is in a content folder and in no lock; the server is told what to load, and leaves it alone"
    severity: Severity = "info" if named else "warning"
    remedy = "Put it into the list and provision again, or take it out of the folder."
    endings = {os.path.splitext(one.file.path)[1] for one in lock.releases}  # noqa: PTH122 - a text, not a file
    ours = {parent for path in inventory.files for parent in (path, *map(str, PurePosixPath(path).parents))}
    unpacked = {folder for kind, folder in game.folders.items() if kind in game.placing and game.placing[kind].unpack}
    findings = []
    for folder in sorted(set(game.folders.values())):
        for file in sorted((home.folder / folder).glob("*")) if (home.folder / folder).is_dir() else ():
            path = f"{folder}/{file.name}"
            content = file.is_dir() if folder in unpacked else file.suffix in endings
            if content and path not in ours:
                findings.append(_finding("unknown-content", severity, path, what, remedy))
    return findings


def _settings(home: InstanceFolder, game: GameDefinition, instance: Instance, lock: Lock) -> list[Finding]:
    findings = []
    again = _said_again(home.folder, game, instance, lock)
    for name, (dialect, values) in native_edits(game, Side(instance=instance, lock=lock)).items():
        path = home.folder / name
        if not path.is_file():
            if instance.first_start_done:
                remedy = f"rhizon update {home.folder} writes it anew as it was set; secrets have to be given again."
                findings.append(_finding("settings-file-missing", "error", name, "it is gone", remedy))
            continue
        try:
            native = DIALECTS[dialect].read(read_bytes(path, "settings file"))
        except ValueError as broken:
            remedy = "Mend that line by hand."
            findings.append(_finding("native-file-broken", "error", name, str(broken), remedy))
            continue
        for key, wanted in values.items():
            if not holds(dialect, DIALECTS[dialect], native, key, wanted):
                value = DIALECTS[dialect].spell(wanted)
                what = f"{key} is {native.get(key, '(missing)')!r}, {value!r} was set"
                remedy = again.get((name, key), "Fine if you changed it by hand: it stays.")
                remedy = remedy.replace(_THERE, native.get(key, "NUMBER"))
                findings.append(_finding("setting-differs", "warning", name, what, remedy))
    return findings


def _said_again(folder: Path, game: GameDefinition, instance: Instance, lock: Lock) -> dict[tuple[str, str], str]:
    """By file and key how a recorded value is written there once more."""
    said: dict[tuple[str, str], str] = {}

    def command(*words: str) -> str:
        return shlex.join(("rhizon", words[0], str(folder), *words[1:]))

    def put(place: Stored, change: str) -> None:
        said[place.file, place.key] = f"Fine if you changed it by hand: it stays. Else: {command('set', change)}"

    for name, value in instance.settings.items():
        one = game.settings.get(name)
        if one is None or one.store is None:
            continue
        if one.type != "names":
            put(one.store, f"{name}={spelt(value)}")
            continue
        for person in one.names(value):
            put(for_name(one.store, person), f"{name}+={person}")
    for role, port in port_places(game, lock).items():
        for place in port.store:
            keep, back = f"{role}={_THERE}", f"{role}={instance.ports.get(role, 0)}"
            said[place.file, place.key] = (
                f"Others may be given that number. To keep it: {command('ports', '--move', '--port')} {keep}; "
                f"else the same with {back}"
            )
    return said


def _ports(folder: Path, game: GameDefinition, instance: Instance, lock: Lock) -> list[Finding]:
    by_number = {one.number: one for one in reversed(taken_ports(game, lock, instance))}  # one protocol of each
    remedy = f"Stop that program, or move the server to free ports: rhizon ports {folder} --move"
    return [
        _finding("port-taken", "error", one.role, f"port {one.number} ({one.protocol}) is held by {one.holder}", remedy)
        for one in sorted(by_number.values(), key=lambda one: one.number)
    ]


def _memory(host: Host, game: GameDefinition, instance: Instance) -> list[Finding]:
    with open_ledger(host) as ledger:
        entries = ledger.entries()
    granted = sum(one.memory_mib for one in entries)
    findings = []
    total = memory_mib()
    if instance.heap_mib + game.memory.outside_heap_mib > total:
        what = f"the server may take {instance.heap_mib + game.memory.outside_heap_mib} MiB, the host has {total}"
        findings.append(_finding("memory-short", "error", "memory", what, "Provision again with --memory MIB."))
    elif granted > total:
        what = f"this host's {len(entries)} instances may take {granted} MiB together, it has {total}"
        findings.append(_finding("memory-overcommitted", "warning", "memory", what, "Run fewer at once."))
    return findings


def _whereabouts(home: InstanceFolder, found: Whereabouts | None) -> list[Finding]:
    if found is None:
        return []
    if not found.held_by:
        return [_finding("moved-by-hand", "info", RHIZON, found.words, "")]
    remedy = f"If both are to run, give this one ports of its own: rhizon ports {home.folder} --move"
    return [_finding("not-in-ledger", "warning", RHIZON, found.words, remedy)]
