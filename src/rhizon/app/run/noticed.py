"""What a server did by itself while it started, and what it did not do: told once it is ready."""

from collections.abc import Iterator

from rhizon.adapters.instances import InstanceFolder
from rhizon.app.foresee.known_worlds import known_worlds
from rhizon.app.instance.worlds import world_named_in_file
from rhizon.core.allocate.port_roles import port_places
from rhizon.core.boot import BootJudge
from rhizon.core.content_paths import loaded
from rhizon.core.errors import StateError
from rhizon.core.finding import Finding
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.instance import Instance
from rhizon.core.model.lock import Lock
from rhizon.core.names import printable
from rhizon.core.settings.apply import in_file
from rhizon.core.settings.dialects import DIALECTS
from rhizon.core.words import command_line

__all__ = ["BeforeStart", "not_loaded"]

MOST_NAMED = 4


class BeforeStart:
    """The world and the settings of a server as they are before it starts; ``world`` is the folder that it will
    use."""

    def __init__(self, home: InstanceFolder, game: GameDefinition, lock: Lock, instance: Instance) -> None:
        self._home = home
        self._game = game
        self._lock = lock
        self.world = home.folder / game.world.path(world_named_in_file(home, game, instance))
        self._had_world = self.world.exists()
        self._values = self._values_now()

    def changed(self) -> list[Finding]:
        """What is different since: a world that was made anew, settings that the server wrote over."""
        return [*self._world_made(), *self._settings_replaced()]

    def _world_made(self) -> Iterator[Finding]:
        """Where it has run with a world of this name, or with another one, before."""
        known, name = known_worlds(self._home), self._game.world.name_of(self.world.name) or self.world.name
        if self._had_world or not known or not self.world.exists():
            return
        if name in known:
            what = "the server made this world anew: the one of that name that it had is gone"
            back = command_line("rhizon", "restore", self._home.folder, "--only", "world")
        else:
            what = f"the server made this world; the last one was {known[-1]}"
            setting = self._game.world.name_setting
            back = command_line("rhizon", "set", self._home.folder, f"{setting}={known[-1]}")
        yield Finding(
            code="world-made",
            severity="warning" if name in known else "note",
            subject=self._game.world.path(name),
            what=what,
            remedy=f"If that was not meant: {back}",
        )

    def _settings_replaced(self) -> Iterator[Finding]:
        """A server that cannot use its settings may write its defaults over them. What was empty is none of those: a
        server writes down what it chose."""
        now = self._values_now()
        by_file: dict[str, list[str]] = {}
        for (file, name), was in self._values.items():
            here = now.get((file, name), "")
            if was and here != was:
                by_file.setdefault(file, []).append(f"{name} was {was}, is {here or '(missing)'}")
        for file, changes in by_file.items():
            more = f", and {len(changes) - MOST_NAMED} more" if len(changes) > MOST_NAMED else ""
            yield Finding(
                code="settings-replaced",
                severity="warning",
                subject=file,
                what=f"the server wrote over its settings while it started: {'; '.join(changes[:MOST_NAMED])}{more}",
                remedy=f"Stop it and write them again: {command_line('rhizon', 'update', self._home.folder)}",
            )

    def _values_now(self) -> dict[tuple[str, str], str]:
        """Settings and ports by file and name, as their type understands them; no secrets, no lists of names."""
        read: dict[tuple[str, str], dict[str, str]] = {}
        found: dict[tuple[str, str], str] = {}
        for name, definition in self._game.settings.items():
            place = definition.store
            if place is None or definition.secret or definition.type == "names":
                continue
            values = self._read(read, place.file, place.written)
            if place.key in values:
                value, _ = in_file(definition, DIALECTS[place.written], values)
                try:
                    found[place.file, name] = printable(str(definition.checked(value)), 60)
                except ValueError:
                    found[place.file, name] = printable(str(value), 60)
        for role, port in port_places(self._game, self._lock).items():
            for stored in port.store:
                values = self._read(read, stored.file, stored.written)
                if stored.key in values:
                    found[stored.file, f"the {role} port"] = printable(values[stored.key].strip(), 60)
        return found

    def _read(self, read: dict[tuple[str, str], dict[str, str]], file: str, dialect: str) -> dict[str, str]:
        """The values of a settings file; none where it cannot be read, which the rules tell."""
        if (file, dialect) not in read:
            try:
                data = self._home.read(file)
                read[file, dialect] = DIALECTS[dialect].read(data) if data is not None else {}
            except (StateError, ValueError):
                read[file, dialect] = {}
        return read[file, dialect]


def not_loaded(home: InstanceFolder, game: GameDefinition, lock: Lock, judge: BootJudge) -> list[Finding]:
    """Content that the server should have and did not tell of, where it tells of each."""
    if not game.log.content_done or not judge.started:
        return []
    failed = {one.culprit for one in judge.troubles}
    missing = [one for one in loaded(game, lock) if one.id not in judge.started and one.id not in failed]
    what = "it is in the lock, and the server did not say that it loaded it"
    remedy = f"See what is wrong: {command_line('rhizon', 'check', home.folder)}"
    return [
        Finding(code="content-not-loaded", severity="warning", subject=one.id, what=what, remedy=remedy)
        for one in missing
    ]
