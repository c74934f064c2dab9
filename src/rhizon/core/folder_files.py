"""What became of each file of a plain folder of archives that a server was made from."""

from collections.abc import Iterable
from typing import Literal

import msgspec

from rhizon.core.model.catalog import LOCAL
from rhizon.core.model.lock import Lock

__all__ = ["FileState", "FolderFile", "outcome"]

FileState = Literal["taken", "left out", "fetched"]


class FolderFile(msgspec.Struct, frozen=True, kw_only=True):
    """One file of the folder (``path`` in it), or one that was ``fetched`` beside it; ``item`` and ``version`` where it
    has them, ``why`` it was left out or fetched."""

    path: str
    state: FileState
    item: str = ""
    version: str = ""
    why: str = ""


def outcome(files: Iterable[FolderFile], lock: Lock) -> tuple[FolderFile, ...]:
    """The files after the lock has been solved: what is for players only or does not fit is left out, what was missing
    was fetched."""
    dropped = {one.id: one.reason for one in lock.dropped}
    players = {one.id for one in lock.releases if not one.on_server}
    rows = []
    for row in files:
        if row.state == "taken" and row.item in dropped:
            row = msgspec.structs.replace(row, state="left out", why=f"it does not fit: {dropped[row.item]}")
        elif row.state == "taken" and row.item in players:
            row = msgspec.structs.replace(row, state="left out", why="for players only")
        rows.append(row)
    fetched = [
        FolderFile(
            path=one.file.path.rpartition("/")[2],
            state="fetched",
            item=one.id,
            version=one.version.text,
            why=f"{_joined(one.because)} need{'' if len(one.because) > 1 else 's'} it; from {one.file.catalog}"
            + ("; players need it too" if one.for_players else ""),
        )
        for one in lock.releases
        if one.file.catalog != LOCAL and "list" not in one.because
    ]
    rows.sort(key=lambda row: row.state != "taken")
    return (*rows, *fetched)


def _joined(names: tuple[str, ...]) -> str:
    return " and ".join(filter(None, [", ".join(names[:-1]), *names[-1:]]))
