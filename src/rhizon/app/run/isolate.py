"""Finding the content that makes a start fail, where the log does not say it: copies of the server
(:mod:`rhizon.app.run.copies`) are started with parts of its content. What is tried is decided by
:mod:`rhizon.core.isolate`.
"""

import itertools
import tempfile
import threading
import time
from collections.abc import Callable, Collection, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Literal, TypeVar

import msgspec

from rhizon.adapters.files import translated
from rhizon.adapters.host import available_mib, processors
from rhizon.adapters.world_files import world_units
from rhizon.app.archives.on_server import scan_content
from rhizon.app.foresee.good_runs import seen_in_good_runs
from rhizon.app.host import Host
from rhizon.app.instance.state import InstanceState, require_instance_state
from rhizon.app.reporter import Reporter
from rhizon.app.run.command import command_of
from rhizon.app.run.copies import Copies, copies_room, room_prefix
from rhizon.app.run.server import RunningServer
from rhizon.core.content_paths import own_place, place_of
from rhizon.core.errors import CancelledError, NotReadyError, StateError
from rhizon.core.isolate import Isolated, Trial, evidence, isolate, repeats_for
from rhizon.core.log_lines import without_numbers
from rhizon.core.units import counted

__all__ = ["CulpritSet", "IsolateResult", "IsolateWishes", "Symptom", "isolate_content"]

T = TypeVar("T")
TRIES_TO_REPRODUCE = 4
MOST_AT_ONCE = 2
FREE_SHARE = 0.8  # of the memory that is available


class Symptom(msgspec.Struct, frozen=True, kw_only=True):
    """How the whole server fails: the code of its failure and the line that says so, without numbers."""

    code: str
    line: str


class IsolateWishes(msgspec.Struct, frozen=True, kw_only=True):
    """What a person asks for: ``wait`` seconds that a start may take (None: as the definition says). ``symptom`` is
    what to look for: the failure that the server has with all of its content (None), that it does not become ready,
    that it ends by itself, or a text of its log; up to ``watch`` seconds after it is ready. A set of content that does
    not fail is started up to ``repeat`` times (None: as often as the failure shows). Up to ``at_once`` copies run at
    the same time (None: two where memory allows)."""

    wait: float | None = None
    symptom: Literal["not-ready", "crash"] | None = None
    line: str | None = None
    watch: float = 0
    repeat: int | None = None
    at_once: int | None = None


class CulpritSet(msgspec.Struct, frozen=True, kw_only=True):
    """A smallest set of content that fails together: ids, whether the lock has them, files and versions.
    ``fails_alone``: it fails with only what it needs; ``rest_works``: the server starts without it. Of the starts with
    all of it so many failed, of those without it so many; ``confidence`` from 0 to 1, that it is needed for the
    failure. ``log`` are the last lines of a start that had little else."""

    ids: tuple[str, ...]
    locked: tuple[bool, ...]
    files: tuple[str, ...]
    versions: tuple[str, ...]
    fails_alone: bool
    rest_works: bool
    starts_with: int
    failed_with: int
    starts_without: int
    failed_without: int
    confidence: float
    log: tuple[str, ...]


class IsolateResult(msgspec.Struct, frozen=True, kw_only=True):
    """``found`` are the sets at fault, independent of each other: none where the server starts, or where it fails
    without any content (``without_content``). ``starts`` is how many there were, ``with_world`` whether with a copy of
    the world. A failure that does not always show is ``flaky``."""

    folder: str
    name: str
    found: tuple[CulpritSet, ...]
    symptom: Symptom | None
    starts: int
    candidates: int
    without_content: bool
    with_world: bool
    flaky: bool
    at_once: int


def isolate_content(
    host: Host, folder: Path, reporter: Reporter, stop_asked: Callable[[], bool], wishes: IsolateWishes
) -> IsolateResult:
    """Starts copies of the server until the smallest part of its content is known that fails as the whole does. Raises
    StateError (no content, no runtime), CancelledError, TrustError."""
    home = host.home(folder).required()
    state = require_instance_state(host, home)
    content, versions = _content(host, state)
    if not content:
        raise StateError("no-content", f"{home.folder} has no content to choose from", hint="See its log instead.")
    with translated("make a folder for the copies", host.places.runtimes.parent):
        rooms = tempfile.TemporaryDirectory(prefix=room_prefix(), dir=copies_room(host))
    with rooms as room:
        copies = Copies(host, state, content, Path(room))
        starts = _Starts(host, state, copies, reporter, stop_asked, wishes)
        trial = Trial(sorted(content), _needs(host, state, content), starts.try_sets, starts.always_fails)
        starts.trial = trial
        found = isolate(sorted(content), trial)
        copies.verify()
    sets = [one for one in found if one.culprits]
    locked = {one.id for one in state.lock.on_server()}
    return IsolateResult(
        folder=str(home.folder),
        name=state.instance.name,
        found=tuple(_described(one, sets, starts, locked, content, versions) for one in sets),
        symptom=starts.symptom,
        starts=starts.count,
        candidates=len(content),
        without_content=bool(found) and not sets,
        with_world=starts.with_world,
        flaky=starts.flaky,
        at_once=starts.at_once,
    )


def _described(
    one: Isolated,
    sets: Sequence[Isolated],
    starts: "_Starts",
    locked: Collection[str],
    content: Mapping[str, Path],
    versions: Mapping[str, str],
) -> CulpritSet:
    """A set with its files and what the starts say of it."""
    seen = evidence(one.culprits, [other.culprits for other in sets if other is not one], starts.tried)
    return CulpritSet(
        ids=one.culprits,
        locked=tuple(name in locked for name in one.culprits),
        files=tuple(str(content[name]) for name in one.culprits),
        versions=tuple(versions.get(name, "") for name in one.culprits),
        fails_alone=one.fails_alone,
        rest_works=one.rest_works,
        starts_with=seen.starts_with,
        failed_with=seen.failed_with,
        starts_without=seen.starts_without,
        failed_without=seen.failed_without,
        confidence=round(seen.confidence, 3),
        log=starts.log_of(one.culprits),
    )


def _content(host: Host, state: InstanceState) -> tuple[dict[str, Path], dict[str, str]]:
    """Every piece of content that is there by its id, with its path in the folder: archives as they are, also those
    that were put there by hand, and what of the lock is unpacked. Then their versions."""
    home, game = state.home.folder, state.game
    found: dict[str, Path] = {}
    versions: dict[str, str] = {}
    for one in scan_content(host, state):
        facts = one.archive.facts if one.archive is not None else None
        path = Path(one.path).relative_to(home)
        name = facts.id if facts is not None and facts.id not in found else path.name
        found[name] = path
        if facts is not None:
            versions[name] = facts.version.text
    for release in state.lock.on_server():
        place = Path(place_of(game, state.lock, release))
        if own_place(game, release) and (home / place).is_dir():
            found[release.id] = place
            versions[release.id] = release.version.text
    return found, versions


def _needs(host: Host, state: InstanceState, content: Mapping[str, Path]) -> dict[str, set[str]]:
    """What each piece needs, by its archive and by the lock."""
    needs: dict[str, set[str]] = {}
    for one in scan_content(host, state):
        facts = one.archive.facts if one.archive is not None else None
        for need in facts.requires if facts is not None else ():
            assert facts is not None
            needs.setdefault(facts.id, set()).update(other.id for other in need.alternatives if other.id in content)
    for release in state.lock.on_server():
        for by in release.because:
            if by in content:
                needs.setdefault(by, set()).add(release.id)
    return needs


def _room_for(state: InstanceState) -> int:
    """How many copies can run at the same time: as many as the memory that is available now holds, and no more than
    there are processors."""
    each = state.instance.heap_mib + state.game.memory.outside_heap_mib
    fits = int(available_mib() * FREE_SHARE) // max(each, 1)
    return max(1, min(MOST_AT_ONCE, fits, processors()))


class _Starts:
    """Starts copies with parts of the content, and tells whether they fail as the whole does."""

    trial: Trial

    def __init__(
        self,
        host: Host,
        state: InstanceState,
        copies: Copies,
        reporter: Reporter,
        stop_asked: Callable[[], bool],
        wishes: IsolateWishes,
    ) -> None:
        self._host, self._state, self._copies = host, state, copies
        self._reporter, self._stop_asked, self._wishes = reporter, stop_asked, wishes
        self._telling = threading.Lock()
        self._logs: dict[frozenset[str], tuple[str, ...]] = {}
        self._repeats = wishes.repeat or 1
        self._good = seen_in_good_runs(state.home)
        self.at_once = wishes.at_once or _room_for(state)
        self.count = 0
        self.symptom: Symptom | None = None
        self.with_world = False
        self.flaky = False
        self.tried: list[tuple[frozenset[str], bool]] = []

    def try_sets(self, sets: Sequence[frozenset[str]]) -> list[bool]:
        """Whether each of these sets fails. The first call has all of the content and says what the symptom is."""
        if self.symptom is not None:
            return self._at_once(self._fails, sets)
        seen = self._at_once(self._start, sets)
        if seen[0] is None:
            seen = [self._reproduced(sets[0]), *(None for _ in sets[1:])]
            self.symptom = seen[0]
            again = self._at_once(self._fails, sets[1:]) if seen[0] is not None else [False for _ in sets[1:]]
            return [seen[0] is not None, *again]
        self.symptom = seen[0]
        return [self._noted(one, symptom) for one, symptom in zip(sets, seen, strict=True)]

    def _at_once(self, do: Callable[[frozenset[str]], T], sets: Sequence[frozenset[str]]) -> list[T]:
        if self.at_once == 1 or len(sets) < 2:
            return [do(one) for one in sets]
        with ThreadPoolExecutor(self.at_once) as pool:
            return list(pool.map(do, sets))

    def _reproduced(self, everything: frozenset[str]) -> Symptom | None:
        """The symptom of all content, where it did not show at first: with a copy of the world, and then again. How
        often it shows decides how often other sets are started."""
        with self._state.home.inside() as inside:
            has_world = bool(world_units(inside, self._state.game.world))
        for number in range(2, TRIES_TO_REPRODUCE + 1):
            if number == 2 and has_world:
                self.with_world = True
            seen = self._start(everything)
            if seen is not None:
                if number > 2 or not self.with_world:
                    self.flaky = True
                    self._repeats = self._wishes.repeat or repeats_for(1, number - int(self.with_world))
                self.tried.append((everything, True))
                return seen
        return None

    def _fails(self, chosen: frozenset[str]) -> bool:
        """Whether a set fails in one of as many starts as the failure needs to show."""
        return any(self._noted(chosen, self._start(chosen)) for _ in range(self._repeats))

    def always_fails(self, chosen: frozenset[str]) -> bool:
        """Whether a set that failed does so again and again; if not, from now on every set is started so often that the
        failure would show."""
        for _ in range(TRIES_TO_REPRODUCE - 1):
            if not self._noted(chosen, self._start(chosen)):
                self.flaky = True
                seen = [failed for one, failed in self.tried if chosen <= one]
                self._repeats = self._wishes.repeat or repeats_for(sum(seen), len(seen))
                return False
        return True

    def _noted(self, chosen: frozenset[str], seen: Symptom | None) -> bool:
        """Whether that is the symptom; it is kept as evidence."""
        failed = seen is not None and (seen == self.symptom or self._wishes.symptom is not None)
        with self._telling:
            self.tried.append((chosen, failed))
        return failed

    def log_of(self, culprits: Sequence[str]) -> tuple[str, ...]:
        """The last lines of the smallest start that had these and failed."""
        failing = [
            chosen for chosen, failed in self.tried if failed and set(culprits) <= chosen and chosen in self._logs
        ]
        return self._logs[min(failing, key=len)] if failing else ()

    def _start(self, chosen: frozenset[str]) -> Symptom | None:
        """The symptom of one start, None where there is none."""
        with self._telling:
            self.count += 1
            number, total = self.count, len(self.trial.without(()))
            left = f", about {self.trial.left} to go" if number > 1 else ""
            suspects = f"; {counted(self.trial.suspects, 'suspect')}" if number > 1 else ""
            self._reporter.step(f"start {number}{left}: {len(chosen)} of {total} pieces{suspects}")
        folder = self._copies.make(str(number), chosen, with_world=self.with_world)
        try:
            seen = self._run(folder, chosen)
        finally:
            self._copies.remove(folder)
        failed = seen is not None and (self.symptom is None or seen == self.symptom)
        how = "fails" if failed else "starts" if seen is None else f"fails otherwise ({seen.code})"
        with self._telling:
            self._reporter.done(f"start {number}: with {len(chosen)} of {total} pieces it {how}")
        return seen

    def _run(self, folder: Path, chosen: frozenset[str]) -> Symptom | None:
        """Starts a copy, watches it after it is ready, and stops it. Raises CancelledError."""
        game, wishes = self._state.game, self._wishes
        instance = msgspec.structs.replace(self._state.instance, ports=self._copies.ports_of(folder))
        command = command_of(self._host.home(folder), game, self._copies.lock_of(chosen), instance)
        lines: list[str] = []
        with RunningServer.start(command, folder, game, Reporter(), self._good) as server:
            if wishes.line is not None:
                text = wishes.line
                server.listeners.append(lambda line: lines.append(line) if text in line else None)
            failure = None
            try:
                server.until_ready(wishes.wait, self._stop_asked)
                failure = self._watched(server)
            except NotReadyError as wrong:
                said = next(iter(wrong.details), "") if wrong.code != "start-timeout" else ""
                failure = Symptom(code=wrong.code, line=without_numbers(said))
            over = server.process.over
            if failure is None:
                server.stop()
            with self._telling:
                self._logs[chosen] = tuple(server.last_lines)
        if wishes.line is not None:
            return Symptom(code="line", line=wishes.line) if lines else None
        if wishes.symptom == "crash" and not over:
            return None
        return failure

    def _watched(self, server: RunningServer) -> Symptom | None:
        """The symptom of a server that ends by itself after it was ready. Raises CancelledError."""
        until = time.monotonic() + self._wishes.watch
        for _ in itertools.takewhile(lambda _: time.monotonic() < until, itertools.count()):
            if self._stop_asked():
                raise CancelledError(
                    "start-cancelled", "the search was cancelled", hint="Start it again when you like."
                )
            if not server.pump() and server.process.over:
                return Symptom(code="server-ended", line=without_numbers(server.last_lines[-1]))
        return None
