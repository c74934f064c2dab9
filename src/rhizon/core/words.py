"""Small rules of what is said: commands as typed, free names."""

import shlex
from collections.abc import Collection

from rhizon.core.names import printable

__all__ = ["command_line", "free_name"]

LONGEST_NAME = 64  # characters of an id


def command_line(*words: object) -> str:
    """The words as one line for a shell, quoted where that is needed and without control codes."""
    return shlex.join(printable(str(word)) for word in words)


def free_name(name: str, taken: Collection[str]) -> str:
    """``name``, or with the lowest number from 2 on behind it the first that is not taken: ``marsh``, ``marsh-2``."""
    if name not in taken:
        return name
    numbered = (f"-{number}" for number in range(2, len(taken) + 3))
    return next(one for end in numbered if (one := name[: LONGEST_NAME - len(end)] + end) not in taken)
