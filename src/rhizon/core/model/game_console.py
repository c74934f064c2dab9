"""What a game definition says of the server's console: how it is reached, and what is typed there."""

from typing import Annotated, Literal

import msgspec

from rhizon.core.model.base import Id, Line, Strict
from rhizon.core.model.patterns import check_pattern
from rhizon.core.model.setting import NAME_WORD
from rhizon.core.names import RelPath

__all__ = ["ConsoleRule", "HoldRule", "HttpConsole", "PlayersRule", "StopSignal", "TcpConsole"]

StopSignal = Literal["interrupt", "terminate", "hangup", "quit"]


class HoldRule(Strict, frozen=True, kw_only=True):
    """How to make a running server save its world and leave the files alone for a while: the command, the line that
    says that it is so, the command that ends it. Without ``release`` the server only saves, and may write again."""

    command: Line
    done: Line
    release: Line = ""
    seconds: Annotated[int, msgspec.Meta(ge=1, le=3600)] = 60

    def __post_init__(self) -> None:
        check_pattern(self.done, "done")


class PlayersRule(Strict, frozen=True, kw_only=True):
    """How to list the players who are online: the command, and a pattern for its answer with the group ``names``,
    which ``separator`` separates. ``empty`` is the word that the server prints if there are none."""

    command: Line
    pattern: Line
    separator: Annotated[str, msgspec.Meta(min_length=1, max_length=10)] = ", "
    empty: str = ""
    seconds: Annotated[int, msgspec.Meta(ge=1, le=60)] = 5

    def __post_init__(self) -> None:
        check_pattern(self.pattern, "pattern", ("names",))


class TcpConsole(Strict, frozen=True, kw_only=True):
    """A console that takes lines over TCP at the port of a role. ``login`` is the first line that is sent, with the
    secret setting ``password_setting`` where it says ``{password}``; it is sent when the server has asked for it, where
    ``asks`` is a pattern for that. ``refused`` is a pattern for the answer to a wrong one. What ``prompt`` matches at
    the beginning of a line is taken off. ``ends`` is a pattern for the line that ends an answer: it is not shown, and
    the next line is typed after it. ``line_end`` ends what is typed."""

    port: Id
    login: Line = ""
    password_setting: Id | None = None
    asks: Line = ""
    refused: Line = ""
    prompt: Line = ""
    ends: Line = ""
    line_end: Literal["lf", "crlf", "nul"] = "lf"

    def __post_init__(self) -> None:
        for name in ("asks", "refused", "prompt", "ends"):
            check_pattern(getattr(self, name), name)
        if ("{password}" in self.login) != (self.password_setting is not None):
            raise ValueError(
                "login: `{password}` stands for the setting that `password_setting` names; give both or neither"
            )


class HttpConsole(Strict, frozen=True, kw_only=True):
    """A console that is an HTTP endpoint at the port of a role. ``{command}`` in ``path`` and ``body`` is what is
    typed, escaped as the place needs it; ``{password}`` in ``headers``, ``path`` and ``body`` is the secret setting
    ``password``."""

    port: Id
    method: Literal["POST", "PUT", "GET"] = "POST"
    path: Line = "/"
    body: Line = "{command}"
    type: Line = "text/plain; charset=utf-8"
    headers: dict[Line, Line] = {}
    password_setting: Id | None = None

    def __post_init__(self) -> None:
        places = (self.path, self.body, *self.headers.values())
        if not any("{command}" in one for one in places):
            raise ValueError("`{command}` is required in the path or the body")
        if any("{password}" in one for one in places) != (self.password_setting is not None):
            raise ValueError("`{password}` stands for the setting that `password_setting` names; give both or neither")
        if not self.path.startswith("/"):
            raise ValueError("path: it begins with /")


class ConsoleRule(Strict, frozen=True, kw_only=True):
    """How the console is reached (its standard input, unless ``tcp``, ``http`` or a ``fifo`` that the server reads is
    given, or ``none``), and the commands that Rhizon itself types. The server is stopped by the command ``stop``, by
    ``stop_signal``, or first by the one and, where it still runs after ``stop_seconds``, by the other. ``say`` tells
    all players ``{text}``, ``kick`` and ``ban`` remove the player ``{name}``; ``players`` asks who is on. ``commands``
    are words that complete what a person types."""

    tcp: TcpConsole | None = None
    http: HttpConsole | None = None
    fifo: RelPath | None = None
    none: bool = False
    stop: Line = ""
    say: Line = ""
    kick: Line = ""
    ban: Line = ""
    players: PlayersRule | None = None
    commands: tuple[Line, ...] = ()
    stop_signal: StopSignal | None = None
    stop_seconds: Annotated[int, msgspec.Meta(ge=1, le=3600)] = 60
    hold: HoldRule | None = None

    def __post_init__(self) -> None:
        if not self.stop and self.stop_signal is None:
            raise ValueError("a server is stopped by `stop`, by `stop_signal`, or by both")
        if sum([self.tcp is not None, self.http is not None, self.fifo is not None, self.none]) > 1:
            raise ValueError("a console is one of `tcp`, `http`, `fifo` or `none`")
        typed = (self.stop, self.say, self.kick, self.ban, self.players, self.hold, self.commands)
        if self.none and any(typed):
            raise ValueError("none: nothing can be typed; stop it by `stop_signal` alone")
        if self.say and "{text}" not in self.say:
            raise ValueError("say: `{text}` is required, for what players are told")
        for command in (self.kick, self.ban):
            if command and NAME_WORD not in command:
                raise ValueError(f"{command!r}: `{NAME_WORD}` is required, for the player")

    def reached_at(self) -> list[tuple[str, TcpConsole | HttpConsole]]:
        """The console at a port, with the name of its table; none where it is reached otherwise."""
        both: dict[str, TcpConsole | HttpConsole | None] = {"tcp": self.tcp, "http": self.http}
        return [(name, rule) for name, rule in both.items() if rule is not None]
