"""What the instances of this host hold, ports and memory, and how a change reserves what it will hold.

The instances' folders are the truth, the ledger is an index of them. A change reserves in the ledger what it will hold
beside what is held now; then the folder changes in one transaction; then the row is read from the folder again, also
after a failure (:func:`settle`). A command that is killed in between leaves too much reserved, never too little; the
next command that changes anything corrects this.
"""

import contextlib
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import Literal, NamedTuple, TypeVar

import msgspec

from rhizon.adapters.host import socket_in_use
from rhizon.adapters.instances import INSTANCE, InstanceFolder
from rhizon.adapters.ledger import Entry, Ledger
from rhizon.adapters.processes import holder_of
from rhizon.app.host import Host, open_ledger
from rhizon.core.allocate.port_roles import every_number, port_wishes
from rhizon.core.allocate.ports import allocate
from rhizon.core.errors import InputError, RhizonError, StateError
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance
from rhizon.core.model.lock import Lock
from rhizon.core.names import ID_PATTERN, printable
from rhizon.core.words import command_line, free_name

__all__ = [
    "Collision",
    "Server",
    "collisions",
    "entry_of",
    "is_the_same",
    "known_servers",
    "others_than",
    "ports_for",
    "reconcile",
    "require_free",
    "reserved",
    "server_name",
    "settle",
]

T = TypeVar("T")
Presence = Literal["here", "absent", "damaged"]


class Server(NamedTuple):
    """An instance that the ledger knows, as its folder says it is. "absent": the folder cannot be seen (a disk that is
    not mounted, moved, no permission), "damaged": its record cannot be read. Both keep what they hold."""

    entry: Entry
    presence: Presence
    why: str = ""


class Collision(NamedTuple):
    """A port that another server holds too."""

    role: str
    number: int
    other: Entry


def entry_of(game: GameDefinition, home: InstanceFolder, instance: Instance, seen: str = "") -> Entry:
    """What an instance holds."""
    return Entry(
        folder=str(home.folder),
        name=instance.name,
        game=instance.game,
        note=instance.note,
        memory_mib=instance.heap_mib + game.memory.outside_heap_mib,
        ports=every_number(game, instance.ports),
        seen=seen,
    )


def _seen(home: InstanceFolder) -> str | None:
    """What tells the instance's record from an earlier or later one; None where it cannot be seen."""
    try:
        facts = (home.own / INSTANCE).stat()
    except OSError:
        return None
    if home.is_unfinished:
        return "unfinished"
    return f"{facts.st_ino} {facts.st_size} {facts.st_mtime_ns}"


def _read(host: Host, home: InstanceFolder, seen: str) -> Entry:
    """The entry as the folder has it. Raises RhizonError."""
    instance = home.instance()
    return entry_of(host.game_of(instance), home, instance, seen)


def _look(host: Host, entry: Entry) -> Server:
    home = host.home(Path(entry.folder))
    seen = _seen(home)
    if seen is not None and seen == entry.seen and not entry.soon:
        return Server(entry, "here")
    if seen is None and not home.is_ours:
        return Server(entry, "absent", "its folder was not found")
    try:
        return Server(msgspec.structs.replace(_read(host, home, seen or ""), soon=entry.soon), "here")
    except (RhizonError, OSError) as broken:
        return Server(entry, "damaged", getattr(broken, "message", str(broken)))


def known_servers(host: Host) -> tuple[list[Server], str]:
    """Every instance that the ledger knows, by folder; reservations of instances that never came to be, and what is to
    be forgotten, are left out. Nothing is written. Then what is wrong with the ledger, "" where nothing is."""
    with open_ledger(host) as ledger:
        entries, trouble = ledger.entries(), ledger.trouble
    servers = [_look(host, one) for one in entries if not host.home(Path(one.folder)).is_forgotten]
    return [one for one in servers if one.entry.seen or one.presence != "absent"], trouble


def others_than(host: Host, home: InstanceFolder) -> list[Entry]:
    """What all other servers hold. Nothing is written."""
    return [one.entry for one in known_servers(host)[0] if one.entry.folder != str(home.folder)]


def collisions(host: Host, entry: Entry) -> list[Collision]:
    """Ports that other servers hold too: of two such servers one cannot start."""
    mine = {number: role for role, number in entry.ports.items()}
    return [
        Collision(role=mine[number], number=number, other=one.entry)
        for one in known_servers(host)[0]
        if one.entry.folder != entry.folder and not is_the_same(one, entry)
        for number in sorted(mine.keys() & set(one.entry.ports.values()))
    ]


def is_the_same(server: Server, entry: Entry) -> bool:
    """Whether a server that cannot be seen seems to be this one, moved here."""
    return server.presence == "absent" and (server.entry.name, server.entry.ports) == (entry.name, entry.ports)


def reconcile(host: Host, ledger: Ledger) -> None:
    """Reads again what rows say of folders that have changed, and drops reservations that no one works on any more;
    only inside a claim. Folders that cannot be seen keep their rows, as do those that another command works on."""
    for entry in ledger.entries():
        home = host.home(Path(entry.folder))
        seen = _seen(home)
        if (seen is not None and seen == entry.seen and not entry.soon) or home.is_busy:
            continue
        _settle(host, ledger, home, entry, seen)


def _settle(host: Host, ledger: Ledger, home: InstanceFolder, entry: Entry | None, seen: str | None) -> None:
    """Makes a row what its folder says. A row that was never more than a reservation goes with it."""
    if home.is_ours and not home.is_forgotten:
        with contextlib.suppress(RhizonError, OSError):
            now = _read(host, home, seen or "damaged")
            if now != entry:
                ledger.put(now)
            return
    if entry is not None and (not entry.seen or home.is_forgotten):
        ledger.drop(entry.folder)


def settle(host: Host, home: InstanceFolder) -> str:
    """Makes the row of one instance what its folder says; the caller holds the instance. Answers in words what that
    has brought to light: that the folder was moved, or was not known. "" where it is as it was.

    Raises :class:`StateError` where the ledger cannot be written."""
    seen = _seen(home)
    with open_ledger(host) as ledger:
        before = next((one for one in ledger.entries() if one.folder == str(home.folder)), None)
        if (before is None and not home.is_ours) or (before and before.seen == seen and not before.soon):
            return ""
    with open_ledger(host, write=True) as ledger, ledger.claim():
        entries = ledger.entries()
        before = next((one for one in entries if one.folder == str(home.folder)), None)
        words = ""
        if before is None and home.is_ours and not home.is_forgotten:
            words = _arrived(host, ledger, home, entries)
        _settle(host, ledger, home, before, seen)
    return words


def _arrived(host: Host, ledger: Ledger, home: InstanceFolder, entries: Sequence[Entry]) -> str:
    """An instance that the ledger does not know: moved here from a folder that is gone, copied, or known to another
    state folder."""
    try:
        mine = _read(host, home, "")
    except (RhizonError, OSError):
        return ""
    for one in entries:
        if is_the_same(_look(host, one), mine):
            ledger.drop(one.folder)
            return f"it was moved here from {one.folder}; the ledger has been updated"
    return "it was not in this machine's ledger and has been added"


def server_name(wanted: str | None, before: str | None, usual: str, others: Sequence[Entry]) -> str:
    """The name of a server, which no other one of this host has: the ``wanted`` one, the one that it has, or the
    ``usual`` one (with a number behind it where that is taken). Raises InputError where the wanted one is not an id or
    is taken."""
    taken = {one.name: one.folder for one in others}
    if wanted is None:
        return before if before is not None else free_name(usual, taken)
    if not re.fullmatch(ID_PATTERN, wanted):
        raise InputError(
            "bad-name",
            f"{printable(wanted, 80)!r} is not a valid name",
            hint="A name has small letters, digits, and . _ - between them, at most 64.",
        )
    if wanted in taken and wanted != before:
        raise InputError(
            "name-taken",
            f"the server in {taken[wanted]} is named {wanted}",
            hint=f"Choose another name, such as {free_name(wanted, taken)}.",
        )
    return wanted


def ports_for(
    host: Host,
    game: GameDefinition,
    lock: Lock,
    kept: Mapping[str, int],
    others: Sequence[Entry],
    fixed: Mapping[str, int] | None = None,
    *,
    runs: bool = False,
) -> dict[str, int]:
    """A port for each role that no other instance holds and no program uses, the ``kept`` one where that is free.
    ``runs``: the server itself uses the kept ones now. Raises :class:`StateError` where a ``fixed`` one is not free."""
    held = {number: f"the server {one.name} ({one.folder})" for one in others for number in one.numbers}
    own = set(every_number(game, kept).values()) if runs else ()

    def holder(number: int, protocol: str) -> str | None:
        if number in held:
            return held[number]
        return holder_of(number) if number not in own and socket_in_use(number, protocol) else None

    return allocate(port_wishes(game, lock, kept), fixed or {}, holder, host.port_room())


@contextlib.contextmanager
def reserved(host: Host, home: InstanceFolder, decide: Callable[[Sequence[Entry]], tuple[T, Entry]]) -> Iterator[T]:
    """What ``decide`` chooses beside what all others hold; inside, no one else gets that, nor what the instance holds
    now. The caller holds the instance, whose row is settled when it lets go of it."""
    with open_ledger(host, write=True) as ledger, ledger.claim():
        reconcile(host, ledger)
        entries = ledger.entries()
        before = next((one for one in entries if one.folder == str(home.folder)), None)
        chosen, after = decide([one for one in entries if one.folder != str(home.folder)])
        if before is None:
            ledger.put(msgspec.structs.replace(after, seen=""))
        elif (before.name, before.ports, before.memory_mib) != (after.name, after.ports, after.memory_mib):
            memory = max(before.memory_mib, after.memory_mib)
            held = msgspec.structs.replace(before, name=after.name, soon=after.ports, memory_mib=memory)
            ledger.put(msgspec.structs.replace(held, seen=f"{before.seen} changing"))  # read again when it is settled
    yield chosen


def require_free(host: Host, home: InstanceFolder, entry: Entry) -> None:
    """Raises :class:`StateError` where another server holds one of the ports."""
    for one in collisions(host, entry):
        raise StateError(
            "port-clash",
            f"port {one.number} ({one.role}) is also a port of {one.other.name} ({one.other.folder})",
            hint=f"Give this server other ports: {command_line('rhizon', 'ports', home.folder, '--move')}",
        )
