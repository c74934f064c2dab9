"""Solve a list or a pack and write the lock."""

from pathlib import Path

import msgspec

from rhizon.adapters.files import translated, write_atomic
from rhizon.app.choose.resolve import Prefer, SolveOptions, Stopping, catalogs_for, solve_source
from rhizon.app.choose.sources import read_any, read_lock
from rhizon.app.choose.timed import WAIT_SECONDS
from rhizon.app.host import Host
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError
from rhizon.core.finding import Finding
from rhizon.core.folder_files import FolderFile
from rhizon.core.model.decode import encode_json
from rhizon.core.model.lock import Dropped, HeldBack, Target
from rhizon.core.model.metadata import Placement
from rhizon.core.version import Version
from rhizon.core.words import command_line

__all__ = ["SolveResult", "SolveWishes", "SolvedRelease", "solve_to_lock"]


class SolvedRelease(msgspec.Struct, frozen=True, kw_only=True):
    """One line of the answer; ``because`` is ``list`` or the ids that need it; ``size`` in bytes."""

    id: str
    version: Version
    placement: Placement
    on_server: bool
    for_players: bool
    because: tuple[str, ...]
    held_back_by: HeldBack | None
    size: int


class SolveResult(msgspec.Struct, frozen=True, kw_only=True):
    """The answer: the source's name, the target, every release, what was dropped, what the server and each player have
    to download (bytes), and where the lock was written."""

    name: str
    source: str
    game: str
    game_title: str
    target: Target
    releases: tuple[SolvedRelease, ...]
    dropped: tuple[Dropped, ...]
    server_bytes: int
    player_bytes: int
    lock_file: str | None
    folder_files: tuple[FolderFile, ...] = ()
    findings: tuple[Finding, ...]


class SolveWishes(msgspec.Struct, frozen=True, kw_only=True):
    """What a person asks for: other catalogs, where to write the lock (with ``write``), releases as close as possible
    to those of a lock, what to prefer, how long it may take and who may interrupt it, and the game of a folder of
    archives."""

    catalogs: tuple[str, ...] = ()
    lock_file: Path | None = None
    write: bool = True
    close_to: Path | None = None
    prefer: Prefer = "list"
    game: str | None = None
    wait: float = WAIT_SECONDS
    stopping: Stopping | None = None


def solve_to_lock(host: Host, path: Path, wishes: SolveWishes, reporter: Reporter) -> SolveResult:
    """Raises NoSolutionError, RemoteError, InputError; the lock file is then as it was."""
    source = read_any(host, path, wishes.game, reporter)
    if source.kind == "lock":
        again = command_line("rhizon", "provision", path, f"./{source.name}")
        raise InputError("already-solved", f"{path} is a lock already", hint=f"Provision from it directly: {again}")
    game = host.games(source.beside).get(source.game)
    kept = read_lock(wishes.close_to) if wishes.close_to is not None else None
    shelf = catalogs_for(host, source, game, wishes.catalogs, reporter)
    options = SolveOptions(keep=kept, prefer=wishes.prefer, wait=wishes.wait)
    if wishes.stopping is not None:
        options = msgspec.structs.replace(options, stopping=wishes.stopping)
    solution = solve_source(host, source, game, shelf, reporter, options).solution
    lock = solution.lock
    file = wishes.lock_file or source.beside / f"{source.name}.lock.json"
    if wishes.write:
        with translated("write the lock", file):
            write_atomic(file, encode_json(lock))
    on_server = sum(one.file.size for one in lock.on_server())
    return SolveResult(
        name=source.name,
        source=str(path),
        game=game.id,
        game_title=game.title,
        target=lock.target,
        releases=tuple(
            SolvedRelease(
                id=one.id,
                version=one.version,
                placement=one.placement,
                on_server=one.on_server,
                for_players=one.for_players,
                because=one.because,
                held_back_by=one.held_back_by,
                size=one.file.size,
            )
            for one in lock.releases
        ),
        dropped=lock.dropped,
        server_bytes=lock.server.size + (lock.loader.file.size if lock.loader is not None else 0) + on_server,
        player_bytes=sum(one.file.size for one in lock.for_players()),
        lock_file=str(file) if wishes.write else None,
        folder_files=source.outcome(lock),
        findings=solution.findings,
    )
