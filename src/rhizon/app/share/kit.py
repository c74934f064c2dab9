"""A kit: all that a server's players need, in one zip, with instructions."""

from collections.abc import Iterator
from pathlib import Path

import msgspec

from rhizon.adapters.files import read_bytes
from rhizon.adapters.undo_history import KeptStates
from rhizon.adapters.zip_out import write_zip
from rhizon.app.choose.kit_file import is_kit, read_kit
from rhizon.app.host import Host
from rhizon.app.instance.exclusive import exclusive
from rhizon.app.instance.state import InstanceState, require_instance_state
from rhizon.app.reporter import Reporter
from rhizon.app.share.players_need import page_texts, players_need
from rhizon.core.errors import InputError
from rhizon.core.kit.manifest import changed_pieces
from rhizon.core.kit.readme import SYSTEMS, readme
from rhizon.core.kit.zipped import GAME, kit_documents, packed_files
from rhizon.core.model.documents import decode
from rhizon.core.model.game_parts import System
from rhizon.core.model.kit import KitManifest
from rhizon.core.model.lock import Lock

__all__ = [
    "KitPart",
    "KitResult",
    "KitWishes",
    "Told",
    "kit_entries",
    "make_kit",
    "remember_told",
    "told_state",
]

PREVIOUS = "previous"


class Told(msgspec.Struct, frozen=True, kw_only=True):
    """What players are told, from now on (None: as before): the server's address, whom to ask, what it is about."""

    address: str | None = None
    contact: str | None = None
    description: str | None = None


class KitWishes(msgspec.Struct, frozen=True, kw_only=True):
    """What a person asks for. ``systems`` have instructions; of optional content only ``optional`` (None: all);
    ``against`` a lock, a kit, or "previous" for the server before its last change: only what differs."""

    file: Path
    systems: tuple[System, ...] = SYSTEMS
    optional: tuple[str, ...] | None = None
    against: str | None = None
    told: Told = Told()
    dry_run: bool = False


class KitPart(msgspec.Struct, frozen=True, kw_only=True):
    """A piece of content in a kit; one that is not ``packed`` players fetch from ``page``."""

    id: str
    version: str
    title: str
    optional: bool
    packed: bool
    page: str


class KitResult(msgspec.Struct, frozen=True, kw_only=True):
    """The kit: its file, SHA-256 and size (empty where it is only planned), what is in it, what players delete, the
    loader that they need, and whether it is in the kit; what they join at."""

    folder: str
    name: str
    file: str
    planned: bool
    sha256: str
    size: int
    parts: tuple[KitPart, ...]
    files: int
    delete: tuple[str, ...]
    loader: str
    loader_packed: bool
    join: str


def make_kit(host: Host, folder: Path, reporter: Reporter, wishes: KitWishes) -> KitResult:
    """Raises :class:`~rhizon.core.errors.StateError` (something is not available: there is no kit then), InputError."""
    home = host.home(folder).required()
    if not wishes.dry_run:
        remember_told(host, folder, reporter, wishes.told)
    state = told_state(require_instance_state(host, home), wishes.told)
    whole = players_need(host, state, reporter, wishes.optional)
    before = _earlier(host, state, wishes.against, reporter) if wishes.against is not None else None
    changed, delete = changed_pieces(before, whole)
    files = packed_files(changed)
    sha256, size = "", 0
    if not wishes.dry_run:
        reporter.step(f"writing {wishes.file.name}")
        text = readme(page_texts(), changed, wishes.systems, delete, partial=before is not None)
        sha256, size = write_zip(wishes.file, kit_entries(host, whole, changed, text))
    loader = changed.loader
    return KitResult(
        folder=str(home.folder),
        name=state.instance.name,
        file=str(wishes.file),
        planned=wishes.dry_run,
        sha256=sha256,
        size=size,
        parts=tuple(
            KitPart(
                id=one.id,
                version=one.version.text,
                title=one.title,
                optional=one.optional,
                packed=one.packed,
                page=one.page,
            )
            for one in changed.pieces
        ),
        files=len(files),
        delete=tuple(delete),
        loader=f"{loader.title} {loader.build}" if loader is not None else "",
        loader_packed=bool(loader is not None and loader.files),
        join=whole.join,
    )


def kit_entries(host: Host, whole: KitManifest, changed: KitManifest, text: str) -> Iterator[tuple[str, bytes]]:
    """What is in the zip: the manifest is of all that a player needs, the files are those that changed. Raises
    TrustError for bytes that are not the lock's."""
    yield from kit_documents(whole, text).items()
    for file in packed_files(changed):
        yield f"{GAME}{file.path}", host.store.read(file.sha256, file.path)


def told_state(state: InstanceState, told: Told) -> InstanceState:
    """The server as it is with what players are told now."""
    said = {name: value for name, value in msgspec.structs.asdict(told).items() if value is not None}
    players = msgspec.structs.replace(state.instance.players, **said)
    return state.with_instance(msgspec.structs.replace(state.instance, players=players))


def remember_told(host: Host, folder: Path, reporter: Reporter, told: Told) -> None:
    """Writes down what players are told from now on."""
    if told == Told():
        return
    home = host.home(folder).required()
    with exclusive(host, home, reporter):
        before = require_instance_state(host, home)
        after = told_state(before, told).instance
        if after != before.instance:
            home.write_instance(after)


def _earlier(host: Host, state: InstanceState, against: str, reporter: Reporter) -> KitManifest:
    """What players needed before. Raises InputError, DocumentError."""
    if against == PREVIOUS:
        kept = KeptStates(state.home.folder)
        numbers = kept.numbers()
        if not numbers:
            raise InputError(
                "nothing-kept", f"{state.instance.name} has not changed since it was made", hint="Make a whole kit."
            )
        lock = kept.read(numbers[-1]).lock
    else:
        file = Path(against)
        if is_kit(file):
            return read_kit(file)[0]
        lock = decode(Lock, read_bytes(file, "lock or kit", 64 << 20), str(file))
    if lock.target.game != state.game.id:
        raise InputError(
            "other-game", f"{against} is of the game {lock.target.game}", hint="Name a lock or kit of this server."
        )
    return players_need(host, msgspec.structs.replace(state, lock=lock), reporter)
