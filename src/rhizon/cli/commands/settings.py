"""``rhizon settings``."""

from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.output import Step
from rhizon.cli.servers import SERVER, Server
from rhizon.core.settings.apply import format_value

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.tune.list_settings import SettingLine, Settings

__all__ = ["settings"]


@command(
    "settings",
    examples=(
        ("rhizon settings marsh", "every setting with its value and meaning"),
        ("rhizon settings marsh --verbose --wide", "also the file and key of each"),
        ("rhizon settings marsh --reveal", "show passwords too"),
    ),
    verbose="the file and key where each setting is stored",
    tables=True,
)
@click.argument("server", type=SERVER)
@click.option("--reveal", is_flag=True, help="Show the values of secrets.")
def settings(call: Call, server: Server, reveal: bool) -> Answer:
    """List every setting of a server: Rhizon's name for it, its value, what is allowed, what it means.

    The values are read from the server's own files.
    """
    from rhizon.app.tune.list_settings import list_settings

    found = list_settings(call.host, server.folder, reveal=reveal)
    change = ("rhizon", "set", server.label, _example(found), "--dry-run")
    return Answer(
        found,
        f"{found.name} ({found.game_title}): {len(found.settings)} settings",
        lambda to: _body(to, found, call),
        next=(Step(change, "show what a change would do"),),
    )


def _example(found: "Settings") -> str:
    """A setting as it is, for a command that can be typed."""
    open_ = [one for one in found.settings if not one.secret and one.value not in (None, "")]
    open_.sort(key=lambda one: not isinstance(one.value, int) or isinstance(one.value, bool))
    return next((f"{one.name}={_value(one)}" for one in open_), "max_players=10")


def _body(to: "Console", found: "Settings", call: Call) -> None:
    """The table of settings."""
    columns = ["setting", "value", "set by", "allowed", "meaning"]
    rows = [
        [one.name, _value(one), one.set_by, one.allowed.removeprefix("a whole number from "), one.meaning]
        for one in found.settings
    ]
    if call.out.verbose:
        columns.append("stored in")
        rows = [
            [*row, f"{one.file}: {one.key}" if one.file else ""] for row, one in zip(rows, found.settings, strict=True)
        ]
    call.table(to, columns, rows, prose=("meaning", "allowed", "value"))


def _value(one: "SettingLine") -> str:
    if one.secret and one.value is None:
        return "(secret)" if one.is_set else "(none)"
    if one.value is None:
        return f"({format_value(one.default)})" if one.default != "" else ""  # not in the file: the game's default
    return format_value(one.value)
