"""``rhizon settings``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.output import Output, common, next_steps, show_table, verdict
from rhizon.core.settings.apply import spelt

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.tune.list_settings import SettingLine, Settings

__all__ = ["command"]


@click.command("settings")
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--reveal", is_flag=True, help="Show secrets too.")
@common
def command(folder: Path, reveal: bool, out: Output) -> None:
    """Every setting of the server in FOLDER: our name, its value, what is allowed and what it means.

    The values are read from the server's own files; with --verbose also where each is stored.
    """
    from rhizon.app.host import this_host
    from rhizon.app.tune.list_settings import list_settings

    found = list_settings(this_host(), folder, reveal=reveal)
    out.result(found, lambda to: _render(to, found, folder, out))


def _render(to: "Console", found: "Settings", folder: Path, out: Output) -> None:
    verdict(to, f"{found.name} ({found.game}): {len(found.settings)} settings")
    columns = ["setting", "value", "set by", "allowed", "meaning"]
    rows = [
        [one.name, _value(one), one.set_by, one.allowed.removeprefix("a whole number from "), one.meaning]
        for one in found.settings
    ]
    if out.verbose:
        columns.append("stored in")
        rows = [
            [*row, f"{one.file}: {one.key}" if one.file else ""] for row, one in zip(rows, found.settings, strict=True)
        ]
    show_table(to, columns, rows)
    next_steps(to, [(("rhizon", "set", str(folder), "NAME=VALUE", "--dry-run"), "what a change would do")])


def _value(one: "SettingLine") -> str:
    if one.secret and one.value is None:
        return "(secret)" if one.is_set else "(none)"
    if one.value is None:
        return f"({spelt(one.default)})" if one.default != "" else ""  # the file says nothing: the game's own counts
    return spelt(one.value)
