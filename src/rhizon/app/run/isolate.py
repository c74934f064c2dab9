"""Finding the content that makes a start fail, where the log does not say it: copies of the server are started with
parts of its content. The server's own folder is only read.

Each try is a folder of its own with the server's files, its settings at other ports, a part of its content, and no
world: the server makes a new one. What is tried is decided by :mod:`rhizon.core.isolate`.
"""

import os
import re
import shutil
import tempfile
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

import msgspec

from rhizon.adapters.files import translated
from rhizon.adapters.processes import alive, began
from rhizon.adapters.transact import RHIZON
from rhizon.app.archives.on_server import scan_content
from rhizon.app.host import Host
from rhizon.app.instance.native_files import write_edits
from rhizon.app.instance.reservations import others_than, ports_for
from rhizon.app.instance.state import InstanceState, require_instance_state
from rhizon.app.reporter import Reporter
from rhizon.app.run.command import command_of
from rhizon.app.run.server import RunningServer
from rhizon.core.allocate.port_roles import port_places
from rhizon.core.content_paths import place_of
from rhizon.core.errors import CancelledError, NotReadyError, StateError
from rhizon.core.isolate import Trial, isolate
from rhizon.core.log_lines import without_numbers
from rhizon.core.model.lock import Lock
from rhizon.core.model.setting import NAME_WORD
from rhizon.core.settings.apply import NativeEdits, edits_for

__all__ = ["IsolateResult", "IsolateWishes", "Symptom", "isolate_content"]

PREFIX = "isolate-"


class Symptom(msgspec.Struct, frozen=True, kw_only=True):
    """How the whole server fails: the code of its failure and the line that says so, without numbers."""

    code: str
    line: str


class IsolateWishes(msgspec.Struct, frozen=True, kw_only=True):
    """What a person asks for: seconds that a start may take (None: as the definition says), and a part of a line of
    the log that is the symptom, where it is not that the server does not become ready."""

    wait: float | None = None
    line: str | None = None


class IsolateResult(msgspec.Struct, frozen=True, kw_only=True):
    """``culprits`` is the smallest set of content that was found to fail, none where the server starts; ``files`` are
    its files; ``starts`` how many there were. ``fails_alone``: it fails with only what it needs; ``rest_works``: the
    server starts without it."""

    folder: str
    name: str
    culprits: tuple[str, ...]
    files: tuple[str, ...]
    symptom: Symptom | None
    starts: int
    candidates: int
    fails_alone: bool
    rest_works: bool


def isolate_content(
    host: Host, folder: Path, reporter: Reporter, stop_asked: Callable[[], bool], wishes: IsolateWishes
) -> IsolateResult:
    """Starts copies of the server until the smallest part of its content is known that fails as the whole does. Raises
    StateError (no content, no runtime), CancelledError."""
    home = host.home(folder).required()
    state = require_instance_state(host, home)
    content = _content(host, state)
    if not content:
        raise StateError("no-content", f"{home.folder} has no content to choose from", hint="See its log instead.")
    with translated("make a folder for the copies", host.places.runtimes.parent):
        copies = tempfile.TemporaryDirectory(prefix=_prefix(), dir=_room(host))
    with copies as room:
        starts = _Starts(host, state, content, Path(room), reporter, stop_asked, wishes)
        trial = Trial(sorted(content), _needs(host, state, content), starts.fails)
        found = isolate(sorted(content), trial)
    return IsolateResult(
        folder=str(home.folder),
        name=state.instance.name,
        culprits=found.culprits if found is not None else (),
        files=tuple(str(content[one]) for one in found.culprits) if found is not None else (),
        symptom=starts.symptom,
        starts=starts.count,
        candidates=len(content),
        fails_alone=found.fails_alone if found is not None else False,
        rest_works=found.rest_works if found is not None else False,
    )


def _room(host: Host) -> Path:
    room = host.places.runtimes.parent
    room.mkdir(parents=True, exist_ok=True)
    for left in room.glob(f"{PREFIX}*"):  # of a run that was killed
        made_by = re.fullmatch(rf"{PREFIX}(\d{{1,9}})-(\d{{1,12}})-\w+", left.name)
        if made_by is not None and not alive(int(made_by[1]), int(made_by[2])):
            shutil.rmtree(left, ignore_errors=True)
    return room


def _prefix() -> str:
    """Of a folder's name: which process it is of, by its number and the second in which it began."""
    return f"{PREFIX}{os.getpid()}-{began(os.getpid()):.0f}-"


def _copied(source: str, place: str) -> str:
    """Copies a file for ``copytree``, and ends it at the first that cannot be. Raises StateError."""
    with translated("copy the server", Path(place)):
        return str(shutil.copy2(source, place))


def _content(host: Host, state: InstanceState) -> dict[str, Path]:
    """Every piece of content that is there by its id, with its path in the folder: archives as they are, also those
    that were put there by hand, and what of the lock is unpacked."""
    home, game = state.home.folder, state.game
    found: dict[str, Path] = {}
    for one in scan_content(host, state):
        facts = one.archive.facts if one.archive is not None else None
        path = Path(one.path).relative_to(home)
        found[facts.id if facts is not None and facts.id not in found else path.name] = path
    for release in state.lock.on_server():
        place = Path(place_of(game, state.lock, release))
        if (home / place).is_dir():
            found[release.id] = place
    return found


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


class _Starts:
    """Starts copies with parts of the content, and tells whether they fail as the whole does."""

    def __init__(
        self,
        host: Host,
        state: InstanceState,
        content: Mapping[str, Path],
        room: Path,
        reporter: Reporter,
        stop_asked: Callable[[], bool],
        wishes: IsolateWishes,
    ) -> None:
        self._host, self._state, self._content, self._room = host, state, content, room
        self._reporter, self._stop_asked, self._wishes = reporter, stop_asked, wishes
        self.count = 0
        self.symptom: Symptom | None = None

    def fails(self, chosen: frozenset[str]) -> bool:
        """Whether a copy with these pieces fails; the first one, with all, says what the symptom is."""
        self.count += 1
        self._reporter.step(f"start {self.count} with {len(chosen)} of {len(self._content)}")
        folder = self._room / str(self.count)
        try:
            with translated("copy the server", folder):
                self._lay_out(folder, chosen)
            seen = self._start(folder, chosen)
        finally:
            shutil.rmtree(folder, ignore_errors=True)
        if self.symptom is None and self.count == 1:
            self.symptom = seen
        failed = seen is not None and seen == self.symptom
        how = "fails" if failed else "starts" if seen is None else f"fails otherwise ({seen.code})"
        self._reporter.done(f"with {len(chosen)} of {len(self._content)} pieces it {how}")
        return failed

    def _lay_out(self, folder: Path, chosen: frozenset[str]) -> None:
        """The server's files but for content, worlds and records, then the chosen content, then settings of its own."""
        state, home = self._state, self._state.home.folder
        left_out = {home / path for path in self._content.values()}
        left_out |= {home / RHIZON, home / state.game.world.folder}
        shutil.copytree(
            home,
            folder,
            symlinks=True,
            copy_function=_copied,
            ignore=lambda where, names: [name for name in names if Path(where, name) in left_out],
        )
        (folder / RHIZON).mkdir()
        for one in chosen:
            source, place = home / self._content[one], folder / self._content[one]
            place.parent.mkdir(parents=True, exist_ok=True)
            if source.is_dir():
                shutil.copytree(source, place, symlinks=True, copy_function=_copied)
            else:
                _copied(str(source), str(place))
        write_edits(self._host.home(folder), self._edits(chosen), frozenset())

    def _edits(self, chosen: frozenset[str]) -> NativeEdits:
        """Ports that are free, and only the chosen content in the list of what is loaded."""
        state, game = self._state, self._state.game
        others = others_than(self._host, self._host.home(self._room))
        ports = ports_for(self._host, game, state.lock, {}, others)
        extra = {role: port.store for role, port in port_places(game, state.lock).items()}
        edits = edits_for(game, {}, ports, extra)
        place = game.loaders[state.lock.target.loader].enabled
        if place is not None:
            values: dict[str, Any] = edits.setdefault(place.file, (place.dialect, {}))[1]
            for one in self._content:  # nothing is not the same as no: a list has a name or does not
                values[place.key.replace(NAME_WORD, one)] = True if one in chosen else None
        return edits

    def _start(self, folder: Path, chosen: frozenset[str]) -> Symptom | None:
        """The symptom of a start, None where the server becomes ready without the line that is looked for."""
        state, game = self._state, self._state.game
        lock = self._lock_of(chosen)
        instance, home = state.instance, self._host.home(folder)
        command = command_of(home, game, lock, instance)
        seen_line: list[str] = []
        with RunningServer(command.words, command.environment, folder, game, Reporter()) as server:
            if self._wishes.line is not None:
                wanted = self._wishes.line
                server.listeners.append(lambda line: seen_line.append(line) if wanted in line else None)
            try:
                server.until_ready(self._wishes.wait, self._stop_asked)
            except NotReadyError as wrong:
                said = next(iter(wrong.details), "")
                if wrong.culprit is not None and self._wishes.line is None and wrong.code == "start-timeout":
                    said = ""
                failure = Symptom(code=wrong.code, line=without_numbers(said))
                return failure if self._wishes.line is None or seen_line else None
            except CancelledError:
                raise
            server.stop()
        return Symptom(code="line", line=self._wishes.line or "") if seen_line else None

    def _lock_of(self, chosen: frozenset[str]) -> Lock:
        """The lock with the chosen content only."""
        releases = tuple(one for one in self._state.lock.releases if one.id in chosen or not one.on_server)
        return msgspec.structs.replace(self._state.lock, releases=releases)
