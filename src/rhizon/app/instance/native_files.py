"""Reading and writing settings, ports and the licence's answer in the server's own files."""

import contextlib
from collections.abc import Iterator
from pathlib import PurePath

from rhizon.adapters.files import translated
from rhizon.adapters.instances import InstanceFolder
from rhizon.adapters.transact import write_alone
from rhizon.core.errors import StateError
from rhizon.core.model.game import GameDefinition
from rhizon.core.model.setting import Stored
from rhizon.core.names import printable
from rhizon.core.settings.apply import NativeEdits
from rhizon.core.settings.dialects import DIALECTS
from rhizon.core.settings.dialects.arguments import argument_list
from rhizon.core.settings.dialects.environment import variables_of
from rhizon.core.settings.dialects.spans import NotWritableError

__all__ = ["answer_licence", "native_values", "started_in", "started_with", "understood", "write_edits"]


@contextlib.contextmanager
def understood(path: PurePath | str) -> Iterator[None]:
    """Turns the ValueError of a dialect inside into a :class:`StateError` that names the file, which is broken or
    cannot take an edit."""
    try:
        yield
    except NotWritableError as refused:
        raise StateError(
            "edit-not-written",
            f"{path} cannot be changed like this: {printable(str(refused), 200)}",
            hint="Nothing in the file was changed. Choose another value, or edit that place by hand.",
        ) from None
    except ValueError as broken:
        raise StateError(
            "native-file-broken",
            f"{path} cannot be parsed: {printable(str(broken), 200)}",
            hint="Nothing in it was changed. Correct the file, or delete it so that it is written again.",
        ) from None


def write_edits(home: InstanceFolder, edits: NativeEdits, secret_files: frozenset[str]) -> list[str]:
    """Edits each file in place (making it where it is not); answers the files that changed.

    Files that may hold a secret are readable by their owner only.
    """
    changed = []
    for name in sorted(edits):
        dialect, values = edits[name]
        path = home.folder / name
        before = home.read(name)
        with understood(path):
            after = DIALECTS[dialect].edit(before or b"", values)
        present = path.stat().st_mode & 0o777 if before is not None else 0o644
        mode = 0o600 if name in secret_files else present
        if after != before or present != mode:
            with translated("write the settings", path):
                write_alone(home.folder, name, after, mode, home.linked)
            changed.append(name)
    return changed


def native_values(home: InstanceFolder, place: Stored) -> dict[str, str]:
    """What the file of a place says by key; nothing where it is not there. Raises :class:`StateError`."""
    data = home.read(place.file) or b""
    with understood(home.folder / place.file):
        return DIALECTS[place.written].read(data) if data else {}


def started_with(home: InstanceFolder, game: GameDefinition) -> tuple[str, ...]:
    """The arguments that the game's file of them holds now."""
    file = game.arguments_file
    data = home.read(file, 1 << 20) if file is not None else None
    return argument_list(data, game.pair_words) if data is not None else ()


def started_in(home: InstanceFolder, game: GameDefinition) -> dict[str, str]:
    """The variables that the game's file of them holds now. Raises :class:`StateError`."""
    file = game.environment_file
    data = home.read(file, 1 << 20) if file is not None else None
    with understood(home.folder / (file or "")):
        return variables_of(data) if data is not None else {}


def answer_licence(home: InstanceFolder, place: Stored, word: str | int | bool) -> None:
    """Writes the accepted answer where the server looks for it."""
    write_edits(home, {place.file: (place.written, {place.key: word})}, frozenset())
