"""Why one release is where it is, and what would change without it."""

from pathlib import Path

import msgspec

from rhizon.app.choose.resolve import catalogs_for
from rhizon.app.choose.sources import read_any
from rhizon.app.choose.timed import WAIT_SECONDS, TimedWatch
from rhizon.app.host import Host, majors_to_try
from rhizon.app.reporter import Reporter
from rhizon.core.errors import InputError, NoSolutionError
from rhizon.core.model.lock import LockedRelease, Target
from rhizon.core.names import suggestions
from rhizon.core.solve import explain, solve
from rhizon.core.solve.explain import Explained

__all__ = ["Explanation", "explain_item"]


class Explanation(msgspec.Struct, frozen=True, kw_only=True):
    """One item of a solution: who wants it and how, what holds it back, what it needs, what going it would change."""

    target: Target
    release: LockedRelease
    explained: Explained


def explain_item(host: Host, path: Path, name: str, catalogs: tuple[str, ...], reporter: Reporter) -> Explanation:
    """Raises NoSolutionError when the list has no solution, InputError when the item is not in it."""
    source = read_any(host, path, None, reporter)
    if source.kind == "lock":
        raise InputError("already-solved", f"{path} is a lock", hint="Name the list it was solved from.")
    game = host.games(source.beside).get(source.game)
    reporter.step(f"solving {source.label}")
    shelf = catalogs_for(host, source, game, catalogs, reporter)
    request = source.request(majors_to_try(game, host.runtimes(game)))
    lock = solve(request, game, shelf, TimedWatch(WAIT_SECONDS, reporter)).lock
    release = next((one for one in lock.releases if one.id == name), None)
    if release is None:
        dropped = next((one.reason for one in lock.dropped if one.id == name), "")
        guesses = suggestions(name, [one.id for one in lock.releases])
        raise NoSolutionError(
            "not-in-solution",
            f"{name} is not in the solution of {source.label}" + (f": it is optional; {dropped}" if dropped else ""),
            hint=f"Did you mean {guesses[0]}?" if guesses else f"See what is: rhizon solve {path} --dry-run",
        )
    return Explanation(target=lock.target, release=release, explained=explain(request, game, shelf, lock, name))
