"""``rhizon kit``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.options import told_options
from rhizon.cli.output import Step, say
from rhizon.cli.servers import SERVER, Server
from rhizon.core.units import counted, size_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.share.kit import KitResult

__all__ = ["kit"]


@command(
    "kit",
    examples=(
        ("rhizon kit marsh -o marsh-kit.zip", "all that a player needs, with instructions"),
        ("rhizon kit marsh -o marsh-changes.zip --against previous", "only what the last change changed"),
        (
            "rhizon kit marsh -o kit.zip --contact 'Solveig, in the club' --address play.harbour.example",
            "say whom to ask",
        ),
    ),
    tables=True,
    dry_run="Show what would be in it and write nothing.",
)
@click.argument("server", type=SERVER)
@click.option(
    "-o", "--output", "file", required=True, type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
    help="Zip to write.",
)  # fmt: skip
@click.option(
    "--system",
    type=click.Choice(["all", "windows", "linux", "macos"]),
    default="all",
    help="System that the instructions are for; by default all.",
)
@click.option("--optional", metavar="IDS", help="Of optional content take only this: ids with commas, or `none`.")
@click.option(
    "--against",
    metavar="LOCK|KIT|previous",
    help="Take only what differs from this, and say what to delete; `previous`: from before the last change.",
)
@told_options
def kit(
    call: Call,
    server: Server,
    file: Path,
    system: str,
    optional: str | None,
    against: str | None,
    address: str | None,
    contact: str | None,
    description: str | None,
) -> Answer:
    """Write a zip with exactly what a server's players need, and instructions for them.

    Content, the loader for players where the catalog has it, the pack's files for players, and a manifest with hashes:
    nothing of the server's own, and no secrets. The same server gives the same bytes.
    """
    from rhizon.app.share.kit import KitWishes, Told, make_kit
    from rhizon.core.kit.readme import SYSTEMS

    chosen = None if optional is None else tuple(one.strip() for one in optional.split(",") if one.strip() != "none")
    wishes = KitWishes(
        file=file,
        systems=SYSTEMS if system == "all" else (system,),  # type: ignore[arg-type]
        optional=chosen,
        against=against,
        told=Told(address=address, contact=contact, description=description),
        dry_run=call.dry_run,
    )
    done = make_kit(call.host, server.folder, call.reporter, wishes)
    call.close()
    text = f"{done.name}: {'plan for' if done.planned else ''} {done.file}".replace("  ", " ")
    text += f", {counted(len(done.parts), 'piece')} of content" + (f", {size_text(done.size)}" if done.size else "")
    return Answer(
        done,
        text,
        lambda to: _body(to, done, call),
        next=(Step(("rhizon", "match", server.label, "FOLDER"), "check a player's folder"),),
    )


def _body(to: "Console", done: "KitResult", call: Call) -> None:
    rows = [
        [one.id, one.version, "optional" if one.optional else "needed", "" if one.packed else f"from {one.page or '?'}"]
        for one in done.parts
    ]
    if rows:
        call.table(to, ["content", "release", "for players", "players fetch it"], rows)
    if done.loader:
        say(to, f"loader: {done.loader}" + ("" if done.loader_packed else "; players install it themselves"))
    if done.delete:
        say(to, f"to delete: {', '.join(done.delete)}")
    say(to, f"players join at {done.join}" if done.join else "no address is known: add --address")
