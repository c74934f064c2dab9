"""Solve a list or a pack and write the lock."""

from pathlib import Path
from typing import Literal

import msgspec

from rhizon.adapters.files import translated, write_atomic
from rhizon.app.choose.resolve import catalogs_for, solve_source
from rhizon.app.choose.sources import read_any, read_lock
from rhizon.app.host import Host
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError
from rhizon.core.finding import Finding
from rhizon.core.model.decode import encode_json
from rhizon.core.model.lock import Dropped, HeldBack, Lock, Target
from rhizon.core.model.metadata import Placement
from rhizon.core.version import Version

__all__ = ["Answer", "SolveResult", "SolvedRelease", "solve_to_lock"]


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


class Answer(msgspec.Struct, frozen=True, kw_only=True):
    """The answer as it is printed with --json."""

    target: Target
    releases: tuple[SolvedRelease, ...]
    dropped: tuple[Dropped, ...]
    server_bytes: int
    player_bytes: int
    lock_file: str | None


class SolveResult(msgspec.Struct, frozen=True, kw_only=True):
    """The answer, the lock behind it and what to know."""

    answer: Answer
    lock: Lock
    source: str
    findings: tuple[Finding, ...]


def solve_to_lock(
    host: Host,
    path: Path,
    catalogs: tuple[str, ...],
    lock_file: Path | None,
    reporter: Reporter,
    *,
    write: bool,
    keep: Path | None = None,
    prefer: Literal["list", "current"] = "list",
    game_id: str | None = None,
) -> SolveResult:
    """Raises NoSolutionError, RemoteError, InputError; the lock file is then as it was."""
    source = read_any(host, path, game_id, reporter)
    if source.kind == "lock":
        raise InputError("already-solved", f"{path} is a lock already", hint="Provision from it directly.")
    game = host.games(source.beside).get(source.game)
    kept = read_lock(keep) if keep is not None else None
    shelf = catalogs_for(host, source, game, catalogs, reporter)
    solution = solve_source(source, game, shelf, host, reporter, kept, prefer).solution
    lock = solution.lock
    target_file = lock_file or source.beside / f"{source.name}.lock.json"
    if write:
        with translated("write the lock", target_file):
            write_atomic(target_file, encode_json(lock))
    return SolveResult(
        answer=_answer(lock, str(target_file) if write else None),
        lock=lock,
        source=str(path),
        findings=solution.findings,
    )


def _answer(lock: Lock, file: str | None) -> Answer:
    on_server = sum(one.file.size for one in lock.on_server())
    return Answer(
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
        lock_file=file,
    )
