"""The states of an instance that are kept for ``rhizon undo``, and the bytes that they need."""

import contextlib
from pathlib import Path

from rhizon.adapters.files import read_bytes, translated
from rhizon.adapters.inside import Inside
from rhizon.adapters.transact import BLOBS, RHIZON
from rhizon.core.errors import InputError, RhizonError
from rhizon.core.model.documents import decode
from rhizon.core.model.kept import KeptState
from rhizon.core.words import command_line

__all__ = ["MOST_STATES", "KeptStates", "state_name"]

MOST_STATES = 12


def state_name(number: int) -> str:
    """The record's name below ``.rhizon/``."""
    return f"kept/{number:04}.json"


class KeptStates:
    """States by number, from 1 up; a number is not used twice."""

    def __init__(self, folder: Path) -> None:
        self._own = folder / RHIZON

    def numbers(self) -> list[int]:
        """Those that are there, oldest first."""
        files = self._own.glob("kept/*.json")
        return sorted(int(file.stem) for file in files if file.stem.isdecimal())

    def read(self, number: int) -> KeptState:
        """One of them. Raises InputError when there is none with that number, DocumentError when it is broken."""
        if number not in self.numbers():
            raise InputError(
                "no-such-state",
                f"there is no kept state {number}",
                hint=f"See the kept states: {command_line('rhizon', 'undo', self._own.parent, '--list')}",
            )
        path = self._own / state_name(number)
        return decode(KeptState, read_bytes(path, "kept state"), str(path))

    def readable(self) -> list[KeptState]:
        """All that can be read, oldest first."""
        states = []
        for number in self.numbers():
            with contextlib.suppress(RhizonError):
                states.append(self.read(number))
        return states

    def trim(self, most: int = MOST_STATES) -> None:
        """Lets go of the oldest states over ``most``, and of bytes that no state needs."""
        numbers = self.numbers()
        with translated("clear up kept states", self._own), Inside(self._own.parent) as inside:
            for number in numbers[: max(len(numbers) - most, 0)]:
                inside.unlink(f"{RHIZON}/{state_name(number)}")
        left = self.readable()
        if len(left) < len(self.numbers()):
            return  # one cannot be read: what it needs is not known
        needed = {file.sha256 for state in left for file in state.files.values()}
        with translated("clear up kept states", self._own), Inside(self._own.parent) as inside:
            for name in inside.names(f"{RHIZON}/{BLOBS}"):
                if name not in needed:
                    inside.unlink(f"{RHIZON}/{BLOBS}/{name}")
