"""``rhizon set``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.changes import show_diffs, value_text
from rhizon.cli.command import Answer, Call, command
from rhizon.cli.completion import complete_settings
from rhizon.cli.options import generated_names, pairs, secret_option, secret_values
from rhizon.cli.output import Step, say
from rhizon.cli.servers import SERVER, Server

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.tune.set_settings import SetResult

__all__ = ["set_"]


@command(
    "set",
    examples=(
        ("rhizon set marsh max_players=30 pvp=no --dry-run", "show the lines that would change"),
        ("rhizon set marsh operators+=Tove --secret password=generate", "add an operator, set a new password"),
        ("rhizon set marsh --preset club.toml", "apply a preset that all your servers share"),
    ),
    dry_run="Show what would change and change nothing.",
    stops=True,
)
@click.argument("server", type=SERVER)
@click.argument("settings", nargs=-1, metavar="[NAME=VALUE]...", shell_complete=complete_settings)
@click.option(
    "--preset",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Settings preset shared by all your servers, of any game.",
)
@secret_option
def set_(
    call: Call, server: Server, settings: tuple[str, ...], preset: Path | None, secrets: tuple[str, ...]
) -> Answer:
    """Change settings of a server, by Rhizon's names for them (see them: rhizon settings SERVER).

    They are written into the server's own files; all other lines stay as they are, and no update changes them back.
    A list of names is replaced (operators=Marit,Tove), extended (operators+=Tove) or shortened (operators-=Marit).
    """
    from rhizon.app.tune.set_settings import SetWishes, set_settings

    wishes = SetWishes(
        settings=pairs(settings, "rhizon set"),
        secrets=secret_values(secrets),
        preset=preset,
        stop_first=call.stop_first,
        dry_run=call.dry_run,
    )
    done = set_settings(call.host, server.folder, wishes, call.reporter)
    call.close()
    nothing = all(step.action == "keep" for step in done.steps)
    nothing = nothing and not any(one.before != one.after for one in done.settings)
    changed = "nothing to change" if nothing else "plan for the change" if done.planned else "settings changed"
    if done.live:
        changed = f"typed into the running server: {'; '.join(done.live)}"
        return Answer(done, f"{done.name}: {changed}", None, findings=done.findings)
    steps = [
        Step(("rhizon", "start", server.label), "start it"),
        Step(("rhizon", "undo", server.label), "take it back"),
    ]
    return Answer(
        done,
        f"{done.name}: {changed}",
        lambda to: _body(to, done, server, generated_names(secrets)),
        findings=done.findings,
        next=steps if done.kept is not None else (),
    )


def _body(to: "Console", done: "SetResult", server: Server, generated: tuple[str, ...]) -> None:
    for one in done.settings:
        if one.before != one.after:
            say(to, value_text(one))
    if done.unknown:
        say(to, f"not settings of this game, skipped: {', '.join(done.unknown)}")
    for name in done.secrets:
        how = "generated" if name in generated else "set"
        say(to, f"{name}: {how}; to see it: rhizon settings {server.label} --reveal")
    show_diffs(to, done.diffs)
