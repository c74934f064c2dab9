"""Everything that is decided before a file is touched."""

from collections.abc import Mapping
from pathlib import Path

import msgspec

from rhizon.adapters.catalogs import Catalogs
from rhizon.app.choose.resolve import Remembered, SolveOptions, catalogs_for, solve_source
from rhizon.app.choose.runtimes import choose_runtime, why_runtime
from rhizon.app.choose.sources import Source, read_any
from rhizon.app.host import Host
from rhizon.app.provision.adjust import ContentChanges, adjusted, combined
from rhizon.app.provision.wishes import ProvisionWishes
from rhizon.app.remote.remotes import find_remote
from rhizon.app.reporter import Reporter
from rhizon.core.allocate.memory import MemoryBudget, budget
from rhizon.core.errors import NoSolutionError, StateError
from rhizon.core.finding import Finding
from rhizon.core.model.base import SettingValue
from rhizon.core.model.catalog import LOCAL
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance, RuntimeChoice
from rhizon.core.model.lock import Lock
from rhizon.core.model.remote import RemoteDefinition
from rhizon.core.remote.limits import majors_within
from rhizon.core.runtimes import family_of
from rhizon.core.secret import Secret
from rhizon.core.settings.apply import check_secrets, checked_settings, require_no_secrets
from rhizon.core.settings.content import with_content
from rhizon.core.words import command_line

__all__ = ["Choice", "choose"]


class Choice(msgspec.Struct, frozen=True, kw_only=True):
    """Everything that was decided before a file is touched."""

    source: Source
    changes: ContentChanges
    game: GameDefinition
    catalogs: Catalogs
    lock: Lock
    solved: Remembered
    findings: list[Finding]
    runtime: RuntimeChoice | None
    runtime_why: tuple[str, ...]
    settings: dict[str, str | int | bool]
    budget: MemoryBudget
    remote: RemoteDefinition | None = None
    rented: str = ""


NO_REMOTE = "none"  # instead of a remote: its limits count no more


def choose(
    host: Host,
    wishes: ProvisionWishes,
    before: Instance | None,
    reporter: Reporter,
    remembered: Remembered | None = None,
    lock: Lock | None = None,
) -> Choice:
    """Reads and solves the source, and chooses the runtime, settings and memory. ``before`` is the instance in the
    folder and ``lock`` its lock; ``remembered`` is an earlier solution that is used if its question is the same.
    Nothing is written.

    Raises :class:`~rhizon.core.errors.InputError` (a wrong source or setting),
    :class:`~rhizon.core.errors.NoSolutionError`, RemoteError (a catalog fails) and :class:`StateError` (the folder
    holds a server of another game, no runtime fits)."""
    changes = combined(before, lock, wishes.content)
    source = adjusted(read_any(host, wishes.source, wishes.game, reporter), changes)
    game = host.games(source.beside).get(source.game)
    if before is not None and before.game != game.id:
        raise StateError(
            "other-game",
            f"{wishes.folder} contains a server of {before.game}, but {source.label} is for {game.id}",
            hint="Provision into another folder.",
        )
    _checked(game, source, wishes, of_content=False)  # before anything is asked of anybody
    catalogs = catalogs_for(host, source, game, wishes.catalogs, reporter, before.catalogs if before else ())
    named = wishes.runtime.program
    pinned: tuple[int, ...] | None = None
    family = family_of(game.runtime)
    if named is not None and family is not None:
        report = host.runtime_finder.named(family, named).report
        pinned = (report.major,) if report is not None else None
    rented = wishes.rented if wishes.rented is not None else (before.rented if before is not None else "")
    rented = str(Path(rented).absolute()) if Path(rented).is_file() else "" if rented == NO_REMOTE else rented
    remote = find_remote(host, rented)[1] if rented else None
    pinned = majors_within(remote, pinned)
    try:
        options = SolveOptions(majors=pinned, remembered=remembered)
        solved = solve_source(host, source, game, catalogs, reporter, options)
    except NoSolutionError as wrong:
        if remote is not None and remote.dictates.runtimes:
            given = ", ".join(map(str, remote.dictates.runtimes))
            wrong.details = (*wrong.details, f"{remote.name} has the runtimes {given} only")
        raise
    lock = solved.solution.lock
    game = with_content(game, lock)
    settings = _checked(game, source, wishes, of_content=True)
    runtime = choose_runtime(host, game, lock, before, wishes.runtime, reporter)
    return Choice(
        source=source,
        changes=changes,
        game=game,
        catalogs=catalogs,
        lock=lock,
        solved=solved,
        findings=[
            *solved.solution.findings,
            *_left_out(source, lock),
            *_added(source, lock),
            *_changed(wishes, changes),
        ],
        runtime=runtime,
        runtime_why=tuple(why_runtime(game, lock)) if runtime is not None else (),
        settings=settings,
        budget=budget(game, lock.releases, settings, source.pack_memory),
        remote=remote,
        rented=rented,
    )


def _checked(
    game: GameDefinition, source: Source, wishes: ProvisionWishes, *, of_content: bool
) -> dict[str, str | int | bool]:
    """Every setting that is asked for; without ``of_content`` those of content (ID.NAME) are left out, since it is not
    known yet what there will be. Raises InputError."""

    def now(settings: Mapping[str, SettingValue]) -> dict[str, SettingValue]:
        return {name: value for name, value in settings.items() if of_content or "." not in name}

    require_no_secrets(game, now(source.settings), source.label)
    settings = checked_settings(game, now(source.settings), source.label)
    settings |= checked_settings(game, now(wishes.settings), "the command line")
    check_secrets(game, {name: value for name, value in wishes.secrets.items() if of_content or "." not in name})
    check_secrets(game, {name: Secret("") for name in source.secrets if of_content or "." not in name})
    return settings


def _left_out(source: Source, lock: Lock) -> list[Finding]:
    """Of archives that a list names; a folder's are told file by file."""
    if not source.archives or source.files:
        return []
    return [
        Finding(
            code="optional-left-out",
            severity="warning",
            subject=one.id,
            what=f"left out of the server, since it does not fit the rest: {one.reason}",
            remedy="Get a release that fits, or what it needs.",
        )
        for one in lock.dropped
    ]


def _changed(wishes: ProvisionWishes, changes: ContentChanges) -> list[Finding]:
    """What a person changed of the source's content in an earlier command: easily forgotten."""
    kept = {one: "left out" for one in changes.without if one not in wishes.content.without}
    kept |= {one: f"held at {text}" for one, text in changes.held.items() if one not in wishes.content.held}
    back = "To take that back: "
    return [
        Finding(
            code="content-changed",
            severity="note",
            subject=one,
            what=f"{how}, whatever the source says, since an earlier update",
            remedy=back + command_line("rhizon", "update", wishes.folder, "--with", one),
        )
        for one, how in kept.items()
    ]


def _added(source: Source, lock: Lock) -> list[Finding]:
    """What archives that a list names need and do not bring."""
    if not source.archives or source.files:
        return []
    return [
        Finding(
            code="dependency-added",
            severity="note",
            subject=one.id,
            what=f"added, since {', '.join(one.because)} {'needs' if len(one.because) == 1 else 'need'} it: "
            f"{one.version} from {one.file.catalog}",
            remedy="Give it to the players too." if one.for_players else "",
        )
        for one in lock.releases
        if one.file.catalog != LOCAL and "list" not in one.because
    ]
