"""``rhizon lock``."""

from pathlib import Path
from typing import TYPE_CHECKING

import click

from rhizon.cli.command import Answer, Call, command
from rhizon.cli.options import output_option
from rhizon.cli.output import Step, say
from rhizon.cli.servers import SERVER, Server
from rhizon.core.units import counted, size_text

if TYPE_CHECKING:
    from rich.console import Console

    from rhizon.app.keep.export import LockResult

__all__ = ["lock"]


@command(
    "lock",
    examples=(
        ("rhizon lock marsh", "the exact releases of a server"),
        ("rhizon lock marsh --output marsh.lock.json", "write them down, to make the same server again"),
    ),
    tables=True,
    dry_run="With --output: write nothing.",
)
@click.argument("server", type=SERVER)
@output_option("Write the lock to FILE.")
def lock(call: Call, server: Server, output: Path | None) -> Answer:
    """Show what a server is made of: the exact releases, with the settings that it has.

    A server made from the written lock has the same files, byte for byte: rhizon provision FILE FOLDER. Your own
    archives and a pack's files, which no catalog has, are copied into a folder beside FILE: take it along.
    """
    from rhizon.app.keep.export import instance_lock

    found = instance_lock(call.host, server.folder, output, write=not call.dry_run)
    target = found.lock.target
    again = Step(("rhizon", "provision", found.file or "", f"./{found.lock.name}-copy"), "make the same server again")
    return Answer(
        found,
        f"{found.name}: {counted(len(found.lock.releases), 'release')}, {target.words}",
        lambda to: _body(to, found, call),
        next=(again,) if found.file else (),
    )


def _body(to: "Console", found: "LockResult", call: Call) -> None:
    rows = [
        (one.id, str(one.version), one.placement, size_text(one.file.size), one.file.sha256[:16])
        for one in found.lock.releases
    ]
    call.table(to, ("item", "release", "placement", "size", "SHA-256"), rows, right=("size",))
    if found.file is not None:
        say(to, f"written to {found.file}" if not call.dry_run else f"would be written to {found.file}")
    if found.archives is not None:
        say(to, f"{counted(found.own, 'file')} that no catalog has: {found.archives}; take it along")
    elif found.lock.overlay and found.file is None:
        say(to, f"overlay: {counted(len(found.lock.overlay), 'file')} of the pack; --output copies them too")
