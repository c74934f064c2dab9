"""A mod developer's loop: each new build of an archive goes onto a server, which is started with it and judged."""

import contextlib
import shutil
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import msgspec

from rhizon.adapters.files import hash_file, translated, write_atomic
from rhizon.adapters.watching import changes_in
from rhizon.app.archives.on_server import scan_content
from rhizon.app.archives.scan import scan_files
from rhizon.app.foresee.foresee import foresee
from rhizon.app.host import Host
from rhizon.app.instance.exclusive import exclusive, require_stopped
from rhizon.app.instance.state import InstanceState, require_instance_state
from rhizon.app.instance.worlds import put_aside, world_folder
from rhizon.app.reporter import Reporter
from rhizon.app.run.launch import launch
from rhizon.core.check.registry import Topic
from rhizon.core.errors import InputError, NotReadyError, StateError
from rhizon.core.junit import junit_xml
from rhizon.core.model.metadata import ContentKind

__all__ = ["Build", "DevResult", "DevWishes", "Developing", "newest_build", "write_junit"]

STILL_SECONDS = 0.2  # an archive is whole when it has not grown for so long
WHOLE_SECONDS = 10.0
TOPICS: tuple[Topic, ...] = ("content",)


class DevWishes(msgspec.Struct, frozen=True, kw_only=True):
    """What a person asks for: archives by a ``pattern``, of the item ``item`` (None: of any), ``wait`` seconds until
    ready; a ``fresh_world`` for every start (the world that is there is put aside)."""

    pattern: str
    item: str | None = None
    wait: float | None = None
    fresh_world: bool = False


class Build(msgspec.Struct, frozen=True, kw_only=True):
    """How a build went: "ready", "refused" (the rules say that it cannot work), "failed" (the start did). ``why`` in
    one line, ``log`` the lines that say it; ``own_seconds`` is what Rhizon took beside the start itself."""

    file: str
    item: str
    version: str
    result: str
    why: str
    log: tuple[str, ...]
    ready_seconds: float | None
    own_seconds: float


class DevResult(msgspec.Struct, frozen=True, kw_only=True):
    """All builds of one session."""

    folder: str
    name: str
    builds: tuple[Build, ...]


def newest_build(pattern: str) -> Path | None:
    """The newest archive that matches, once it is whole; None where there is none, or it is about to be replaced."""
    path = Path(pattern)
    until = time.monotonic() + WHOLE_SECONDS
    with contextlib.suppress(OSError):  # a clean build removes what it is about to make again
        found = [one for one in path.parent.glob(path.name) if one.is_file()]
        newest = max(found, key=lambda one: one.stat().st_mtime_ns, default=None)
        while newest is not None and time.monotonic() < until:
            before = newest.stat()
            time.sleep(STILL_SECONDS)
            after = newest.stat()
            if (before.st_size, before.st_mtime_ns) == (after.st_size, after.st_mtime_ns) and after.st_size:
                return newest
        return newest
    return None


class Developing:
    """One session on one server. ``try_build`` puts a build onto it; a build that does not work is taken away again and
    the last good one put back."""

    def __init__(
        self, host: Host, folder: Path, reporter: Reporter, stop_asked: Callable[[], bool], wishes: DevWishes
    ) -> None:
        self._host = host
        self._home = host.home(folder).required()
        self._reporter = reporter
        self._stop_asked = stop_asked
        self._wishes = wishes
        self._placed: Path | None = None
        self._good: tuple[Path, bytes] | None = None
        self._seen = ""
        self._looked: tuple[Path, int, int] | None = None
        self.builds: list[Build] = []

    @property
    def result(self) -> DevResult:
        """All so far."""
        name = self._home.instance().name
        return DevResult(folder=str(self._home.folder), name=name, builds=tuple(self.builds))

    def changes(self) -> Iterator[bool]:
        """At once, and then again and again: whether there may be another build."""
        yield True
        yield from changes_in(Path(self._wishes.pattern).parent)

    def try_newest(self) -> Build | None:
        """Tries the newest build; None where there is none, or it is the one that was tried last."""
        file = newest_build(self._wishes.pattern)
        if file is None:
            return None
        try:
            stat = file.stat()
            looks = (file, stat.st_size, stat.st_mtime_ns)
            if looks == self._looked:
                return None
            seen, _ = hash_file(file)
        except OSError:
            return None
        self._looked = looks
        if seen == self._seen:
            return None
        self._seen = seen
        build = self._try(file)
        if build is not None:
            self.builds.append(build)
        return build

    def _try(self, file: Path) -> Build | None:
        """One build: read, checked, placed, started. Raises InputError for a file that is no archive of content."""
        begun = time.monotonic()
        state = require_instance_state(self._host, self._home)
        (scanned,) = scan_files(self._host, [file], [state.game])
        facts = scanned.archive.facts if scanned.archive is not None else None
        if facts is None:
            what = scanned.findings[0].what if scanned.findings else "it is no archive of content"
            raise InputError("archive-unreadable", f"{file}: {what}", hint="Build it again.")
        if self._wishes.item is not None and facts.id != self._wishes.item:
            return None
        with exclusive(self._host, self._home, self._reporter):
            require_stopped(self._host, self._home, self._reporter, stop_first=True)
            place = self._place(state, facts.id, facts.kind, file)
            if self._wishes.fresh_world:
                world = world_folder(self._home, state.game, state.instance)
                if world.exists():
                    put_aside(self._home, world)
        name = place.relative_to(self._home.folder).as_posix()
        after = require_instance_state(self._host, self._home)
        found = foresee(self._host, after, None, TOPICS, ask_runtime=False)
        wrong = [one for one in found if one.severity == "error" and one.subject in (name, place.name)]
        version = facts.version.text
        own = time.monotonic() - begun
        if wrong:
            build = self._build(file, facts.id, version, "refused", wrong[0].what, own=own)
        else:
            build = self._started(file, facts.id, version, own)
        if build.result == "ready":
            self._good = (place, file.read_bytes())
        else:
            self._put_back(place)
        return build

    def _started(self, file: Path, item: str, version: str, own: float) -> Build:
        """Starts the server with the build in place."""
        launched = launch(self._host, self._home, self._reporter, restart="never", anyway=True)
        with launched.server as server:
            try:
                ready = launched.until_ready(self._host, self._wishes.wait, self._stop_asked)
            except NotReadyError as wrong:
                launched.process.give_up()
                log = tuple(server.last_lines[-20:])
                return self._build(file, item, version, "failed", wrong.message, log=log, own=own)
            launched.process.detach()
        return self._build(file, item, version, "ready", "", ready=ready, own=own)

    @staticmethod
    def _build(
        file: Path,
        item: str,
        version: str,
        result: str,
        why: str,
        *,
        log: tuple[str, ...] = (),
        ready: float | None = None,
        own: float,
    ) -> Build:
        return Build(
            file=str(file),
            item=item,
            version=version,
            result=result,
            why=why,
            log=log,
            ready_seconds=round(ready, 2) if ready is not None else None,
            own_seconds=round(own, 2),
        )

    def _place(self, state: InstanceState, item: str, kind: ContentKind, file: Path) -> Path:
        """Puts the build where the server looks for it, in place of what has its id. Raises StateError."""
        folder = state.game.folders.get(kind)
        if folder is None or (kind in state.game.placing and state.game.placing[kind].unpack):
            raise StateError(
                "no-folder-for-kind",
                f"{item} is a {kind}, which {state.game.title} does not take as an archive",
                hint="Use a server of a game that does.",
            )
        place = self._home.folder / folder / file.name
        for one in scan_content(self._host, state):
            facts = one.archive.facts if one.archive is not None else None
            if (facts is not None and facts.id == item) or Path(one.path) == place:
                with translated("take the old build away", Path(one.path)):
                    if self._good is None:  # what was there before this session
                        self._good = (Path(one.path), Path(one.path).read_bytes())
                    Path(one.path).unlink()
        with translated("place the build", place):
            place.parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(file, place)
        return place

    def _put_back(self, place: Path) -> None:
        """The last good build again, and the server started with it where it was."""
        with translated("take the build away", place):
            place.unlink(missing_ok=True)
        if self._good is not None:
            path, data = self._good
            with translated("put the last good build back", path):
                path.write_bytes(data)


def write_junit(file: Path, done: DevResult) -> None:
    """Writes the results as JUnit XML. Raises StateError."""
    cases = [
        (f"{one.item} {one.version}", (one.ready_seconds or 0.0) + one.own_seconds, one.why, "\n".join(one.log))
        for one in done.builds
    ]
    with translated("write the results", file):
        write_atomic(file, junit_xml(f"rhizon dev {done.name}", cases).encode())
