"""The whole job on the shipped world: catalog over HTTP, list to server, a player joins, a clean stop."""

from collections.abc import Callable
from contextlib import AbstractContextManager
from pathlib import Path
from typing import Any

import msgspec

from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.serve import serving
from rhizon.adapters.world import WORLD, player_joins
from rhizon.app.context import Host
from rhizon.app.provision import Provisioned, ProvisionWishes, provision
from rhizon.app.reporter import Reporter
from rhizon.app.run import Moment, Ran, run
from rhizon.app.starting import RunningServer
from rhizon.core.errors import NotReadyError, StateError

__all__ = ["PLAYER", "DemoDone", "demo"]

PLAYER = "Solveig"


class DemoDone(msgspec.Struct, frozen=True, kw_only=True):
    """What happened; ``seen`` is what the player read from the server over the game port."""

    provisioned: Provisioned
    ran: Ran
    seen: dict[str, Any]
    list_file: str


def demo(
    host: Host,
    folder: Path,
    reporter: Reporter,
    gently: Callable[[], AbstractContextManager[Callable[[], bool]]],
    *,
    keep_running: bool = False,
    console: Callable[[], str | None] = lambda: None,
) -> DemoDone:
    """Provisions the club's Tarnholt server into ``folder`` and runs it once. The licence that is accepted is
    the stand-in's own sample licence, and the caller says so. While the server runs, ``gently`` turns the
    person's Ctrl-C into a question that is asked between lines; ``keep_running`` waits for it."""
    source = WORLD / "tarnholt.list.toml"
    shelf = WORLD / "catalog"
    seen: dict[str, Any] = {}
    _not_somebodys(InstanceFolder(folder), source)
    with serving(shelf) as catalog:
        reporter.step("starting the shipped catalog")
        reporter.done(f"the shipped catalog answers at {catalog.url}")
        done = provision(
            host,
            ProvisionWishes(
                source=source,
                folder=folder,
                catalogs=(catalog.url,),
                remember_catalogs=(str(shelf),),
                accept_licence=True,
                settings={"address": "127.0.0.1"},
            ),
            reporter,
        )

        def tick(server: RunningServer) -> Moment:
            if not seen:
                reporter.step(f"a simulated player, {PLAYER}, joins")
                content = [f"{one.id}={one.version}" for one in done.lock.for_players()]
                seen.update(player_joins(done.ports["game"], PLAYER, content))
                _as_locked(done, seen)
                reporter.done(f"{PLAYER} joined and read that the server runs {len(seen['content'])} pieces of content")
            line = console()
            if line is not None:
                server.process.send(line)
            return "go on" if keep_running else "stop"

        with gently() as stop_asked:
            ran = run(host, folder, reporter, stop_asked, tick)
    return DemoDone(provisioned=done, ran=ran, seen=seen, list_file=str(source))


def _not_somebodys(home: InstanceFolder, source: Path) -> None:
    """The demo turns no server of somebody's into its own."""
    if home.is_ours and Path(home.instance().source) != source.resolve():
        raise StateError(
            "not-the-demos",
            f"{home.folder} holds the server {home.instance().name}, which the demo did not make",
            hint="Name another folder: rhizon demo FOLDER",
        )


def _as_locked(done: Provisioned, seen: dict[str, Any]) -> None:
    """What the server says that it runs is what the lock says, or the demo has failed."""
    running = {(one["id"], one["version"]) for one in seen["content"]}
    locked = {(one.id, one.version.text) for one in done.lock.on_server()}
    if running != locked:
        different = ", ".join(sorted(f"{name} {version}" for name, version in running ^ locked))
        raise NotReadyError(
            "content-differs",
            f"the server does not run what was locked: {different}",
            hint=f"See what is different with: rhizon check {done.folder}",
        )
