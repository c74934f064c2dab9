"""Reading and writing settings, ports, operators and the licence's answer in the server's own files."""

import contextlib
from collections.abc import Iterator
from pathlib import Path, PurePath

from rhizon.adapters.files import read_bytes, translated, write_atomic
from rhizon.core.errors import StateError
from rhizon.core.model.game import GameDefinition, Stored
from rhizon.core.names import plain
from rhizon.core.settings.apply import NativeEdits, edit_lines
from rhizon.core.settings.dialects import DIALECTS

__all__ = ["answer_licence", "understood", "write_edits", "write_operators"]


@contextlib.contextmanager
def understood(path: PurePath | str) -> Iterator[None]:
    """Turns the ValueError of a dialect inside into a :class:`StateError` that names the broken file."""
    try:
        yield
    except ValueError as broken:
        raise StateError(
            "native-file-broken",
            f"{path} cannot be understood: {plain(str(broken), 200)}",
            hint="Mend that file (nothing in it was changed), or delete it so that it is written anew.",
        ) from None


def write_edits(folder: Path, edits: NativeEdits, secret_files: frozenset[str]) -> list[str]:
    """Edits each file in place (making it where it is not); answers the files that changed.

    Files that may hold a secret are readable by their owner only.
    """
    changed = []
    for name in sorted(edits):
        dialect, values = edits[name]
        path = folder / name
        before = read_bytes(path, "settings file") if path.exists() else None
        with understood(path):
            after = DIALECTS[dialect].edit(before or b"", values)
        present = path.stat().st_mode & 0o777 if before is not None else 0o644
        mode = 0o600 if name in secret_files else present
        if after != before or present != mode:
            with translated("write the settings", path):
                write_atomic(path, after, mode)
            changed.append(name)
    return changed


def write_operators(folder: Path, game: GameDefinition, names: tuple[str, ...]) -> bool:
    """Adds operators to the game's file; True when it changed."""
    if game.operators is None or not names:
        return False
    path = folder / game.operators.file
    before = read_bytes(path, "operators file") if path.exists() else b""
    after = edit_lines(before, names)
    if after == before:
        return False
    with translated("write the operators", path):
        write_atomic(path, after)
    return True


def answer_licence(folder: Path, place: Stored, word: str) -> None:
    """Writes the accepted answer where the server looks for it."""
    write_edits(folder, {place.file: (place.dialect, {place.key: word})}, frozenset())
