"""``rhizon players``."""

from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.servers import SERVER, Server
from rhizon.core.units import counted

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.run.players import PlayerOrder

__all__ = ["players"]


@command(
    "players",
    examples=(
        ("rhizon players marsh", "list the players who are online"),
        ("rhizon players marsh --say 'high tide at nine'", "tell all players"),
        ("rhizon players marsh --kick Oddvar", "the same option in every game"),
    ),
)
@click.argument("server", type=SERVER)
@click.option("--say", metavar="TEXT", help="Send this message to all players.")
@click.option("--kick", metavar="NAME", help="Kick a player; they can rejoin.")
@click.option("--ban", metavar="NAME", help="Ban a player.")
def players(call: Call, server: Server, say: str | None, kick: str | None, ban: str | None) -> Answer:
    """List the players of a running server, send them a message, or kick or ban one.

    The game's own console commands are typed, as its definition names them.
    """
    from rhizon.app.run.players import Order, order_players, players_on
    from rhizon.cli.terminal import stop_signals

    named: dict[Order, str | None] = {"say": say, "kick": kick, "ban": ban}
    orders = [(order, text) for order, text in named.items() if text is not None]
    if len(orders) > 1:
        raise click.UsageError("Give one of --say, --kick and --ban.")
    with stop_signals() as asked:
        if orders:
            order, text = orders[0]
            done = order_players(call.host, server.folder, order, text, asked)
            return Answer(done, f"{done.name}: typed {done.typed!r}", lambda to: _lines(to, done))
        found = players_on(call.host, server.folder, asked)
    most = f" of {found.most}" if found.most is not None else ""
    online = ", ".join(found.online)
    text = f"{found.name}: {counted(len(found.online), 'player')}{most}" + (f": {online}" if online else "")
    return Answer(found, text)


def _lines(to: "Console", done: "PlayerOrder") -> None:
    for line in done.lines:
        to.print(line, markup=False, highlight=False, soft_wrap=True)
