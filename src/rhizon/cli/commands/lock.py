"""``rhizon lock``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.output import Output, common, next_steps, say, show_table, verdict
from rhizon.core.units import size_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.core.model.lock import Lock

__all__ = ["command"]


@click.command("lock")
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--export", type=click.Path(path_type=Path), metavar="FILE", help="Write it there.")
@common
def command(folder: Path, export: Path | None, out: Output) -> None:
    """What the server in FOLDER is made of: the exact releases, with the settings that it has.

    Another server made from the exported file is the same, to the byte: rhizon provision FILE DIR2.
    """
    from rhizon.app.keep.export import instance_lock

    lock = instance_lock(folder, export)
    out.result(lock, lambda to: _render(to, lock, export))


def _render(to: "Console", lock: "Lock", export: Path | None) -> None:
    target = lock.target
    verdict(to, f"{lock.title or lock.name}: {target.words}")
    rows = [
        (one.id, str(one.version), one.placement, size_text(one.file.size), one.file.sha256[:16])
        for one in lock.releases
    ]
    show_table(to, ("item", "release", "placement", "size", "SHA-256"), rows, right=("size",))
    if lock.overlay:
        say(
            to,
            f"{len(lock.overlay)} files of the pack are laid over: another machine needs the pack too.",
        )
    if export is not None:
        say(to, f"written to {export}")
        next_steps(to, [(("rhizon", "provision", str(export), "DIR2"), "the same server again")])
