"""``rhizon adopt``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.completion import complete_games
from rhizon.cli.output import Step, say
from rhizon.core.settings.apply import format_value

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.adopt.adopt import AdoptResult

__all__ = ["adopt"]


@command(
    "adopt",
    examples=(
        ("rhizon adopt /srv/old-marsh --dry-run", "what it is, without taking it over"),
        ("rhizon adopt /srv/old-marsh --catalog https://harbour.example/", "recognise its files by a catalog"),
        ("rhizon adopt /srv/old-marsh --undo", "give it back as it was"),
    ),
    tables=True,
    dry_run="Show what would be recorded and record nothing.",
)
@click.argument("folder", type=click.Path(path_type=Path, file_okay=False))
@click.option("--game", metavar="GAME|FILE", shell_complete=complete_games, help="Its game, if it cannot be inferred.")
@click.option("--game-version", metavar="VERSION", help="Its version, if it cannot be inferred.")
@click.option("--catalog", "catalogs", multiple=True, metavar="ADDRESS", help="A catalog to recognise its files by.")
@click.option("--name", metavar="NAME", help="Name of the server; by default that of its folder.")
@click.option("--undo", is_flag=True, help="Give the folder back as it was, by removing the records.")
def adopt(
    call: Call,
    folder: Path,
    game: str | None,
    game_version: str | None,
    catalogs: tuple[str, ...],
    name: str | None,
    undo: bool,
) -> Answer:
    """Take over a server that was set up by hand in FOLDER. Nothing there is moved or changed: what it is, its content,
    settings, ports and memory are recorded in its .rhizon folder."""
    from rhizon.app.adopt.adopt import AdoptWishes, counted_words, give_back
    from rhizon.app.adopt.adopt import adopt as take_over

    if undo:
        given = give_back(call.host, folder, call.reporter)
        call.close()
        return Answer(None, f"{given}: given back; {folder} is as it was")
    wishes = AdoptWishes(game=game, game_version=game_version, catalogs=catalogs, name=name, dry_run=call.dry_run)
    done = take_over(call.host, folder, wishes, call.reporter)
    call.close()
    verb = "would be adopted" if done.planned else "adopted"
    steps = (
        ()
        if done.planned
        else (
            Step(("rhizon", "check", done.name), "check it"),
            Step(("rhizon", "adopt", done.folder, "--undo"), "give it back as it was"),
        )
    )
    return Answer(
        done, f"{done.name}: {verb} ({done.game_title}, {counted_words(done)})", lambda to: _body(to, done, call),
        done.findings, steps,
    )  # fmt: skip


def _body(to: "Console", done: "AdoptResult", call: Call) -> None:
    rows = [(one.what, one.value, one.how if one.certain else f"a guess: {one.how}") for one in done.recognised]
    call.table(to, ("what", "recognised", "how"), rows, prose=("how",))
    if done.content or done.unknown:
        to.print()
        rows = [(one.what, one.value, one.how) for one in done.content]
        rows += [(path, "unknown", "kept as it is") for path in done.unknown]
        call.table(to, ("file", "content", "how"), rows, prose=("how",))
    to.print()
    say(to, "ports: " + ", ".join(f"{role} {number}" for role, number in done.ports.items()))
    say(to, f"memory: {done.heap_mib} MiB")
    if done.settings:
        said = ", ".join(f"{name} = {format_value(value)}" for name, value in done.settings.items())
        say(to, f"settings of your own: {said}")
