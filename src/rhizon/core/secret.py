"""Values that must not be seen: passwords, tokens, keys."""

import hmac
from collections.abc import Mapping
from typing import Any, NoReturn

__all__ = ["HIDDEN", "Secret", "revealed"]

HIDDEN = "••••"


class Secret:
    """A text that cannot be printed, formatted, logged, pickled or serialised by accident. :meth:`reveal` gives it to
    the one place that needs it."""

    __slots__ = ("_text",)

    def __init__(self, text: str) -> None:
        self._text = text

    def reveal(self) -> str:
        """The text itself. Do not keep it."""
        return self._text

    def __repr__(self) -> str:
        return f"Secret({HIDDEN!r})"

    def __str__(self) -> str:
        return HIDDEN

    def __format__(self, _specification: str) -> str:
        return HIDDEN

    def __bool__(self) -> bool:
        return bool(self._text)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Secret) and hmac.compare_digest(self._text.encode(), other._text.encode())

    def __hash__(self) -> int:
        return hash(Secret)

    def __reduce__(self) -> NoReturn:
        raise TypeError("a secret is not written anywhere")

    def __getstate__(self) -> Any:
        raise TypeError("a secret is not written anywhere")

    def is_sendable(self) -> bool:
        """Whether it can travel in one line of a protocol: visible ASCII and spaces, nothing else."""
        return bool(self._text) and self._text.isascii() and self._text.isprintable()


def revealed(secrets: Mapping[str, Secret]) -> dict[str, str]:
    """The texts by name, for the files that have to hold them."""
    return {name: one.reveal() for name, one in secrets.items()}
