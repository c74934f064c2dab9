"""The runtimes of this machine, who uses them, and the choice among them."""

import contextlib
from pathlib import Path

import msgspec

from rhizon.adapters.games import GAMES, read_game
from rhizon.adapters.runtimes import FoundRuntime
from rhizon.app.host import Host
from rhizon.app.instance.reservations import known_servers
from rhizon.app.reporter import Reporter
from rhizon.core.errors import RhizonError, StateError
from rhizon.core.finding import Finding
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance, RuntimeChoice
from rhizon.core.model.lock import Lock
from rhizon.core.runtimes import FAMILIES, Family, family_of

__all__ = ["KnownRuntime", "RuntimeWish", "Runtimes", "choose_runtime", "list_runtimes", "why_runtime"]


class KnownRuntime(msgspec.Struct, frozen=True, kw_only=True):
    """One runtime; ``answers`` is False for a program that is there and does not run. ``used_by`` are the names of
    servers."""

    family: str
    major: int | None
    version: str
    vendor: str
    program: str
    how: str
    answers: bool
    used_by: tuple[str, ...]


class RuntimeWish(msgspec.Struct, frozen=True, kw_only=True):
    """What a person says of the runtime: a program or its folder above all; whether a missing one may be fetched."""

    program: Path | None = None
    fetch: bool = False


class Runtimes(msgspec.Struct, frozen=True, kw_only=True):
    """Every runtime, by family, the newest major first; findings are programs that do not answer."""

    runtimes: tuple[KnownRuntime, ...]
    findings: tuple[Finding, ...]


def list_runtimes(host: Host) -> Runtimes:
    """Every runtime of every family that is known."""
    users: dict[str, list[str]] = {}
    for server in known_servers(host)[0]:
        try:
            chosen = host.home(Path(server.entry.folder)).instance().runtime
        except RhizonError:
            continue
        if chosen is not None:
            users.setdefault(chosen.program, []).append(server.entry.name)
    found = [one for family in _families(host) for one in host.every_runtime(family)]
    known = [
        KnownRuntime(
            family=one.family,
            major=one.report.major if one.report else None,
            version=one.report.version if one.report else "",
            vendor=one.report.vendor if one.report else "",
            program=one.program,
            how=one.how,
            answers=one.report is not None,
            used_by=tuple(users.get(one.program, ())),
        )
        for one in found
    ]
    known.sort(key=lambda one: (one.family, not one.answers, -(one.major or 0), one.program))
    findings = (_silent(one) for one in known if not one.answers)
    return Runtimes(runtimes=tuple(known), findings=tuple(findings))


def _families(host: Host) -> list[Family]:
    """Those that are known, and those that definitions of a person's own describe."""
    families = list(FAMILIES.values())
    for file in host.games(Path.cwd()).files().values():
        if file.parent != GAMES:
            with contextlib.suppress(RhizonError):
                needs = read_game(file).runtime
                own = family_of(needs) if needs.described is not None else None
                if own is not None and all(own.title != one.title for one in families):
                    families.append(own)
    return families


def _silent(one: KnownRuntime) -> Finding:
    return Finding(
        code="runtime-answers-no-more",
        severity="note",
        subject=one.program,
        what=f"it looks like {one.family}, but does not answer when it is run",
        remedy="Remove it or repair its installation.",
    )


def choose_runtime(
    host: Host, game: GameDefinition, lock: Lock, before: Instance | None, wish: RuntimeWish, reporter: Reporter
) -> RuntimeChoice | None:
    """The runtime of the lock's major: the one that was named, that of the last time, or the first that was found; a
    missing one is fetched where that was asked for. None for a native server. Raises StateError, RemoteError."""
    family = family_of(game.runtime)
    if family is None:
        return None
    major = lock.target.runtime_major
    if wish.program is not None:
        best = host.runtime_finder.named(family, wish.program)
        assert best.report is not None
        if best.report.major != major:
            raise StateError(
                "no-runtime",
                f"{wish.program} is {family.title} {best.report.major}, and {family.title} {major} is needed",
                details=why_runtime(game, lock),
                hint=f"Name a {family.title} {major}, or leave --runtime out.",
            )
        return _choice(family.title, best)
    found = host.runtimes(game)
    fitting = [one for one in found if one.report is not None and one.report.major == major]
    if not fitting and wish.fetch:
        reporter.step(f"fetching {family.title} {major}")
        fitting = [host.runtime_finder.fetch(family, major)]
        reporter.done(f"{family.title} {major} installed: {fitting[0].program}")
    if not fitting:
        here = ", ".join(f"{one.report.version} ({one.program})" for one in found if one.report is not None)
        raise StateError(
            "no-runtime",
            f"{family.title} {major} is needed, but not installed on this machine",
            details=[*why_runtime(game, lock), f"found here: {here or f'no {family.title} at all'}"],
            hint=family.how_to_get.format(major=major),
        )
    if before is not None and before.runtime is not None:
        last = before.runtime.program
        fitting.sort(key=lambda one: one.program != last)
    return _choice(family.title, fitting[0])


def _choice(title: str, found: FoundRuntime) -> RuntimeChoice:
    assert found.report is not None
    return RuntimeChoice(family=title, major=found.report.major, version=found.report.version, program=found.program)


def why_runtime(game: GameDefinition, lock: Lock) -> list[str]:
    """Who asks for which majors, one line each; of releases only those that ask for most."""
    target = lock.target
    lines = []
    rules = (one for one in game.runtime.rules if target.game_version in game.versions_within(one.game_versions))
    rule = next(rules, None)
    if rule is not None:
        lines.append(f"{game.title} {target.game_version} runs on {rule.majors}")
    asked: dict[str, list[str]] = {}
    for release in lock.releases:
        if release.on_server and not release.runtime.open:
            asked.setdefault(release.runtime.text, []).append(f"{release.id} {release.version}")
    for text, names in sorted(asked.items()):
        lines.append(f"{', '.join(names[:3])}{f' and {len(names) - 3} more' if len(names) > 3 else ''}: {text}")
    return lines
