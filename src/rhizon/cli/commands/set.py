"""``rhizon set``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.changes import show_diffs, value_text
from rhizon.cli.options import pairs, secret_options, secret_values
from rhizon.cli.output import Output, common, next_steps, say, verdict

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.tune.set_settings import SetResult

__all__ = ["command"]


@click.command("set")
@click.argument("folder", type=click.Path(path_type=Path))
@click.argument("settings", nargs=-1, metavar="[NAME=VALUE]...")
@click.option(
    "--file", "house", type=click.Path(path_type=Path), metavar="FILE", help="A house standard, for any game."
)
@secret_options
@click.option("--stop-first", is_flag=True, help="Stop the server if it runs.")
@click.option("--dry-run", is_flag=True, help="Show what would change, and change nothing.")
@common
def command(
    folder: Path,
    settings: tuple[str, ...],
    house: Path | None,
    secrets: tuple[str, ...],
    generated: tuple[str, ...],
    stop_first: bool,
    dry_run: bool,
    out: Output,
) -> None:
    """Change settings of the server in FOLDER, by our names for them (rhizon settings FOLDER lists them).

    They are written into the server's own files, whose other lines stay as they are, and no update changes them again.
    A list of names is set whole (operators=Marit,Tove), made longer (operators+=Tove) or shorter (operators-=Marit).
    """
    from rhizon.app.host import this_host
    from rhizon.app.tune.set_settings import set_settings
    from rhizon.cli.progress import ConsoleReporter

    reporter = ConsoleReporter(out)
    try:
        done = set_settings(
            this_host(),
            folder,
            pairs(settings, "rhizon set"),
            secret_values(secrets, generated),
            reporter,
            house=house,
            stop_first=stop_first,
            dry_run=dry_run,
        )
    finally:
        reporter.close()
    out.result(done, lambda to: _render(to, done, folder))


def _render(to: "Console", done: "SetResult", folder: Path) -> None:
    nothing = all(step.action == "keep" for step in done.steps)
    nothing = nothing and not any(one.before != one.after for one in done.settings)
    changed = "nothing to change" if nothing else "this is what would change" if done.planned else "set"
    verdict(to, f"{done.name}: {changed}")
    for one in done.settings:
        if one.before != one.after:
            say(to, value_text(one))
    if done.unknown:
        say(to, f"this game has no {', '.join(done.unknown)}")
    for name in done.secrets:
        say(to, f"{name}: a new one; rhizon settings {folder} --reveal shows it")
    show_diffs(to, done.diffs)
    if done.planned:
        say(to, "Nothing was changed. The same command without --dry-run does it.")
    elif done.kept is not None:
        next_steps(
            to, [(("rhizon", "run", str(folder)), "start it"), (("rhizon", "undo", str(folder)), "take it back")]
        )
