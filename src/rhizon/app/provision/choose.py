"""Everything that is decided before a file is touched."""

from collections.abc import Mapping

import msgspec

from rhizon.adapters.catalogs import Catalogs
from rhizon.adapters.runtimes import FoundRuntime
from rhizon.app.context import Host
from rhizon.app.local import LOCAL
from rhizon.app.provision.wishes import ProvisionWishes
from rhizon.app.reporter import Reporter
from rhizon.app.solving import catalogs_for, solve_source
from rhizon.app.sources import Source, read_any
from rhizon.core.allocate.memory import MemoryBudget, budget
from rhizon.core.errors import InputError, StateError
from rhizon.core.finding import Finding
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance, RuntimeChoice
from rhizon.core.model.lock import Lock
from rhizon.core.names import near
from rhizon.core.runtimes import FAMILIES
from rhizon.core.settings.apply import checked_settings

__all__ = ["Choice", "choose"]


class Choice(msgspec.Struct, frozen=True, kw_only=True):
    """Everything that was decided before a file is touched."""

    source: Source
    game: GameDefinition
    catalogs: Catalogs
    lock: Lock
    findings: list[Finding]
    runtime: RuntimeChoice | None
    settings: dict[str, str | int | bool]
    operators: tuple[str, ...]
    budget: MemoryBudget


def choose(host: Host, wishes: ProvisionWishes, before: Instance | None, reporter: Reporter) -> Choice:
    source = read_any(host, wishes.source, wishes.game, reporter)
    game = host.games(source.beside).get(source.game)
    if before is not None and before.game != game.id:
        raise StateError(
            "other-game",
            f"{wishes.folder} holds a server of {before.game}, {source.label} is for {game.id}",
            hint="Provision into another folder.",
        )
    settings = checked_settings(game, source.settings, source.label)
    settings |= checked_settings(game, wishes.settings, "the command line")
    _check_secrets(game, wishes.secrets)
    catalogs = catalogs_for(host, source, game, wishes.catalogs, reporter, before.catalogs if before else ())
    solution = solve_source(source, game, catalogs, host, reporter)
    lock = solution.lock
    runtime = _runtime(game, lock, host.runtimes(game), before)
    return Choice(
        source=source,
        game=game,
        catalogs=catalogs,
        lock=lock,
        findings=[*solution.findings, *_left_out(lock), *_added(source, lock)],
        runtime=runtime,
        settings=settings,
        operators=source.operators,
        budget=budget(game, lock.releases, settings, source.pack_memory),
    )


def _left_out(lock: Lock) -> list[Finding]:
    return [
        Finding(
            code="optional-left-out",
            severity="warning",
            subject=one.id,
            what=f"it does not fit beside the rest and is not on the server: {one.reason}",
            remedy="Get a release of it that fits, or what it needs; rhizon targets shows what fits where.",
        )
        for one in lock.dropped
    ]


def _added(source: Source, lock: Lock) -> list[Finding]:
    """What archives that were named need and do not bring."""
    if not source.archives:
        return []
    return [
        Finding(
            code="dependency-added",
            severity="info",
            subject=one.id,
            what=f"it was missing and is needed by {', '.join(one.because)}: {one.version} of {one.file.catalog} was taken",
            remedy="Give it to the players too." if one.for_players else "",
        )
        for one in lock.releases
        if one.file.catalog != LOCAL and "list" not in one.because
    ]


def _check_secrets(game: GameDefinition, secrets: Mapping[str, str]) -> None:
    known = [name for name, one in game.settings.items() if one.secret]
    for name, value in secrets.items():
        if name not in known:
            guess = near(name, known, 1)
            raise InputError(
                "bad-setting",
                f"{name} is not a secret setting of {game.title}",
                hint=f"Did you mean {guess[0]}?" if guess else f"It has: {', '.join(known) or 'none'}",
            )
        try:
            game.settings[name].checked(value)
        except ValueError as wrong:
            raise InputError("bad-setting", f"{name}: {wrong}", hint="Mend the file that holds it.") from None


def _runtime(
    game: GameDefinition, lock: Lock, found: list[FoundRuntime], before: Instance | None
) -> RuntimeChoice | None:
    """The runtime of the lock's major: the one of the last time where it still is, else the first found."""
    major = lock.target.runtime_major
    family = FAMILIES.get(game.runtime.family)
    if family is None:
        return None
    fitting = [one for one in found if one.report.major == major]
    if not fitting:
        here = ", ".join(f"{one.report.version} ({one.program})" for one in found)
        raise StateError(
            "no-runtime",
            f"{family.title} {major} is needed, and this machine does not have it",
            details=[f"found here: {here or f'no {family.title} at all'}"],
            hint=family.how_to_get.format(major=major),
        )
    if before is not None and before.runtime is not None:
        fitting.sort(key=lambda one: one.program != before.runtime.program)  # type: ignore[union-attr]
    best = fitting[0]
    return RuntimeChoice(family=family.title, major=major, version=best.report.version, program=best.program)
