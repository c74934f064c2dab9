"""What completes a line that is typed into a server's console: its commands, and the players who are on."""

import time
from collections.abc import Callable, Iterable, Iterator
from typing import TYPE_CHECKING

from rhizon.core.errors import StateError

if TYPE_CHECKING:
    from prompt_toolkit.completion import Completer

    from rhizon.core.model.game_console import ConsoleRule

__all__ = ["ConsoleWords", "completer"]

STALE_SECONDS = 30.0


class ConsoleWords:
    """The words that can come next. Players are known from what the server prints; where that is old, it is asked for
    them, and the next completion has them."""

    def __init__(
        self, rule: "ConsoleRule", send: Callable[[str], None], clock: Callable[[], float] = time.monotonic
    ) -> None:
        self._rule = rule
        self._send = send
        self._clock = clock
        self._players: tuple[str, ...] = ()
        self._asked = float("-inf")

    def hear(self, lines: Iterable[str]) -> None:
        """Learns from lines of the server who is on."""
        from rhizon.app.run.players import names_in

        if self._rule.players is None:
            return
        for line in lines:
            names = names_in(self._rule.players, line)
            if names is not None:
                self._players, self._asked = names, self._clock()

    def of(self, typed: str) -> Iterator[tuple[str, int]]:
        """Each word that can stand in place of the last characters of what was typed, and how many those are."""
        begun = typed.lstrip()
        for command in self._rule.commands:
            if command.startswith(begun) and command != begun:
                yield command, len(begun)
        if " " not in begun:
            return
        if self._rule.players is not None and self._clock() - self._asked > STALE_SECONDS:
            self._asked = self._clock()
            try:
                self._send(self._rule.players.command)
            except StateError:
                return
        last = begun.rpartition(" ")[2]
        yield from ((name, len(last)) for name in self._players if name.casefold().startswith(last.casefold()))


def completer(words: ConsoleWords) -> "Completer":
    """The same for a prompt."""
    from prompt_toolkit.completion import CompleteEvent, Completer, Completion
    from prompt_toolkit.document import Document

    class Words(Completer):
        def get_completions(self, document: Document, complete_event: CompleteEvent) -> Iterator[Completion]:  # noqa: ARG002
            for word, length in words.of(document.text_before_cursor):
                yield Completion(word, start_position=-length)

    return Words()
