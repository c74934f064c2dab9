"""Who is on a server, and orders about players, by the game's own console commands."""

import re
from collections.abc import Callable
from pathlib import Path
from typing import Literal

import msgspec

from rhizon.app.host import Host
from rhizon.app.run.console import type_line
from rhizon.core.errors import InputError, StateError
from rhizon.core.model.game_console import PlayersRule
from rhizon.core.names import printable

__all__ = ["Order", "PlayerOrder", "Players", "names_in", "order_players", "players_on"]

Order = Literal["kick", "ban", "say"]
LONGEST_NAME = 64


class Players(msgspec.Struct, frozen=True, kw_only=True):
    """Players who are on now, in the server's order; of at most ``most``, where that is known."""

    folder: str
    name: str
    online: tuple[str, ...]
    most: int | None


class PlayerOrder(msgspec.Struct, frozen=True, kw_only=True):
    """What was typed, and what the server said to it."""

    folder: str
    name: str
    typed: str
    lines: tuple[str, ...]


def players_on(host: Host, folder: Path, stop_asked: Callable[[], bool]) -> Players:
    """Asks the server. Raises :class:`StateError` where it does not run, does not answer, or cannot be asked."""
    home = host.home(folder).required()
    instance = home.instance()
    game = host.game_of(instance)
    rule = game.console.players
    if rule is None:
        raise StateError(
            "not-sayable",
            f"the definition of {game.title} has no command that lists players",
            hint="Add console.players to it: rhizon help describe-a-game",
        )
    answer = type_line(host, folder, rule.command, stop_asked, until=rule.pattern, seconds=rule.seconds)
    online = names_in(rule, answer.lines[-1]) if answer.found and answer.lines else None
    if online is None:
        raise StateError(
            "no-answer",
            f"the server did not list its players within {rule.seconds} s",
            hint="Try again, or see its log.",
        )
    limit = game.settings.get("max_players")
    most = instance.settings.get("max_players", limit.default) if limit is not None else None
    return Players(
        folder=str(home.folder),
        name=instance.name,
        online=online,
        most=most if isinstance(most, int) and not isinstance(most, bool) else None,
    )


def names_in(rule: PlayersRule, line: str) -> tuple[str, ...] | None:
    """The players that a line lists; None for a line that lists none."""
    match = re.search(rule.pattern, line)
    if match is None:
        return None
    names = [printable(one.strip(), LONGEST_NAME) for one in match["names"].split(rule.separator)]
    return tuple(one for one in names if one and one != rule.empty)


def order_players(host: Host, folder: Path, order: Order, text: str, stop_asked: Callable[[], bool]) -> PlayerOrder:
    """Kicks or bans a player, or tells all players something. Raises :class:`StateError` where the game has no command
    for that, InputError for an empty text or one of several lines."""
    home = host.home(folder).required()
    game = host.game_of(home.instance())
    command = {"kick": game.console.kick, "ban": game.console.ban, "say": game.console.say}[order]
    if not command:
        raise StateError(
            "not-sayable",
            f"the definition of {game.title} has no {order} command",
            hint=f"Add console.{order} to it, if the game has such a command.",
        )
    if not text.strip() or printable(text) != text:
        raise InputError("bad-text", f"{printable(text)!r} is not a name or a text of one line", hint="Quote it.")
    answer = type_line(host, folder, command.replace("{name}", text).replace("{text}", text), stop_asked, seconds=3)
    return PlayerOrder(folder=str(home.folder), name=answer.name, typed=answer.typed, lines=answer.lines)
