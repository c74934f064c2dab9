"""All errors, by whose problem they are.

    RhizonError                     exit  what the person can do
    ├── InputError                    2   fix what was typed or written
    │   └── DocumentError             2   fix the file; every mistake of it is listed
    ├── StateError                    1   fix the folder, the machine or the settings
    ├── NoSolutionError               3   change the list, the target or the catalog
    ├── TrustError                    4   do not use these bytes
    ├── RemoteError                   5   look at the network or the other side
    ├── NotReadyError                 6   read what the server said
    └── CancelledError             7   nothing: it was taken back

The module imports nothing of ours, so that every layer can raise from it.
"""

from collections.abc import Sequence

__all__ = [
    "CancelledError",
    "DocumentError",
    "InputError",
    "Mistake",
    "NoSolutionError",
    "NotReadyError",
    "RemoteError",
    "RhizonError",
    "StateError",
    "TrustError",
]


class RhizonError(Exception):
    """What happened, why, and what to do.

    ``code`` is stable and named in docs/exit-codes.md; ``message`` is one sentence; ``details`` are
    further lines of why; ``hint`` says what to do next.
    """

    exit_code = 1

    def __init__(self, code: str, message: str, *, hint: str, details: Sequence[str] = ()) -> None:
        """``mistakes`` are all that were found, in the order of the document."""
        super().__init__(message)
        self.code = code
        self.message = message
        self.hint = hint
        self.details = tuple(details)


class InputError(RhizonError):
    """The command line or a document says something that cannot be."""

    exit_code = 2


class Mistake:
    """One wrong place in a document: where, on which line as far as that is known, what is there, what would be
    right."""

    __slots__ = ("line", "place", "right", "value")

    def __init__(self, place: str, value: str, right: str, line: int | None = None) -> None:
        """``mistakes`` are all that were found, in the order of the document."""
        self.line = line
        self.place = place
        self.value = value
        self.right = right

    def __str__(self) -> str:
        place = self.place if self.line is None else f"line {self.line}, {self.place}"
        return f"{place}: {self.value}: {self.right}" if self.value else f"{place}: {self.right}"


class DocumentError(InputError):
    """A document that cannot be read; ``mistakes`` holds every one that was found."""

    def __init__(self, source: str, what: str, mistakes: Sequence[Mistake], *, hint: str = "") -> None:
        """``mistakes`` are all that were found, in the order of the document."""
        count = len(mistakes)
        lead = f"{source} is not a valid {what}"
        message = f"{lead}: {mistakes[0]}" if count == 1 else f"{lead}: {count} mistakes"
        super().__init__(
            "bad-document",
            message,
            hint=hint or "Correct the file; an example of each document: rhizon help formats",
            details=[str(mistake) for mistake in mistakes] if count > 1 else (),
        )
        self.source = source
        self.mistakes = tuple(mistakes)


class StateError(RhizonError):
    """The instance, the folder or the machine is not in a state that allows this."""

    exit_code = 1


class NoSolutionError(RhizonError):
    """No target and set of releases fits the list.

    ``core`` are facts that cannot all hold, of which none can be taken away; ``repairs`` are changes that were
    tried and help, each a table of kind, item and text. Where several clashes share no wish, ``clashes`` has the facts
    of each and the repairs that lift it; ``repairs``, which help alone, is then empty.
    """

    exit_code = 3
    core: tuple[str, ...] = ()
    repairs: tuple[dict[str, str | None], ...] = ()
    clashes: tuple[dict[str, list[str] | list[dict[str, str | None]]], ...] = ()


class TrustError(RhizonError):
    """Bytes that are not what was promised, or that try to harm."""

    exit_code = 4


class RemoteError(RhizonError):
    """A catalog or another machine could not be reached or answered wrongly."""

    exit_code = 5


class NotReadyError(RhizonError):
    """The server was started and did not become ready; ``culprit`` is the content at fault, where it is known, and
    ``frames`` the classes of the stack trace that it ended with."""

    exit_code = 6
    culprit: str | None = None
    frames: tuple[str, ...] = ()


class CancelledError(RhizonError):
    """The person stopped it; what had begun was taken back."""

    exit_code = 7
