"""The whole job on the shipped world: catalog over HTTP, list to server, a player joins, a clean stop."""

import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path
from typing import Any

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.serve import serving
from rhizon.adapters.world import WORLD, lists, player_joins
from rhizon.app.host import Host
from rhizon.app.provision import ProvisionResult, ProvisionWishes, provision
from rhizon.app.reporter import Reporter
from rhizon.app.run.run import Moment, RunResult, RunWishes, run
from rhizon.app.run.server import RunningServer
from rhizon.core.content_paths import loaded
from rhizon.core.errors import InputError, NotReadyError, StateError
from rhizon.core.finding import Finding
from rhizon.core.words import command_line

__all__ = ["DEMO_GAMES", "FIRST", "PLAYER", "AllDone", "DemoDone", "demo", "demo_all", "demo_licence"]

PLAYER = "Solveig"
SHELF = WORLD / "catalog"
FIRST = (WORLD / "first.txt").read_text("utf-8").strip()  # the game that is shown where none is named
DEMO_GAMES = tuple(lists())
TOGETHER_SECONDS = 120  # for the last of all servers to become ready


class DemoDone(msgspec.Struct, frozen=True, kw_only=True):
    """What happened to one server; ``seen`` is what the player read from it."""

    game: str
    game_title: str
    folder: str
    provisioned: ProvisionResult
    ran: RunResult
    seen: dict[str, Any]
    list_file: str


class AllDone(msgspec.Struct, frozen=True, kw_only=True):
    """What happened to all. ``together_seconds`` is how long all of them were up at once; ``findings`` name games that
    could not be shown here."""

    folder: str
    servers: tuple[DemoDone, ...]
    together_seconds: float
    memory_mib: int
    host_mib: int
    findings: tuple[Finding, ...]


Gently = Callable[[], AbstractContextManager[Callable[[], bool]]]


def demo_licence(host: Host, game: str) -> str:
    """The title of a game whose sample licence the demo accepts; "" for one without."""
    found = host.games(WORLD).get(game)
    return found.title if found.licence is not None else ""


def demo(
    host: Host,
    folder: Path,
    reporter: Reporter,
    gently: Gently,
    *,
    game: str = FIRST,
    keep_running: bool = False,
    console: Callable[[], str | None] = lambda: None,
) -> DemoDone:
    """Provisions the club's server of a game into ``folder`` and runs it once. The licence that is accepted is the
    stand-in's own sample licence, and the caller says so. While the server runs, ``gently`` turns the person's Ctrl-C
    into a question that is asked between lines; ``keep_running`` waits for it."""
    source = _list_of(game)
    with _shelf(reporter) as url:
        visit = _Visit(host, source, game, folder, url, reporter)

        def tick(server: RunningServer) -> Moment:
            visit.join()
            line = console()
            if line is not None:
                server.process.send(line)
            return "go on" if keep_running else "stop"

        with gently() as stop_asked:
            ran = run(host, visit.folder, reporter, stop_asked, tick)
    return visit.done(ran)


def demo_all(host: Host, folder: Path, reporter: Reporter, gently: Gently, *, keep_running: bool = False) -> AllDone:
    """The servers of all games below ``folder``, up at the same time on this host; a player joins each."""
    visits: list[_Visit] = []
    findings = []
    with _shelf(reporter) as url:
        for game, source in lists().items():
            try:
                visits.append(_Visit(host, source, game, folder / game, url, _Named(reporter, game)))
            except StateError as wrong:
                if wrong.code != "no-runtime":
                    raise
                findings.append(
                    Finding(code=wrong.code, severity="warning", subject=game, what=wrong.message, remedy=wrong.hint)
                )
        with gently() as stop_asked:
            crowd = _Crowd(len(visits), stop_asked, keep_running=keep_running)
            reporter.step(f"{len(visits)} servers start at once")
            with ThreadPoolExecutor(max_workers=len(visits)) as pool:
                runs = [pool.submit(crowd.run, host, one) for one in visits]
                rans = [one.result() for one in runs]
    servers = tuple(visit.done(ran) for visit, ran in zip(visits, rans, strict=True))
    held = sum(one.provisioned.heap_mib + one.provisioned.budget.outside_heap_mib for one in servers)
    return AllDone(
        folder=str(folder),
        servers=servers,
        together_seconds=round(crowd.together, 2),
        memory_mib=held,
        host_mib=host.memory(0).total_mib,
        findings=tuple(findings),
    )


@contextmanager
def _shelf(reporter: Reporter) -> Iterator[str]:
    with serving(SHELF) as catalog:
        reporter.step("starting the shipped catalog")
        reporter.done(f"the shipped catalog answers at {catalog.url}")
        yield catalog.url


def _list_of(game: str) -> Path:
    known = lists()
    if game not in known:
        raise InputError("unknown-game", f"the demo has no game {game}", hint=f"It has: {', '.join(known)}")
    return known[game]


class _Visit:
    """One server of the club's: provisioned when this is made, visited by a player once it runs."""

    def __init__(self, host: Host, source: Path, game: str, folder: Path, url: str, reporter: Reporter) -> None:
        self.folder = folder
        self.reporter = reporter
        self._game = game
        self._source = source
        self._seen: dict[str, Any] = {}
        _not_somebodys(InstanceFolder(folder), source)
        wishes = ProvisionWishes(
            source=source,
            folder=folder,
            catalogs=(url,),
            remember_catalogs=(str(SHELF),),
            accept_licence=True,
            settings={"address": "127.0.0.1"},
        )
        self._made = provision(host, wishes, reporter)
        self._definition = host.games().get(game)

    def join(self) -> None:
        """The player joins, the first time that this is called, and sees what was locked."""
        if self._seen:
            return
        made = self._made
        self.reporter.step(f"a simulated player, {PLAYER}, joins")
        content = [f"{one.id}={one.version}" for one in made.lock.for_players() if one.kind != "template"]
        content = [one for one in content if one.partition("=")[0] in {piece.id for piece in made.lock.on_server()}]
        port = made.ports[self._definition.ports[0].role]
        self._seen.update(player_joins(self._game, port, PLAYER, content))
        self._as_locked()
        count = len(self._seen["content"])
        self.reporter.done(f"{PLAYER} joined and read that the server runs {count} items of content")

    def _as_locked(self) -> None:
        """What the server says that it runs is what the lock says, or the demo has failed."""
        running = {(one["id"], one["version"]) for one in self._seen["content"]}
        locked = {(one.id, one.version.text) for one in loaded(self._definition, self._made.lock)}
        if running != locked:
            different = ", ".join(sorted(f"{name} {version}" for name, version in running ^ locked))
            raise NotReadyError(
                "content-differs",
                f"the server does not run what was locked: {different}",
                hint=f"See what is different: {command_line('rhizon', 'check', self.folder)}",
            )

    def done(self, ran: RunResult) -> DemoDone:
        """What happened, once the server has ended. Raises NotReadyError where other content ran than was locked."""
        return DemoDone(
            game=self._definition.id,
            game_title=self._definition.title,
            folder=str(self.folder),
            provisioned=self._made,
            ran=ran,
            seen=self._seen,
            list_file=str(self._source),
        )


class _Crowd:
    """Servers that run at once: none of them stops before all are up and were visited, or one of them has failed."""

    def __init__(self, size: int, stop_asked: Callable[[], bool], *, keep_running: bool) -> None:
        self._size = size
        self._stop_asked = stop_asked
        self._keep = keep_running
        self._lock = threading.Lock()  # guards the three below
        self._up = 0
        self._failed = False
        self._since = 0.0
        self.together = 0.0

    def run(self, host: Host, visit: _Visit) -> RunResult:
        """One of them, in its own thread."""
        visited = False

        def tick(_server: RunningServer) -> Moment:
            nonlocal visited
            if not visited:
                visit.join()
                visited = True
                with self._lock:
                    self._up += 1
                    self._since = time.monotonic()
            return self._moment()

        try:
            return run(host, visit.folder, visit.reporter, self._asked, tick, RunWishes(wait=TOGETHER_SECONDS))
        except BaseException:
            with self._lock:
                self._failed = True
            raise

    def _asked(self) -> bool:
        return self._failed or self._stop_asked()

    def _moment(self) -> Moment:
        with self._lock:
            if self._up < self._size:
                return "go on"
            self.together = max(self.together, time.monotonic() - self._since)
            return "go on" if self._keep or self.together < 1 else "stop"


class _Named(Reporter):
    """Results of one of several, under its name; its steps and progress would run over those of the others."""

    def __init__(self, reporter: Reporter, name: str) -> None:
        self._reporter = reporter
        self._name = name

    def done(self, text: str) -> None:
        """What happened, once the server has ended. Raises NotReadyError where other content ran than was locked."""
        self._reporter.done(f"{self._name}: {text}")

    def warning(self, text: str) -> None:
        """What to know of it. Raises NotReadyError as ``done`` does."""
        self._reporter.warning(f"{self._name}: {text}")


def _not_somebodys(home: InstanceFolder, source: Path) -> None:
    """The demo turns no server of somebody's into its own."""
    if home.is_ours and Path(home.instance().source) != source.resolve():
        raise StateError(
            "not-the-demos",
            f"{home.folder} holds the server {home.instance().name}, which the demo did not make",
            hint="Name another folder: rhizon demo ./harbour-demo",
        )
